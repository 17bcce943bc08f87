package finding

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
)

// openSecrets looks for files with secrets that others than their owner may read.
func openSecrets(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Program == nil {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(r.Program.Files)) {
			f := r.Program.Files[name]
			mode, err := strconv.ParseUint(f.Mode, 8, 32)
			if f.Mode == "" || err != nil || mode&0o077 == 0 || !strings.Contains(f.Template, ".Secret") && !strings.Contains(f.Template, ".Key}}") {
				continue
			}
			path := rolePath(r.Name, "program", "files", name, "mode")
			found = append(found, Finding{Severity: Risk, What: "readable secret", Path: path, Role: r.Name,
				Text:  fmt.Sprintf("%s of %s holds a secret, and with mode %s others than its owner may read it", name, r.Name, f.Mode),
				Mend:  "give it mode 0600, or none: files with secrets are their owner's",
				Edits: []Edit{put("give "+name+" mode 0600", arrange.OfRole(r.Name, `"0600"`, "program", "files", name, "mode"))}})
		}
	}
	return found
}

// lockedOut looks for files that a program with a user of its own is to go on writing, where it may not replace them.
func lockedOut(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Program == nil || r.Program.RunsAs() == "" {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(r.Program.Files)) {
			if !r.Program.Files[name].Once || strings.HasPrefix(name, "data/") {
				continue
			}
			found = append(found, Finding{Severity: Risk, What: "file out of reach", Path: rolePath(r.Name, "program", "files", name), Role: r.Name,
				Text: fmt.Sprintf("%s of %s is written once and is the program's from then on, but %s may make and replace files in its data folder only", name, r.Name, r.Program.RunsAs()),
				Mend: fmt.Sprintf("call it data/%s, and name it {{.Data}}/%s", name, name)})
		}
	}
	return found
}

// Unseparated lists the roles whose programs run as whoever runs the agents: they, the agents and the controller are one party.
func Unseparated(f *field.Field) []field.RoleName {
	var roles []field.RoleName
	for i := range f.Roles {
		if p := f.Roles[i].Program; p != nil && p.RunsAs() == "" && f.Roles[i].Members > 0 {
			roles = append(roles, f.Roles[i].Name)
		}
	}
	return roles
}

// inTheClear looks for roles on several nodes whose program can speak TLS and is not to.
func inTheClear(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if !r.Program.CanSecure() || d.Secure(&r) || len(d.Possible()) < 2 || r.Members == 0 {
			continue
		}
		path := rolePath(r.Name, "tls")
		if r.TLS == "" {
			path = []string{"trust", "tls"}
		}
		found = append(found, Finding{Severity: Hint, What: "in the clear", Path: path, Role: r.Name,
			Text:  fmt.Sprintf("%s could speak TLS, and is not to: whoever can see the network between its nodes reads what is sent, secrets too", r.Name),
			Mend:  "say tls: on",
			Edits: []Edit{put("have "+string(r.Name)+" speak TLS", arrange.OfRole(r.Name, "on", "tls"))}})
	}
	return found
}

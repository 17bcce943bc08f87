package finding

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
)

// typedAddress looks for addresses of the field's own nodes that somebody has typed where a role is called: what is there may move, be lost, or come
// to be several, and who has the address by hand is told of none of that.
func typedAddress(d *draft) []Finding {
	at := map[string]field.NodeName{}
	for i := range d.Nodes {
		n := &d.Nodes[i]
		for _, address := range append(slices.Collect(maps.Values(n.Addresses)), n.Address) {
			if address != "" {
				at[address] = n.Name
			}
		}
	}
	if len(at) == 0 {
		return nil
	}
	ours := map[string]bool{}
	for i := range d.Roles {
		if r := &d.Roles[i]; r.Program != nil && r.External == nil {
			for _, p := range r.Program.Ports {
				ours[strconv.Itoa(p.Port)] = true
			}
		}
	}
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		texts := typed(r, ours)
		for _, where := range slices.SortedFunc(maps.Keys(texts), strings.Compare) {
			address := addressIn(texts[where], at)
			if address == "" {
				continue
			}
			mend := "name the role under calls, and have its template say where that is: {{range .Calls \"…\"}}{{.Address}}{{end}}"
			if r.External != nil {
				mend = "call the role that is there by its name: it is the field's own"
			}
			found = append(found, Finding{Severity: Risk, What: "an address typed by hand", Path: rolePath(r.Name, strings.Split(where, "\x00")...), Role: r.Name,
				Text: fmt.Sprintf("%s has the address of %s, %s, typed in: when what it reaches there moves or is lost, it goes on asking there", r.Name, at[address], address), Mend: mend})
			break // one is enough to be told
		}
	}
	return found
}

// typed are the texts of a role in which an address may have been typed, by their path in the role. Ours are the ports that the field's own members have.
func typed(r *field.Role, ours map[string]bool) map[string]string {
	out := map[string]string{}
	for name, text := range r.Settings {
		out["settings\x00"+name] = string(text)
	}
	for name, all := range r.SettingsOf {
		for key, text := range all {
			out["settings_of\x00"+string(name)+"\x00"+key] = string(text)
		}
	}
	if r.External != nil {
		out["external\x00addresses"] = strings.Join(slices.DeleteFunc(slices.Clone(r.External.Addresses), func(a string) bool {
			_, port, _ := strings.Cut(a, ":")
			return !ours[port] // what else runs on that machine is not the field's
		}), " ")
		return out
	}
	if r.Program == nil || r.Kit != "" {
		return out
	}
	out["program\x00command"] = strings.Join(r.Program.Command, " ")
	for name, text := range r.Program.Env {
		out["program\x00env\x00"+name] = string(text)
	}
	for name, f := range r.Program.Files {
		out["program\x00files\x00"+name] = f.Template
	}
	return out
}

// addressIn is the first of some addresses that stands in a text as a whole; empty where none does.
func addressIn(text string, addresses map[string]field.NodeName) string {
	for _, word := range strings.FieldsFunc(text, func(c rune) bool {
		return !(c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-' || c == '_')
	}) {
		if _, is := addresses[strings.TrimRight(word, ".")]; is {
			return strings.TrimRight(word, ".")
		}
	}
	return ""
}

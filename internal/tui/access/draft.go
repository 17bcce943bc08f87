package access

import (
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/tui/theme"
)

// drafted lists the ways in that there will be, as far as the draft says that by now.
func (v *View) drafted(k theme.Theme) []line {
	if v.Draft == nil {
		return nil
	}
	var lines []line
	for i := range v.Draft.Roles {
		r := &v.Draft.Roles[i]
		if r.Members == 0 || r.Program == nil || r.Program.Access == nil || len(r.Program.Access.Passes) > 0 {
			continue
		}
		how, style := "will be at all of its members", k.Quiet()
		if entries := through(v.Draft, r); len(entries) > 0 {
			how = "will be through " + strings.Join(entries, ", ")
		} else if r.Members == 1 {
			how = "will be at its only member"
		}
		lines = append(lines, plain(piece{0, string(r.Name), k.In(k.Plan)}, piece{18, how, style}, piece{58, r.Program.Access.Purpose, k.Quiet()}))
	}
	return lines
}

// through names the entries by which clients get at a role.
func through(f *field.Field, r *field.Role) []string {
	var names []string
	for _, e := range f.Entries(r) {
		if e.Program != nil && e.Program.Access != nil && len(e.Program.Access.Passes) > 0 {
			names = append(names, string(e.Name))
		}
	}
	return names
}

// toProve lists the proofs that there are in the draft.
func (v *View) toProve(k theme.Theme) []line {
	if v.Draft == nil {
		return nil
	}
	var lines []line
	for _, stage := range v.Draft.Stages() {
		for _, name := range stage {
			for _, p := range v.Draft.Role(name).AllProofs() {
				lines = append(lines, plain(piece{0, string(name), k.In(k.Plan)}, piece{18, p.Name, k.Text()}, piece{42, p.About, k.Quiet()}))
			}
		}
	}
	return lines
}

package snapshot

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// String says to whom it is handed over, and as what.
func (h HandedView) String() string {
	text := fmt.Sprintf("%s, as its %s, since %s", h.Field, h.As, h.Since.Local().Format("2 Jan 15:04"))
	if !h.Until.IsZero() {
		text += ", with a certificate until " + h.Until.Local().Format("2 Jan 2006")
	}
	return text
}

// String says whose it is, and whether it is handed over.
func (v LinkView) String() string {
	text := fmt.Sprintf("%s of %s", v.Role, v.Field)
	switch {
	case v.Since.IsZero() && v.Why == "":
		return text + ", not handed over yet"
	case v.Since.IsZero():
		return text + ", not handed over: " + v.Why
	case v.Why != "":
		return text + ", no longer handed over: " + v.Why
	}
	return text + ", handed over since " + v.Since.Local().Format("2 Jan 15:04")
}

// Role finds a role by name; nil where there is none.
func (s *Snapshot) Role(name field.RoleName) *RoleView {
	for i := range s.Roles {
		if s.Roles[i].Role == name {
			return &s.Roles[i]
		}
	}
	return nil
}

// linkView is what is known of the role of another field that a role stands for; nil where it stands for none.
func linkView(s *state.State, role *field.Role) *LinkView {
	if !role.Linked() {
		return nil
	}
	v := &LinkView{Field: role.External.Field, Role: role.External.Role}
	if x := s.Links[role.Name]; x.Field == v.Field && x.Of == v.Role {
		v.Why = x.Why
	}
	if has := s.Has(role); has != nil {
		v.Since, v.Until = has.Since, has.Content.Until
	}
	return v
}

func handedTo(s *state.State, role field.RoleName) []HandedView {
	var out []HandedView
	for _, g := range s.GrantsOf(role) {
		out = append(out, HandedView{Field: g.By, As: g.From, Since: g.Since, Until: g.Issue.Until})
	}
	return out
}

// lostLinks words which roles of other fields are not handed over any more, while members go on with what they have of them.
func lostLinks(s *state.State) []string {
	var out []string
	for i := range s.Field.Roles {
		role := &s.Field.Roles[i]
		v := linkView(s, role)
		if v == nil || v.Since.IsZero() || v.Why == "" {
			continue
		}
		how := "is not handed over any more"
		if !s.Links[role.Name].Ended {
			how = "cannot be asked about"
		}
		out = append(out, fmt.Sprintf("%s, which is %s of %s, %s: %s. Who calls it goes on with what it was told last", role.Name, v.Role, v.Field, how, v.Why))
	}
	return out
}

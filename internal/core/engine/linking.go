package engine

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/core/wording"
)

// TellLink says what another field hands over for a role that stands for one of it. What is secret of it is in the keyring, by that number.
type TellLink struct {
	Role    field.RoleName
	Field   string
	Of      field.RoleName
	Content link.Content
	Number  int
}

// MissLink says that another field does not hand a role over, or no longer.
type MissLink struct {
	Role  field.RoleName
	Field string
	Of    field.RoleName
	Why   string
	Ended bool // it has said so itself
}

// DropLink says that what another field has handed over has been given back.
type DropLink struct{ Role field.RoleName }

// GrantLink asks for a role to be handed over to another field.
type GrantLink struct {
	Ask link.Ask
	At  time.Time
}

// GiveLink says what that field is given.
type GiveLink struct {
	Ask    link.Ask
	Digest string
}

// EndLink says that another field needs no longer what it was handed over.
type EndLink struct {
	By   string
	From field.RoleName
	Why  string
}

// TakeBack takes a role back from another field, so that it is not handed over again before AllowLink.
type TakeBack struct {
	Role field.RoleName
	By   string // that field
	Who  string
}

// AllowLink lets what was taken back from another field be handed over again.
type AllowLink struct {
	Role field.RoleName
	By   string
	Who  string
}

// standsFor tells whether a role of the field stands for that role of another field now.
func standsFor(s *state.State, role field.RoleName, of string, there field.RoleName) bool {
	if !s.Deployed() || s.Retiring {
		return false
	}
	r := s.Field.Role(role)
	return r != nil && r.Linked() && r.External.Field == of && r.External.Role == there
}

func (in TellLink) decide(s *state.State) ([]state.Fact, error) {
	if !standsFor(s, in.Role, in.Field, in.Of) {
		return nil, nil // it is not needed any more
	}
	x := s.Has(s.Field.Role(in.Role))
	switch {
	case x != nil && x.Why == "" && x.Number == in.Number && x.Content.Digest() == in.Content.Digest():
		return nil, nil
	case in.Number != s.LinkCount+1 && (x == nil || x.Number != in.Number):
		return nil, fmt.Errorf("something else was handed over meanwhile")
	}
	return []state.Fact{state.LinkTold(in)}, nil
}

func (in MissLink) decide(s *state.State) ([]state.Fact, error) {
	if x := s.Links[in.Role]; !standsFor(s, in.Role, in.Field, in.Of) || x.Field == in.Field && x.Of == in.Of && x.Why == in.Why && x.Ended == in.Ended {
		return nil, nil
	}
	return []state.Fact{state.LinkSilent(in)}, nil
}

func (in DropLink) decide(s *state.State) ([]state.Fact, error) {
	if _, known := s.Links[in.Role]; !known {
		return nil, nil
	}
	return []state.Fact{state.LinkDropped(in)}, nil
}

// NoLink says why a field is not handed a role over; nil where it is.
func NoLink(s *state.State, ask link.Ask) error {
	switch {
	case !s.Deployed():
		return fmt.Errorf("it is not deployed")
	case s.Retiring:
		return fmt.Errorf("it is being retired")
	}
	role := s.Field.Role(ask.Role)
	if role == nil {
		var names []string
		for _, r := range s.Field.Roles {
			names = append(names, string(r.Name))
		}
		if near := field.Nearest(string(ask.Role), names); near != "" {
			return fmt.Errorf("it has no role %q; did you mean %q?", ask.Role, near)
		}
		return fmt.Errorf("it has no role %q; it has %s", ask.Role, wording.And(names))
	}
	if role.External != nil {
		return fmt.Errorf("%s is none of its own: name the field whose it is", ask.Role)
	}
	if g := s.Grants[state.GrantKey(ask.By, ask.From)]; g.Barred != "" && g.Role == ask.Role {
		return fmt.Errorf("it was taken back; `lanternfield access --field %s %s --hand-over %s` undoes that", s.Field.Name, ask.Role, ask.By)
	}
	return nil
}

func (in GrantLink) decide(s *state.State) ([]state.Fact, error) {
	if err := NoLink(s, in.Ask); err != nil {
		return nil, err
	}
	role := s.Field.Role(in.Ask.Role)
	g, known := s.Grants[state.GrantKey(in.Ask.By, in.Ask.From)]
	secure := s.Field.Secure(role) && len(s.Authorities) > 0
	if known && g.Role == in.Ask.Role && (!secure || !LinkDue(s, g, in.At)) {
		return nil, nil
	}
	f := state.LinkGranted{Role: in.Ask.Role, By: in.Ask.By, From: in.Ask.From}
	if secure {
		f.Number, f.For = s.GrantCount+1, s.Field.ValidFor(trust.CertificateFor)
	}
	return []state.Fact{f}, nil
}

// LinkDue tells whether what another field shows is to be made anew.
func LinkDue(s *state.State, g state.Grant, now time.Time) bool {
	role := s.Field.Role(g.Role)
	if role == nil || !s.Field.Secure(role) || len(s.Authorities) == 0 {
		return false
	}
	return g.Issue.Number == 0 || g.Issue.By != s.AuthorityCount || now.After(g.Issue.Due())
}

func (in GiveLink) decide(s *state.State) ([]state.Fact, error) {
	g, known := s.Grants[state.GrantKey(in.Ask.By, in.Ask.From)]
	runs := max(in.Ask.Runs, g.Runs) // what they run with beside the authority changes with every digest
	if !known || g.Barred != "" || g.Digest == in.Digest && g.Runs == runs {
		return nil, nil
	}
	return []state.Fact{state.LinkGiven{Role: g.Role, By: in.Ask.By, From: in.Ask.From, Digest: in.Digest, Runs: runs}}, nil
}

func (in EndLink) decide(s *state.State) ([]state.Fact, error) {
	g, known := s.Grants[state.GrantKey(in.By, in.From)]
	if !known || g.Barred != "" {
		return nil, nil
	}
	return []state.Fact{state.LinkEnded{Role: g.Role, By: in.By, From: in.From, Why: in.Why}}, nil
}

func (in TakeBack) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "take back"); err != nil {
		return nil, err
	}
	var facts []state.Fact
	var have []string
	for _, g := range s.GrantsOf(in.Role) {
		if have = append(have, g.By); g.By == in.By {
			facts = append(facts, state.LinkEnded{Role: g.Role, By: g.By, From: g.From, Who: in.Who})
		}
	}
	if len(facts) == 0 && len(have) > 0 {
		slices.Sort(have)
		return nil, fmt.Errorf("%s is not handed over to %s; it is to %s", in.Role, in.By, wording.And(slices.Compact(have)))
	}
	if len(facts) == 0 {
		return nil, fmt.Errorf("%s is handed over to no other field", in.Role)
	}
	return facts, nil
}

func (in AllowLink) decide(s *state.State) ([]state.Fact, error) {
	for _, g := range s.Grants {
		if g.By == in.By && g.Role == in.Role && g.Barred != "" {
			return []state.Fact{state.LinkAllowed(in)}, nil
		}
	}
	return nil, fmt.Errorf("%s was not taken back from %s", in.Role, in.By)
}

// LinksToDrop lists the roles for which something was handed over that nobody needs any more, and that no member is still to be given.
func LinksToDrop(s *state.State) []field.RoleName {
	var out []field.RoleName
	for name, x := range s.Links {
		if standsFor(s, name, x.Field, x.Of) || !s.Retired && s.Deployed() && s.Field.Role(name) != nil && s.Field.Role(name).Linked() {
			continue // where it stands for another one now, that one takes its place
		}
		used := slices.ContainsFunc(state.SortedMembers(s), func(m *state.Member) bool {
			return m.Phase != state.Gone && (m.Role == name || holdsLink(m, name))
		})
		if !used {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// holdsLink tells whether a member was ordered to run with what is secret of a link.
func holdsLink(m *state.Member, role field.RoleName) bool {
	for _, spec := range []*order.Spec{m.Ordered.Spec, m.Running} {
		for _, name := range []string{link.KeySecret(role), link.PasswordSecret(role)} {
			if spec == nil {
				continue
			}
			if has, _ := render.SecretsIn(spec, render.Secret{Name: name}); has {
				return true
			}
		}
	}
	return false
}

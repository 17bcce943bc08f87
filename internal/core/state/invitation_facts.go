package state

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

// Invitation lets machines join as nodes whose ground is of the kind join. What a machine has to show is a secret of which only the checksum is kept.
type Invitation struct {
	ID    string
	Sum   string         // of the secret: SHA-256, in hexadecimal
	Node  field.NodeName `json:",omitzero"` // as which one may join; empty for any of the zone
	Zone  field.ZoneName `json:",omitzero"` // empty for any
	Uses  int            // how many machines may use it
	At    string         // where they knock: ADDRESS:PORT
	From  time.Time
	Until time.Time
	By    string                    // who has made it
	Used  map[string]field.NodeName `json:",omitzero"` // by machine; replaced as a whole
}

// Left is how many more machines may use it.
func (i Invitation) Left() int { return max(0, i.Uses-len(i.Used)) }

// For says who may join by it.
func (i Invitation) For() string {
	switch {
	case i.Node != "":
		return string(i.Node)
	case i.Zone != "":
		return "any node in " + string(i.Zone)
	}
	return "any node"
}

// Invited says that machines may join.
type Invited struct {
	ID   string
	Sum  string
	Node field.NodeName `json:",omitempty"`
	Zone field.ZoneName `json:",omitempty"`
	Uses int
	At   string
	For  time.Duration
	By   string
}

// MachineAdmitted says which node a machine is to be that has shown an invitation.
type MachineAdmitted struct {
	Invitation string
	Node       field.NodeName
	Machine    string // by what it is known: its name, and a number that it has drawn
	From       string // the address from which it has come
}

// InvitationRevoked says that nobody may join by an invitation any more. Who has joined stays.
type InvitationRevoked struct{ ID, By string }

func (f Invited) apply(s *State, at time.Time) {
	now := maps.Clone(s.Invitations)
	maps.DeleteFunc(now, func(_ string, i Invitation) bool { return at.After(i.Until) })
	if now == nil {
		now = map[string]Invitation{}
	}
	now[f.ID] = Invitation{ID: f.ID, Sum: f.Sum, Node: f.Node, Zone: f.Zone, Uses: f.Uses, At: f.At, From: at, Until: at.Add(f.For), By: f.By}
	s.Invitations = now
}

// Sentence words the fact for the journal.
func (f Invited) Sentence() string {
	return fmt.Sprintf("%s is invited by %s for %s, as %s (invitation %s)", wording.Counted(f.Uses, "machine"), f.By, field.Span(f.For),
		Invitation{Node: f.Node, Zone: f.Zone}.For(), f.ID)
}

func (f MachineAdmitted) apply(s *State, _ time.Time) {
	i, known := s.Invitations[f.Invitation]
	if !known {
		return
	}
	i.Used = maps.Clone(i.Used)
	if i.Used == nil {
		i.Used = map[string]field.NodeName{}
	}
	i.Used[f.Machine] = f.Node
	s.Invitations = maps.Clone(s.Invitations)
	s.Invitations[f.Invitation] = i
}

// Sentence words the fact for the journal.
func (f MachineAdmitted) Sentence() string {
	return fmt.Sprintf("the machine %s, from %s, joins as %s by the invitation %s", f.Machine, f.From, f.Node, f.Invitation)
}

func (f InvitationRevoked) apply(s *State, _ time.Time) {
	s.Invitations = maps.Clone(s.Invitations)
	delete(s.Invitations, f.ID)
}

// Sentence words the fact for the journal.
func (f InvitationRevoked) Sentence() string {
	return fmt.Sprintf("the invitation %s is revoked by %s", f.ID, f.By)
}

// OpenInvitations lists those that count at that time, oldest first.
func (s *State) OpenInvitations(now time.Time) []Invitation {
	var open []Invitation
	if s.Retiring || s.Retired {
		return nil
	}
	for _, id := range slices.Sorted(maps.Keys(s.Invitations)) {
		if i := s.Invitations[id]; now.Before(i.Until) {
			open = append(open, i)
		}
	}
	slices.SortStableFunc(open, func(a, b Invitation) int { return a.From.Compare(b.From) })
	return open
}

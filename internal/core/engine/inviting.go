package engine

import (
	"crypto/subtle"
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// Invite lets machines join. Its secret is known to who asks for it alone; Sum is its checksum.
type Invite struct {
	ID, Sum string
	Node    field.NodeName // as which one machine may join; empty for any of the zone
	Zone    field.ZoneName // empty for any
	Uses    int
	At      string // where machines knock
	For     time.Duration
	By      string
}

// Revoke ends an invitation.
type Revoke struct{ ID, By string }

// Admit has a machine be a node, by the invitation that it shows.
type Admit struct {
	ID, Sum string
	Machine string
	From    string
	At      time.Time
}

// How long an invitation may count, and how many machines may use one.
const (
	InvitationLeast = time.Minute
	InvitationMost  = 30 * 24 * time.Hour
	InvitedMost     = 1000
)

func (in Invite) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "join"); err != nil {
		return nil, err
	}
	joining := joiningNodes(s, in.Node, in.Zone)
	switch {
	case in.Node != "" && s.Field.Node(in.Node) == nil:
		return nil, fmt.Errorf("the field, as it is deployed, has no node %s: put it into the file with `ground: {kind: join}`, and deploy", in.Node)
	case in.Node != "" && len(joining) == 0:
		return nil, fmt.Errorf("%s does not come by invitation: its ground is %s", in.Node, s.Field.GroundOf(s.Field.Node(in.Node)))
	case in.Zone != "" && !slices.Contains(s.Field.Zones(), in.Zone):
		return nil, fmt.Errorf("the field, as it is deployed, has no zone %s", in.Zone)
	case len(joining) == 0:
		return nil, fmt.Errorf("no node of the field comes by invitation: put one into the file with `ground: {kind: join}`, and deploy")
	case in.For < InvitationLeast || in.For > InvitationMost:
		return nil, fmt.Errorf("an invitation counts for %s at the least and %s at the most, not for %s", field.Span(InvitationLeast), field.Span(InvitationMost), field.Span(in.For))
	case in.Uses < 1 || in.Uses > InvitedMost || in.Node != "" && in.Uses != 1:
		return nil, fmt.Errorf("%d machines cannot be invited at once: one as a node that is named, else 1 to %d", in.Uses, InvitedMost)
	}
	if n := s.Nodes[in.Node]; in.Node != "" && n != nil && n.There() && !n.Released && !n.Unreachable {
		return nil, fmt.Errorf("%s has joined already: it is the machine %s, at %s", in.Node, n.ID, n.Address)
	}
	return []state.Fact{state.Invited(in)}, nil
}

// joiningNodes are the nodes of the field that come by invitation: that one, or those of that zone, or all.
func joiningNodes(s *state.State, node field.NodeName, zone field.ZoneName) []field.NodeName {
	var names []field.NodeName
	for i := range s.Field.Nodes {
		n := &s.Field.Nodes[i]
		if s.Field.GroundOf(n) == field.GroundJoin && (node == "" || n.Name == node) && (zone == "" || n.Zone == zone) {
			names = append(names, n.Name)
		}
	}
	return names
}

func (in Revoke) decide(s *state.State) ([]state.Fact, error) {
	if _, known := s.Invitations[in.ID]; !known {
		return nil, fmt.Errorf("there is no valid invitation %s; `lanternfield invite list` lists them", in.ID)
	}
	return []state.Fact{state.InvitationRevoked(in)}, nil
}

func (in Admit) decide(s *state.State) ([]state.Fact, error) {
	i, known := s.Invitations[in.ID]
	switch {
	case !known || subtle.ConstantTimeCompare([]byte(i.Sum), []byte(in.Sum)) != 1:
		return nil, fmt.Errorf("this invitation is none of this field's, or was revoked")
	case !in.At.Before(i.Until):
		return nil, fmt.Errorf("this invitation expired on %s: ask for a new one", i.Until.UTC().Format("2 Jan 2006 15:04 MST"))
	}
	if err := guardOrder(s, "join"); err != nil {
		return nil, err
	}
	if node, again := i.Used[in.Machine]; again { // it has been let in, and something came between
		if n := s.Nodes[node]; n != nil && !n.Released && !n.Releasing && (!n.There() || n.ID == in.Machine) {
			return nil, nil
		}
		return nil, fmt.Errorf("%s, as which this machine had joined, has been given up, or is another machine by now: ask for a new invitation", node)
	}
	if i.Left() == 0 {
		return nil, fmt.Errorf("this invitation was for %s, and has been used: ask for a new one", wording.Counted(i.Uses, "machine"))
	}
	node, err := nodeFor(s, i, in.Machine)
	if err != nil {
		return nil, err
	}
	return []state.Fact{state.MachineAdmitted{Invitation: in.ID, Node: node, Machine: in.Machine, From: in.From}}, nil
}

// nodeFor chooses the node that a machine is to be: the one that it was before, else one for which nobody has come yet, else one for which somebody was let
// in who never arrived.
func nodeFor(s *state.State, i state.Invitation, machine string) (field.NodeName, error) {
	names := joiningNodes(s, i.Node, i.Zone)
	var free, begun []field.NodeName
	for _, name := range names {
		n := s.Nodes[name]
		switch {
		case n == nil || n.Released || n.Releasing: // it is asked for when what was there before has gone
		case n.There() && n.ID == machine:
			return name, nil
		case n.There():
		case slices.ContainsFunc(s.OpenInvitations(time.Time{}), func(o state.Invitation) bool { return usedFor(o, name) }):
			begun = append(begun, name)
		default:
			free = append(free, name)
		}
	}
	if all := append(free, begun...); len(all) > 0 {
		return all[0], nil
	}
	if n := s.Nodes[i.Node]; i.Node != "" && n != nil && n.There() && !n.Released {
		return "", fmt.Errorf("%s is another machine, %s. Where that one is gone for good, take %s out of the file, deploy, say so with `lanternfield nodes lost %s`, and put it back",
			i.Node, n.ID, i.Node, i.Node)
	}
	return "", fmt.Errorf("every node %sthat joins by invitation has its machine: put another one into the file with `ground: {kind: join}`, and deploy", inZone(i.Zone))
}

func inZone(zone field.ZoneName) string {
	if zone == "" {
		return ""
	}
	return "in " + string(zone) + " "
}

// usedFor tells whether somebody was let in as a node by an invitation.
func usedFor(i state.Invitation, node field.NodeName) bool {
	for _, n := range i.Used {
		if n == node {
			return true
		}
	}
	return false
}

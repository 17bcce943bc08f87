package state

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

// NodeDark says that a node's agent cannot be reached.
type NodeDark struct {
	Node    field.NodeName
	Why     string
	Refuses bool `json:",omitempty"` // it answers, and does not obey
}

// NodeBack says that a node's agent answers: again, or this controller for the first time.
type NodeBack struct{ Node field.NodeName }

// ReportsDropped says that an agent waited so long for a controller that it dropped reports: a hole in history that is
// not silent.
type ReportsDropped struct {
	Node  field.NodeName
	Count int
}

// Heard says up to which report an agent has been heard.
type Heard struct {
	Node  field.NodeName
	Agent string
	Seq   uint64
}

// NodeReleasing says that a node's agent is to end and its folder to go; NodeReleased, that both are gone.
type (
	NodeReleasing struct{ Node field.NodeName }
	NodeReleased  struct {
		Node      field.NodeName
		Withdrawn bool `json:",omitempty"` // its ground had never given it

		Lost bool   `json:",omitempty"` // it is gone for good, as a person says: what was on it was not looked for
		By   string `json:",omitempty"` // who says so
	}
)

func (f NodeDark) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	if !n.Unreachable {
		n.Since = at
	}
	n.Unheard, n.Unreachable, n.UnreachableWhy, n.Refuses = false, true, f.Why, f.Refuses
	s.judgeAllClaims(at)
}

func (f NodeDark) Sentence() string {
	if f.Refuses {
		return fmt.Sprintf("%s does not obey: %s", f.Node, f.Why)
	}
	return fmt.Sprintf("%s cannot be reached: %s", f.Node, f.Why)
}

func (f NodeBack) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	n.Unheard, n.Unreachable, n.UnreachableWhy, n.Refuses, n.Since = false, false, "", false, at
	s.judgeAllClaims(at)
}

// judgeAllClaims finds out anew who leads where several say so: who can be heard has changed.
func (s *State) judgeAllClaims(at time.Time) {
	for _, r := range s.Roles {
		if len(r.Claims) > 1 {
			s.judgeClaims(r, at)
		}
	}
}

func (f NodeBack) Sentence() string { return fmt.Sprintf("%s answers", f.Node) }

func (f ReportsDropped) apply(*State, time.Time) {}

func (f ReportsDropped) Sentence() string {
	return fmt.Sprintf("the agent of %s dropped %s, since no controller had asked for them for long; the newest of each kind are there", f.Node, wording.Counted(f.Count, "report"))
}

func (f Heard) apply(s *State, _ time.Time) {
	if n := s.Nodes[f.Node]; n != nil {
		n.Agent, n.Heard, n.Forced = f.Agent, f.Seq, false
	}
}

func (f Heard) Sentence() string { return fmt.Sprintf("heard %s up to report %d", f.Node, f.Seq) }

func (f NodeReleasing) apply(s *State, _ time.Time) { s.Nodes[f.Node].Releasing = true }

func (f NodeReleasing) Sentence() string { return fmt.Sprintf("%s is being freed", f.Node) }

func (f NodeReleased) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	if n.There() { // what its agent was given counts for no later node of that name
		s.Counting.refuseAgents([]field.NodeName{f.Node}, at)
	}
	n.Released, n.Unreachable, n.Lost = true, false, f.Lost
	s.Census++
	for _, m := range s.Members {
		if m.Node == f.Node {
			m.Kept = false
			s.retireMember(m)
		}
	}
}

func (f NodeReleased) Sentence() string {
	if f.Withdrawn {
		return fmt.Sprintf("%s is not asked for any more; it never was there", f.Node)
	}
	if f.Lost {
		return fmt.Sprintf("%s is gone for good, as %s says; what was on it was not looked for", f.Node, f.By)
	}
	return fmt.Sprintf("%s is free: its agent has ended and its folder is gone", f.Node)
}

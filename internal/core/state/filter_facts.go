package state

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

// RulesKept says that the packet filter of a node lets in to so many ports of members who calls them alone, or, where there are none, lets everything in.
type RulesKept struct {
	Node   field.NodeName
	Digest string
	Ports  int
}

// RulesRefused says why the packet filter of a node does not have the rules that it should: they were taken back.
type RulesRefused struct {
	Node field.NodeName
	Why  string
}

func (f RulesKept) apply(s *State, _ time.Time) {
	if n := s.Nodes[f.Node]; n != nil {
		n.Rules, n.RulesWhy = f.Digest, ""
	}
}

// Sentence words the fact for the journal.
func (f RulesKept) Sentence() string {
	if f.Digest == "" {
		return fmt.Sprintf("the packet filter of %s restricts nothing of ours any longer", f.Node)
	}
	return fmt.Sprintf("the packet filter of %s lets in to %s of members who calls them alone", f.Node, wording.Counted(f.Ports, "port"))
}

func (f RulesRefused) apply(s *State, _ time.Time) {
	if n := s.Nodes[f.Node]; n != nil {
		n.RulesWhy = f.Why
	}
}

// Sentence words the fact for the journal.
func (f RulesRefused) Sentence() string {
	return fmt.Sprintf("rules of the packet filter of %s were taken back: %s", f.Node, f.Why)
}

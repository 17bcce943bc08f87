package state

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/mending"
)

// Account is what was done on a machine so that members can run there, by what steps are known by. It is kept until it is undone, whatever becomes of the
// node and of the field.
type Account struct {
	Address string                   // of the machine
	Ground  field.Ground             // by which it is reached
	Entries map[string]mending.Entry // by key
	Owed    map[string]string        `json:",omitzero"` // why they could not be undone when that was due
}

// MendingBegun says that something is about to be done on a machine.
type MendingBegun struct {
	Node    field.NodeName
	Address string
	Ground  field.Ground
	Step    mending.Step
	By      string
}

// MendingDone says what came of it.
type MendingDone struct {
	Node  field.NodeName
	Entry mending.Entry
	Why   string `json:",omitempty"` // it failed; what was made all the same is in the entry
}

// MendingUndone says that it was undone.
type MendingUndone struct {
	Node  field.NodeName
	Key   string
	Stays string `json:",omitempty"` // what is there all the same, and why
}

// MendingOwed says that it could not be undone.
type MendingOwed struct {
	Node field.NodeName
	Key  string
	Why  string
}

// account changes what was done on a machine; the maps may be shared with another copy of the state.
func (s *State) account(node field.NodeName, change func(*Account)) {
	a := s.Ledger[node]
	a.Entries, a.Owed = maps.Clone(a.Entries), maps.Clone(a.Owed)
	if a.Entries == nil {
		a.Entries = map[string]mending.Entry{}
	}
	change(&a)
	if len(a.Owed) == 0 {
		a.Owed = nil
	}
	all := maps.Clone(s.Ledger)
	if all == nil {
		all = map[field.NodeName]Account{}
	}
	if all[node] = a; len(a.Entries) == 0 {
		delete(all, node)
	}
	if len(all) == 0 {
		all = nil
	}
	s.Ledger = all
}

func (f MendingBegun) apply(s *State, at time.Time) {
	s.account(f.Node, func(a *Account) {
		a.Address, a.Ground = f.Address, f.Ground
		before, known := a.Entries[f.Step.Key()]
		e := mending.Entry{Step: f.Step, Begun: true, By: f.By, At: at}
		if known {
			e = e.Upon(before)
		}
		a.Entries[f.Step.Key()] = e
	})
}

// Sentence words the fact for the journal.
func (f MendingBegun) Sentence() string {
	return fmt.Sprintf("on %s, as %s asks: %s", f.Node, f.By, f.Step)
}

func (f MendingDone) apply(s *State, at time.Time) {
	s.account(f.Node, func(a *Account) {
		key := f.Entry.Key()
		e := f.Entry
		begun := a.Entries[key]
		e.By, e.At = begun.By, at
		e = e.Upon(begun)
		nothing := f.Why != "" && len(e.Made) == 0 && (e.Kind == mending.Packages || e.Before == "")
		if a.Entries[key] = e; nothing {
			delete(a.Entries, key)
		}
	})
}

// Sentence words the fact for the journal.
func (f MendingDone) Sentence() string {
	if f.Why != "" {
		return fmt.Sprintf("on %s this failed: %s: %s", f.Node, f.Entry.Step, f.Why)
	}
	return fmt.Sprintf("on %s this is done: %s", f.Node, f.Entry)
}

func (f MendingUndone) apply(s *State, _ time.Time) {
	s.account(f.Node, func(a *Account) {
		delete(a.Entries, f.Key)
		delete(a.Owed, f.Key)
	})
}

// Sentence words the fact for the journal.
func (f MendingUndone) Sentence() string {
	if f.Stays != "" {
		return fmt.Sprintf("on %s this stays: %s", f.Node, f.Stays)
	}
	return fmt.Sprintf("on %s this is undone: %s", f.Node, f.Key)
}

func (f MendingOwed) apply(s *State, _ time.Time) {
	s.account(f.Node, func(a *Account) {
		if a.Owed == nil {
			a.Owed = map[string]string{}
		}
		a.Owed[f.Key] = f.Why
	})
}

// Sentence words the fact for the journal.
func (f MendingOwed) Sentence() string {
	return fmt.Sprintf("on %s this could not be undone, and is still owed: %s: %s", f.Node, f.Key, f.Why)
}

// LedgerEntry is something that stands on a machine because a field needs it, or has needed it.
type LedgerEntry struct {
	Node          field.NodeName
	mending.Entry        // what was changed there; without a kind where it is the agent, or a member
	What          string // in words
	Owed          string // why it could not be undone when that was due; empty where it was not due, or not tried
	Due           bool   // nobody has a use for it any more
}

// LedgerOf lists all that stands on machines: agents, members, and what was changed beside them.
func (s *State) LedgerOf() []LedgerEntry {
	var out []LedgerEntry
	for _, n := range SortedNodes(s) {
		if n.Released || !n.There() {
			continue
		}
		out = append(out, LedgerEntry{Node: n.Name, What: fmt.Sprintf("the agent and its folder %s, at %s", n.Dir, n.Address), Due: s.Retired, Owed: n.UnreachableWhy})
		if n.Rules != "" {
			out = append(out, LedgerEntry{Node: n.Name, What: fmt.Sprintf("a table of the packet filter, lanternfield-%s-%s", s.Field.Name, n.Name), Due: s.Retired})
		}
		for _, m := range SortedMembers(s) {
			switch {
			case m.Node != n.Name:
			case m.Kept:
				out = append(out, LedgerEntry{Node: n.Name, What: fmt.Sprintf("the data that was kept of %s", m.Name)})
			case m.Phase != Gone:
				out = append(out, LedgerEntry{Node: n.Name, What: fmt.Sprintf("the member %s and its data", m.Name), Due: m.Leaving})
			}
		}
	}
	return append(out, s.Mended()...)
}

// Mended lists what was changed on machines beside agents and members, and not undone.
func (s *State) Mended() []LedgerEntry {
	var out []LedgerEntry
	for _, node := range slices.Sorted(maps.Keys(s.Ledger)) {
		a := s.Ledger[node]
		for _, key := range slices.Sorted(maps.Keys(a.Entries)) {
			n := s.Nodes[node]
			due := s.Retired || n == nil && s.Field != nil && s.Field.Node(node) == nil || n != nil && n.Released
			out = append(out, LedgerEntry{Node: node, Entry: a.Entries[key], What: a.Entries[key].String(), Owed: a.Owed[key], Due: due})
		}
	}
	return out
}

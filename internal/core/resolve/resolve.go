// Package resolve makes what follows from a draft and a field as it is: the nodes that its sets come to, who comes and who goes, and where
// to. It is made once for the same draft and the same field; all later steps (what is refused, what is reviewed, what nodes must have, what
// is carried out) take the same Resolved.
package resolve

import (
	"reflect"
	"slices"
	"sync"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/state"
)

// Draft gives what a declared field comes to, beside a field as it is: with as many nodes of its sets as its members want, and with what is known of its nodes
// that it does not declare, which is asked only where there can be any; nil where nothing can. The declaration itself is left as it is.
func Draft(declared *field.Field, live plan.Live, around func() field.Around) *field.Field {
	return plan.Grow(Surrounded(declared, around), live)
}

// Surrounded gives a field with what other fields keep of its nodes now, and with what machines have that were looked at.
func Surrounded(f *field.Field, around func() field.Around) *field.Field {
	if f == nil || around == nil || !f.Shares() && !f.Machines() {
		return f
	}
	now := *f
	now.Nodes, now.Extras = slices.Clone(f.Nodes), slices.Clone(f.Extras)
	now.Surround(around())
	return &now
}

// Resolved is a draft with what follows from it. It is never changed.
type Resolved struct {
	Field *field.Field // the draft, with the nodes that its sets come to
	Live  plan.Live    // the field as it is
	Plan  plan.Plan    // who comes, who goes, and who fits nowhere

	declared, grown string // the digests of the draft as it was declared, and of Field
}

// memo keeps what was resolved last. A state and its clones share one.
type memo struct {
	mu   sync.Mutex
	last []*Resolved // newest first
}

// mostKept is how many are kept: a draft that is looked at and the one that is carried out.
const mostKept = 3

// Of resolves a draft for a field as it is; for one that is not deployed, or not any more, afresh.
func Of(s *state.State, draft *field.Field) *Resolved {
	live := plan.Live{}
	if s.Deployed() {
		live = s.Live()
	}
	m := memoOf(s)
	digest := state.Digest(draft)
	if r := m.find(digest, live, func(r *Resolved) []string { return []string{r.declared, r.grown} }); r != nil {
		if r.grown == digest { // the caller's own draft, which nobody else holds
			own := *r
			own.Field = draft
			return &own
		}
		return r
	}
	r := &Resolved{Field: plan.Grow(draft, live), Live: live, declared: digest, grown: digest}
	if r.Field != draft {
		r.grown = state.Digest(r.Field)
	}
	r.Plan = plan.Make(r.Field, live)
	m.keep(r)
	return r
}

// Carried resolves the field that was deployed, for what is carried out of it: it has the nodes already that its sets come to.
func Carried(s *state.State) *Resolved {
	live := s.Live()
	m := memoOf(s)
	digest := state.Digest(s.Field)
	if r := m.find(digest, live, func(r *Resolved) []string { return []string{r.grown} }); r != nil {
		own := *r
		own.Field = s.Field
		return &own
	}
	r := &Resolved{Field: s.Field, Live: live, Plan: plan.Make(s.Field, live), declared: digest, grown: digest}
	m.keep(r)
	return r
}

func memoOf(s *state.State) *memo {
	if m, ok := s.Resolved.Load().(*memo); ok {
		return m
	}
	m := &memo{}
	if s.Resolved.CompareAndSwap(nil, m) {
		return m
	}
	return s.Resolved.Load().(*memo)
}

// find looks for what was made of the same draft, by its content: whoever holds a draft may change it.
func (m *memo) find(digest string, live plan.Live, of func(*Resolved) []string) *Resolved {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, r := range m.last {
		if slices.Contains(of(r), digest) && reflect.DeepEqual(r.Live, live) {
			return r
		}
	}
	return nil
}

func (m *memo) keep(r *Resolved) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.last = append([]*Resolved{r}, m.last[:min(len(m.last), mostKept-1)]...)
}

// Package resolve makes what follows from a draft and a field as it is: the nodes that its sets come to, who comes and who goes, and where
// to. It is made once for the same draft and the same field; all later steps (what is refused, what is reviewed, what nodes must have, what
// is carried out) take the same Resolved.
package resolve

import (
	"reflect"
	"sync"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/state"
)

// Resolved is a draft with what follows from it. It is never changed.
type Resolved struct {
	Declared *field.Field // the draft as it was declared
	Field    *field.Field // with the nodes that its sets come to
	Live     plan.Live    // the field as it is
	Plan     plan.Plan    // who comes, who goes, and who fits nowhere
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
	if r := m.find(draft, live); r != nil {
		return r
	}
	r := &Resolved{Declared: draft, Field: plan.Grow(draft, live), Live: live}
	r.Plan = plan.Make(r.Field, live)
	m.keep(r)
	return r
}

// Carried resolves the field that was deployed, for what is carried out of it: it has the nodes already that its sets come to.
func Carried(s *state.State) *Resolved {
	live := s.Live()
	m := memoOf(s)
	if r := m.carried(s.Field, live); r != nil {
		return r
	}
	r := &Resolved{Declared: s.Field, Field: s.Field, Live: live, Plan: plan.Make(s.Field, live)}
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

func (m *memo) find(draft *field.Field, live plan.Live) *Resolved {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, r := range m.last {
		if (r.Declared == draft || r.Field == draft || reflect.DeepEqual(r.Declared, draft)) && reflect.DeepEqual(r.Live, live) {
			return r
		}
	}
	return nil
}

func (m *memo) carried(f *field.Field, live plan.Live) *Resolved {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, r := range m.last {
		if (r.Field == f || reflect.DeepEqual(r.Field, f)) && reflect.DeepEqual(r.Live, live) {
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

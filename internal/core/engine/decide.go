// Package engine decides how a field gets from what it is to what is wanted, and never acts. Step turns an input into events and goes on
// until nothing more follows; Commands says what must be sent for the state to come true.
package engine

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/guard"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/state"
)

// sameReview refuses a deploy whose steps are not those of the review that was accepted.
func (in Deploy) sameReview(s *state.State) error {
	if in.Accepted == nil {
		return nil
	}
	now, err := review.Of(s, in.Draft)
	if err != nil {
		return err
	}
	gone, come := plan.Changed(in.Accepted, now)
	gone = slices.DeleteFunc(gone, func(x plan.Step) bool { return x.Kind == plan.Free && freed(s, x.Node) })
	if len(gone)+len(come) > 0 {
		changed := &review.Changed{Gone: gone, Come: come}
		if r := s.Rollout; r.Active() {
			changed.What, changed.By, changed.Since = r.What, r.By, r.Began
		}
		return changed
	}
	return nil
}

// freed tells whether a node that was given up before has become free meanwhile. What was to come of it has come.
func freed(s *state.State, name field.NodeName) bool {
	n := s.Nodes[name]
	return (n == nil || n.Released) && (s.Field == nil || s.Field.Node(name) == nil)
}

// Input is what the engine decides on: an order of a person, a report of an agent, or news from the ground.
type Input interface {
	decide(s *state.State) ([]state.Fact, error)
}

// TakeOver is the first input of a controller: it raises the term.
type TakeOver struct {
	By   string
	Mark string // random
	Log  string // random; becomes the identity of a log that has none
}

// Deploy asks for the draft.
type Deploy struct {
	Draft    *field.Field
	By       string
	Accepted *plan.Review // the review that was seen; nil where none was, and any will do
}

// reconcile is the engine looking for what can be done next.
type reconcile struct{}

// Step decides on an input, applies what was decided, and goes on deciding until nothing more follows. It gives the
// events in order; they must be stored before any command leaves. An error of type *Stuck means that the input was taken
// but something that should follow cannot be done; any other, that the input was refused.
func Step(s *state.State, at time.Time, in Input) ([]state.Event, error) {
	events, err := Observe(s, at, in)
	if err != nil || !Leads(in, events) {
		return nil, err
	}
	more, err := Follow(s, at)
	return append(events, more...), err
}

// Leads tells whether something may follow from an input that came to those events. Reports without news cannot lead to anything.
func Leads(in Input, events []state.Event) bool {
	_, reports := in.(Reports)
	return !reports || len(events) > 0
}

// Hears tells whether an input only says what has happened on a node.
func Hears(in Input) bool {
	switch in.(type) {
	case Reports, NodeGiven, NodeNotGiven, NodeLost, NodeFound, NodeFreed:
		return true
	}
	return false
}

// Follow decides on what is to be done next, and applies it, until nothing more follows. Its error is of type *Stuck.
func Follow(s *state.State, at time.Time) (events []state.Event, err error) {
	for {
		more, err := Observe(s, at, reconcile{})
		events = append(events, more...)
		if err != nil {
			return events, &Stuck{err}
		}
		if len(more) == 0 {
			return events, nil
		}
	}
}

// Stuck says what cannot be done although it is wanted.
type Stuck struct{ Err error }

func (e *Stuck) Error() string { return e.Err.Error() }

func (e *Stuck) Unwrap() error { return e.Err }

// Observe decides on an input and applies what was decided, without asking what should follow.
func Observe(s *state.State, at time.Time, in Input) ([]state.Event, error) {
	if reports, ok := in.(Reports); ok {
		return reports.observe(s, at), nil
	}
	facts, err := in.decide(s)
	events := make([]state.Event, 0, len(facts))
	for _, f := range facts {
		e := state.Event{At: at, Fact: f}
		state.Apply(s, e)
		events = append(events, e)
	}
	return events, err
}

func (in TakeOver) decide(s *state.State) ([]state.Fact, error) {
	f := state.TermRaised{Term: s.Term + 1, By: in.By, Mark: in.Mark}
	if s.Log == "" {
		f.Log = in.Log
	}
	return []state.Fact{f}, nil
}

func (in Deploy) decide(s *state.State) ([]state.Fact, error) {
	if s.Retiring {
		return nil, fmt.Errorf("%s is being retired; wait until it is gone, then deploy it anew", s.Field.Name)
	}
	if err := in.sameReview(s); err != nil {
		return nil, err
	}
	if err := ungiven(s, in.Draft); err != nil {
		return nil, err
	}
	resolved := resolve.Of(s, in.Draft)
	in.Draft = resolved.Field
	again := failed(s)
	if troubled := s.Troubled(); s.Deployed() && len(troubled) > 0 {
		again = append(again, state.ProceduresResumed{Members: troubled})
	}
	if s.Deployed() && reflect.DeepEqual(s.Field, in.Draft) && !anyHalted(s) && s.Stalled == "" && !anyUnfit(s) {
		return again, nil
	}
	if err := guard.Check(s, resolved); err != nil {
		return nil, err
	}
	return append(again, state.Accepted{Field: in.Draft, By: in.By}), nil
}

// failed asks for another try, at once, of the members that are dark by themselves: whoever deploys again has mended
// something.
func failed(s *state.State) []state.Fact {
	var names []field.MemberName
	for _, m := range state.SortedMembers(s) {
		if s.Deployed() && m.Phase == state.Failed && !m.Leaving && !m.Halted && m.Ordered.Want == order.Run {
			names = append(names, m.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	return []state.Fact{state.RestartAsked{Members: names, Why: "tried again", Part: true}}
}

func anyUnfit(s *state.State) bool {
	for _, m := range s.Members {
		if m.Unfit != "" && m.Phase != state.Gone {
			return true
		}
	}
	return false
}

func anyHalted(s *state.State) bool {
	for _, m := range s.Members {
		if m.Halted {
			return true
		}
	}
	return false
}

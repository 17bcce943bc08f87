// Package loop is how a field goes on: inputs in, decided on together, what was decided stored, and only then applied where others see
// it. The controller runs it on a clock, a log and agents that are real, a rehearsal on simulated ones.
package loop

import (
	"errors"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/state"
)

// Log is where events are stored.
type Log interface {
	// Last is the number of the newest event; 0 when there is none.
	Last() uint64
	// Append stores events after the one with the expected number. When it returns nil they are stored for good.
	Append(expected uint64, events []state.Event) error
}

// Input gives what is to be decided on, from the state that the inputs before it have led to; or why it cannot be asked.
type Input func(s *state.State) (engine.Input, error)

// Of is an input that needs no state to be made.
func Of(in engine.Input) Input {
	return func(*state.State) (engine.Input, error) { return in, nil }
}

// Outcome is what came of a batch of inputs.
type Outcome struct {
	First    uint64        // the number of the first event
	Events   []state.Event // stored, and applied nowhere but inside the loop
	Answers  []error       // to each input: why it was refused
	Problems []string      // what is wanted and cannot be done
	Decided  bool          // something that was decided leaves no problem of before as it was
}

// Loop decides. It is for one goroutine.
type Loop struct {
	log   Log
	state *state.State // with events that are being stored already in it
	last  uint64
}

// New makes a loop that goes on from a state, which becomes its own: that of all that is in the log.
func New(log Log, s *state.State) *Loop { return &Loop{log: log, state: s, last: log.Last()} }

// State is what the loop decides on: with all events that it has stored, and, after an error, with some that it has not.
func (l *Loop) State() *state.State { return l.state }

// Last is the number of the newest event.
func (l *Loop) Last() uint64 { return l.last }

// Decide decides on inputs in their order and stores what was decided, as one batch. An error means that it could not be stored: then the
// loop must not be used any more.
func (l *Loop) Decide(now func() time.Time, inputs []Input) (Outcome, error) {
	out := Outcome{First: l.last + 1, Answers: make([]error, len(inputs))}
	for i, input := range inputs {
		in, err := input(l.state)
		if err != nil {
			out.Answers[i] = err
			continue
		}
		events, err := engine.Step(l.state, now(), in)
		out.Events = append(out.Events, events...)
		var stuck *engine.Stuck
		if errors.As(err, &stuck) {
			out.Problems = []string{err.Error()}
			continue
		}
		if out.Answers[i] = err; len(events) > 0 {
			out.Problems, out.Decided = nil, true
		}
	}
	if err := l.log.Append(l.last, out.Events); err != nil {
		return out, err
	}
	l.last += uint64(len(out.Events))
	return out, nil
}

// Commands lists what must be done for the state to come true.
func (l *Loop) Commands() []engine.Command { return engine.Commands(l.state) }

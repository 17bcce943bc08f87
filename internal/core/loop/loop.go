// Package loop is how a field goes on: inputs in, decided on together, what was decided stored, and only then applied where others see
// it. The controller runs it on a clock, a log and agents that are real, a rehearsal on simulated ones.
package loop

import (
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

// Input is what is to be decided on.
type Input struct {
	make  func(s *state.State) (engine.Input, error)
	heard bool // it says what has happened, and asks for nothing
}

// Of is an input that needs no state to be made.
func Of(in engine.Input) Input {
	return Input{func(*state.State) (engine.Input, error) { return in, nil }, engine.Hears(in)}
}

// Asked is an input that is made from the state that the inputs before it have led to; or why it cannot be asked.
func Asked(make func(s *state.State) (engine.Input, error)) Input { return Input{make: make} }

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

// Decide decides on inputs in their order and stores what was decided, as one batch. What follows from things that have happened one right after another is decided
// once, after the last of them: there may be hundreds, and looking for what follows takes all of the field into account. An error means that the batch could not be
// stored: then the loop must not be used any more.
func (l *Loop) Decide(now func() time.Time, inputs []Input) (Outcome, error) {
	out := Outcome{First: l.last + 1, Answers: make([]error, len(inputs))}
	pending, news := false, false
	follow := func() {
		if !pending {
			return
		}
		events, err := engine.Follow(l.state, now())
		out.Events = append(out.Events, events...)
		if err != nil {
			out.Problems = []string{err.Error()}
		} else if news || len(events) > 0 {
			out.Problems, out.Decided = nil, true
		}
		pending, news = false, false
	}
	for i, input := range inputs {
		if !input.heard {
			follow()
		}
		in, err := input.make(l.state)
		if err != nil {
			out.Answers[i] = err
			continue
		}
		events, err := engine.Observe(l.state, now(), in)
		out.Events = append(out.Events, events...)
		if err != nil {
			out.Answers[i] = err
			continue
		}
		news = news || len(events) > 0
		pending = pending || engine.Leads(in, events)
		if !input.heard {
			follow()
		}
	}
	follow()
	if err := l.log.Append(l.last, out.Events); err != nil {
		return out, err
	}
	l.last += uint64(len(out.Events))
	return out, nil
}

// Commands lists what must be done for the state to come true.
func (l *Loop) Commands() []engine.Command { return engine.Commands(l.state) }

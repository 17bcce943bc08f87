package control

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// LookRollouts lists the rollouts of a field, oldest first, the one that goes on last.
func LookRollouts(f Folder) ([]snapshot.RolloutView, error) {
	s, err := readState(f)
	if err != nil {
		return nil, err
	}
	return rolloutsOf(s), nil
}

// Rollouts lists the rollouts that are remembered.
func (c *Controller) Rollouts(context.Context) ([]snapshot.RolloutView, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return rolloutsOf(c.state), nil
}

func rolloutsOf(s *state.State) []snapshot.RolloutView {
	out := []snapshot.RolloutView{}
	for _, r := range append(s.Rollouts[:len(s.Rollouts):len(s.Rollouts)], s.Rollout) {
		if r.Number > 0 {
			out = append(out, snapshot.ViewOf(r))
		}
	}
	return out
}

// RolloutAsked says which rollout, or which task, is meant; what goes on, or has ended last, where both are zero.
type RolloutAsked struct {
	Number int `json:"number,omitempty"`
	Task   int `json:"task,omitempty"`
}

// Rollout tells a rollout, or a task, from its beginning to its end, or as far as it has come.
func (c *Controller) Rollout(_ context.Context, ask RolloutAsked) (*rollout.Record, error) {
	c.mu.Lock()
	r := c.book.Of(ask.Number, ask.Task)
	if ask == (RolloutAsked{}) {
		r = c.book.Newest()
	}
	if r == nil {
		s := c.state.Clone()
		c.mu.Unlock()
		found, then, err := c.folder.recorder(s, ask)
		if err != nil {
			return nil, err
		}
		if found.Done() && ask == (RolloutAsked{}) { // what is looked at again and again is not read from the log each time
			c.mu.Lock()
			if c.book.Newest() == nil {
				c.book.Keep(found)
			}
			c.mu.Unlock()
		}
		return recorded(found, then), nil
	}
	record := r.Record(c.state, time.Now().UTC())
	var then *state.State
	if record.Active() {
		then = c.state.Clone()
	}
	snap := c.present()
	c.mu.Unlock()
	if then != nil {
		record.Expect(then, rollout.Stuck(snap)...)
		record.Judge(snap)
	}
	return record, nil
}

// LookAtRollout tells a rollout, or a task: by who keeps the field, with the field as it is; else by its log, without.
func LookAtRollout(ctx context.Context, f Folder, ask RolloutAsked) (*rollout.Record, *snapshot.Snapshot, error) {
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if record, err := r.Rollout(ctx, ask); err == nil {
			snap, err := r.Snapshot(ctx)
			return record, snap, err
		}
	}
	s, err := readState(f)
	if err != nil {
		return nil, nil, err
	}
	found, then, err := f.recorder(s, ask)
	if err != nil {
		return nil, nil, err
	}
	return recorded(found, then), nil, nil
}

// recorded is what a recorder has, with what is expected by a state.
func recorded(r *rollout.Recorder, s *state.State) *rollout.Record {
	record := r.Record(s, time.Now().UTC())
	record.Expect(s)
	return record
}

// recorder reads a rollout, or a task, from the log, and gives the state at its end, or as it is now.
func (f Folder) recorder(s *state.State, ask RolloutAsked) (*rollout.Recorder, *state.State, error) {
	began, ask, err := beganAt(s, ask)
	if err != nil {
		return nil, nil, err
	}
	fold, done, err := f.folder(nil)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	var book rollout.Book
	var found *rollout.Recorder
	last := s
	err = fold.From(began, func(now *state.State, e eventlog.Stored) bool {
		book.Note(now, e.Event)
		last = now
		if found == nil {
			found = book.Of(ask.Number, ask.Task)
		}
		return found == nil || !found.Done()
	})
	if err != nil {
		return nil, nil, err
	}
	if found == nil {
		return nil, nil, fmt.Errorf("the log does not tell of rollout %d any more", ask.Number)
	}
	return found, last, nil
}

// beganAt finds when what is meant began; what began last where nothing is named.
func beganAt(s *state.State, ask RolloutAsked) (time.Time, RolloutAsked, error) {
	all := append(s.Rollouts[:len(s.Rollouts):len(s.Rollouts)], s.Rollout)
	if ask == (RolloutAsked{}) {
		ask.Number = s.Rollout.Number
		began := s.Rollout.Began
		for _, t := range s.Tasks {
			if t.Began.After(began) {
				began, ask = t.Began, RolloutAsked{Task: t.Number}
			}
		}
		if began.IsZero() {
			return began, ask, ErrNothing
		}
		return began, ask, nil
	}
	for _, r := range all {
		if ask.Number > 0 && r.Number == ask.Number {
			return r.Began, ask, nil
		}
	}
	for _, t := range s.Tasks {
		if ask.Task > 0 && t.Number == ask.Task {
			return t.Began, ask, nil
		}
	}
	if ask.Task > 0 {
		return time.Time{}, ask, fmt.Errorf("there is no task %d that is remembered", ask.Task)
	}
	return time.Time{}, ask, fmt.Errorf("there is no rollout %d; `lanternfield rollouts` lists them", ask.Number)
}

// DraftBefore gives the draft to go back to: that of the newest rollout before the present one that came to its end with another draft.
func DraftBefore(f Folder) (draft *field.Field, number int, err error) {
	s, err := readState(f)
	if err != nil {
		return nil, 0, err
	}
	for _, r := range slices.Backward(s.Rollouts) {
		if r.Target == "" || r.Target == s.Rollout.Target || r.Outcome != state.Completed {
			continue
		}
		drafts, err := f.drafts()
		if err != nil {
			return nil, 0, err
		}
		if draft = drafts[r.Target]; draft != nil {
			return draft, r.Number, nil
		}
	}
	return nil, 0, errors.New("there is nothing to go back to: no other draft was carried out to its end")
}

// drafts reads the drafts that were deployed, by their digests.
func (f Folder) drafts() (map[string]*field.Field, error) {
	drafts := map[string]*field.Field{}
	fold, done, err := f.folder(nil)
	if err != nil {
		return nil, err
	}
	defer done()
	err = fold.Log.Read(0, func(e eventlog.Stored) error {
		if x, is := e.Fact.(state.Accepted); is {
			drafts[state.Digest(x.Field)] = x.Field
		}
		return nil
	})
	return drafts, err
}

// goingOn makes a book of what goes on by a log that is taken over.
func goingOn(fold eventlog.Folder, s *state.State) (rollout.Book, error) {
	var began time.Time
	note := func(at time.Time) {
		if began.IsZero() || at.Before(began) {
			began = at
		}
	}
	if s.Rollout.Active() {
		note(s.Rollout.Began)
	}
	for _, t := range s.Tasks {
		if t.Active() {
			note(t.Began)
		}
	}
	var book rollout.Book
	if began.IsZero() {
		return book, nil
	}
	err := fold.From(began, func(now *state.State, e eventlog.Stored) bool {
		book.Note(now, e.Event)
		return true
	})
	var old *eventlog.TooOld
	if errors.As(err, &old) {
		err = nil // it goes on, and how it began is not kept
	}
	return book, err
}

// CompareRollouts lists in what the drafts of two rollouts differ.
func CompareRollouts(f Folder, before, after int) ([]review.Difference, error) {
	all, err := LookRollouts(f)
	if err != nil {
		return nil, err
	}
	targets := map[int]string{}
	for _, r := range all {
		targets[r.Number] = r.Target
	}
	drafts, err := f.drafts()
	if err != nil {
		return nil, err
	}
	of := func(n int) (*field.Field, error) {
		target, known := targets[n]
		switch draft := drafts[target]; {
		case !known:
			return nil, fmt.Errorf("there is no rollout %d; `lanternfield rollouts` lists them", n)
		case draft == nil:
			return nil, fmt.Errorf("rollout %d carried out no draft", n)
		default:
			return draft, nil
		}
	}
	a, err := of(before)
	if err != nil {
		return nil, err
	}
	b, err := of(after)
	if err != nil {
		return nil, err
	}
	return review.Compare(a, b)
}

package control

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
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
	var out []snapshot.RolloutView
	for _, r := range append(s.Rollouts[:len(s.Rollouts):len(s.Rollouts)], s.Rollout) {
		if r.Number > 0 {
			out = append(out, snapshot.ViewOf(r))
		}
	}
	return out, nil
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

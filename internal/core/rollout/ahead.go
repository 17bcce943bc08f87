package rollout

import (
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/state"
)

// Ahead works out how long carrying out a review may take, all of it and each of its steps, and writes that into it.
func Ahead(s *state.State, draft *field.Field, r *plan.Review, now time.Time) {
	if r.Empty() || len(r.Unplaced) > 0 {
		return
	}
	next := s.Clone()
	next.Field, next.Stalled = draft, ""
	next.Rollout = state.Rollout{Number: s.Rollout.Number + 1, What: "deploy", Began: now}
	record := &Record{What: "deploy", Began: now, At: now}
	steps := map[field.MemberName]int{}
	for i, step := range r.Steps {
		row := Row{Member: step.Member, Role: step.Role, Node: step.Node, Stage: step.Stage}
		phase := state.Ready
		switch step.Kind {
		case plan.Start:
			row.Action, phase = Comes, state.Planned
			if next.Members[step.Member] == nil {
				next.Members[step.Member] = &state.Member{Member: place.Member{Name: step.Member, Role: step.Role, Node: step.Node}, Phase: state.Planned, Since: now}
			}
		case plan.Change:
			if row.Action = Changes; !step.Restarts {
				continue
			}
		case plan.Take:
			row.Action = Leaves
		default:
			continue
		}
		row.Segments = []Segment{{Phase: phase, From: now, Due: phase == state.Ready}}
		record.Rows = append(record.Rows, row)
		steps[step.Member] = i
	}
	record.Expect(next)
	r.Expected = record.Expected
	for _, row := range record.Rows {
		if e := row.Expected; e != nil && e.Known {
			r.Steps[steps[row.Member]].Takes = e.End.Sub(e.Begin)
		}
	}
}

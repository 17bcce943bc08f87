package review

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
)

// ChangedSecret lists what follows where another secret takes the place of one, in order.
func ChangedSecret(s *state.State, name string, given bool) (*plan.Review, error) {
	r := &plan.Review{Field: s.Field.Name}
	supposed := s.Clone()
	stages := plan.StageOf(s.Field)
	for _, role := range supposed.SupposeSecret(name, given) {
		r.Steps = append(r.Steps, plan.Step{Kind: plan.Change, Stage: stages[role], Role: role,
			Text: fmt.Sprintf("have %s take another secret %s; who connects with the one before is refused from then on", role, name)})
	}
	changes, err := changeSteps(supposed, s.Field, plan.Plan{}, stages)
	if err != nil {
		return nil, err
	}
	r.Steps = append(r.Steps, changes...)
	plan.SortSteps(r.Steps)
	return r, nil
}

// ChangedOutside lists what follows where a role shows another certificate from outside, or none.
func ChangedOutside(s *state.State, role field.RoleName, of *trust.Outside) (*plan.Review, error) {
	supposed := s.Clone()
	supposed.SupposeOutside(role, of)
	steps, err := changeSteps(supposed, s.Field, plan.Plan{}, plan.StageOf(s.Field))
	if err != nil {
		return nil, err
	}
	plan.SortSteps(steps)
	return &plan.Review{Field: s.Field.Name, Steps: steps}, nil
}

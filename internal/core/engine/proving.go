package engine

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// Prove asks for proofs to be done: those of some roles, or all where none is named.
type Prove struct {
	Roles []field.RoleName
	By    string
}

// ProofCame is what came of a proof.
type ProofCame struct {
	Run    *state.ProofRun
	Result state.ProofResult
}

func (in Prove) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "prove"); err != nil {
		return nil, err
	}
	var facts []state.Fact
	number := s.ProofCount
	for i := range s.Field.Roles {
		r := &s.Field.Roles[i]
		if len(in.Roles) > 0 && !slices.Contains(in.Roles, r.Name) {
			continue
		}
		for _, p := range r.AllProofs() {
			number++
			facts = append(facts, state.ProofAsked{Number: number, Role: r.Name, Name: p.Name, By: in.By})
		}
	}
	if len(facts) == 0 {
		return nil, fmt.Errorf("there is nothing to prove: neither the kit nor the field file defines a proof of it (proofs:)")
	}
	return facts, nil
}

func (in ProofCame) decide(s *state.State) ([]state.Fact, error) {
	known := s.Proofs[state.KeyOf(in.Run.Role, in.Run.Name)]
	if known == nil || known.Running == nil || known.Running.Number != in.Run.Number {
		return nil, nil
	}
	return []state.Fact{state.ProofEnded{Number: in.Run.Number, Role: in.Run.Role, Name: in.Run.Name, ProofResult: in.Result}}, nil
}

// ProveAgain asks for the proofs whose schedule says that it is time.
type ProveAgain struct{ At time.Time }

// bySchedule is who asks for those.
const bySchedule = "its schedule"

func (in ProveAgain) decide(s *state.State) ([]state.Fact, error) { return Overdue(s, in.At), nil }

// Overdue lists the proofs whose schedule says that it is time. While members come and go on purpose, nothing is.
func Overdue(s *state.State, now time.Time) []state.Fact {
	if !s.Deployed() || s.Retiring || s.Rollout.Active() || slices.ContainsFunc(s.Tasks, state.Task.Active) {
		return nil
	}
	var facts []state.Fact
	for i := range s.Field.Roles {
		r := &s.Field.Roles[i]
		halted := true
		for _, m := range s.Members {
			halted = halted && (m.Role != r.Name || m.Halted || m.Phase == state.Gone)
		}
		if halted {
			continue
		}
		for _, p := range r.AllProofs() {
			known := s.Proofs[state.KeyOf(r.Name, p.Name)]
			running := known != nil && known.Running != nil
			recent := known != nil && known.Last != nil && now.Sub(known.Last.Ended) < time.Duration(p.Every)
			if p.Every > 0 && !running && !recent {
				facts = append(facts, state.ProofAsked{Number: s.ProofCount + 1 + len(facts), Role: r.Name, Name: p.Name, By: bySchedule})
			}
		}
	}
	return facts
}

// byRollout is who asks for proofs of what is deployed.
const byRollout = "the deploy"

// proveForGates asks for the proofs that gates wait for, once all members of the role are ready.
func (w *pass) proveForGates() []state.Fact {
	if !w.Rollout.Active() || w.Rollout.What != "deploy" {
		return nil
	}
	for i := range w.Field.Roles {
		r := &w.Field.Roles[i]
		for _, on := range slices.Sorted(maps.Keys(r.After)) {
			target := w.Field.Role(on)
			if r.After[on] != field.GateProof || target == nil {
				continue
			}
			if v := w.Gate(target, field.GateProof, w.active(on)); v.Have < v.Need || v.Founding {
				continue
			}
			if facts := w.askProofs(target); len(facts) > 0 {
				return facts
			}
		}
	}
	return nil
}

// proveDeployed asks for all proofs when a deploy has come to its end, but for those that were done during it.
func (w *pass) proveDeployed() []state.Fact {
	if w.Rollout.What != "deploy" || w.Rollout.Outcome != state.Completed {
		return nil
	}
	var facts []state.Fact
	for i := range w.Field.Roles {
		r := &w.Field.Roles[i]
		if r.Members > 0 && len(w.active(r.Name)) > 0 {
			facts = append(facts, w.askProofs(r)...)
		}
	}
	for i, f := range facts {
		asked := f.(state.ProofAsked)
		asked.Number = w.ProofCount + 1 + i
		facts[i] = asked
	}
	return facts
}

// askProofs asks for the proofs of a role that this rollout has not asked for.
func (w *pass) askProofs(r *field.Role) []state.Fact {
	var facts []state.Fact
	for _, p := range r.AllProofs() {
		if !w.ProvedSince(state.KeyOf(r.Name, p.Name)) {
			facts = append(facts, state.ProofAsked{Number: w.ProofCount + 1 + len(facts), Role: r.Name, Name: p.Name, By: byRollout})
		}
	}
	return facts
}

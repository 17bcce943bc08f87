package snapshot

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// proofViews lists the proofs of all roles, role by role in the order of deployment.
func proofViews(s *state.State) []ProofView {
	var views []ProofView
	for _, stage := range s.Field.Stages() {
		for _, name := range stage {
			role := s.Field.Role(name)
			for _, p := range role.AllProofs() {
				v := ProofView{Role: name, Name: p.Name, About: p.About}
				if known := s.Proofs[state.KeyOf(name, p.Name)]; known != nil {
					v.Running = known.Running != nil
					if last := known.Last; last != nil {
						v.Number, v.At, v.By, v.OK, v.Why, v.Steps = last.Number, last.Ended, last.By, last.OK, last.Why, last.Steps
						v.TookMS = float64(last.Took.Microseconds()) / 1000
					}
				}
				views = append(views, v)
			}
		}
	}
	return views
}

// Proving tells whether a proof is being done now.
func (s *Snapshot) Proving() bool {
	return slices.ContainsFunc(s.Proofs, func(p ProofView) bool { return p.Running })
}

// unproved words the proofs that did not hold when they were done last.
func unproved(snap *Snapshot) []string {
	var failed []ProofView
	for _, p := range snap.Proofs {
		if p.Failed() {
			failed = append(failed, p)
		}
	}
	switch len(failed) {
	case 0:
		return nil
	case 1:
		return []string{fmt.Sprintf("%s is not proved (%s): %s", failed[0].Role, failed[0].Name, failed[0].Why)}
	}
	return []string{fmt.Sprintf("%s did not hold, the first of %s (%s): %s", wording.Counted(len(failed), "proof"), failed[0].Role, failed[0].Name, failed[0].Why)}
}

// Proved says how a role was proved last: "3 proofs 2 min ago"; nothing where it has no proofs.
func (s *Snapshot) Proved(role field.RoleName, now time.Time) string {
	count, oldest, running, failed, never := 0, time.Time{}, false, false, false
	for _, p := range s.Proofs {
		if p.Role != role {
			continue
		}
		count++
		running = running || p.Running
		failed = failed || p.Failed()
		never = never || p.At.IsZero()
		if oldest.IsZero() || p.At.Before(oldest) {
			oldest = p.At
		}
	}
	switch {
	case count == 0:
		return ""
	case running:
		return "being proved"
	case failed:
		return "not proved"
	case never:
		return "never"
	}
	return field.Span(now.Sub(oldest)) + " ago"
}

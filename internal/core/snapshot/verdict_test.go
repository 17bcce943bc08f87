package snapshot

import (
	"testing"
	"time"

	"lanternfield/internal/core/state"
)

// TestTheWorstOutranksTheRest judges a field with a role that votes, changed one thing at a time; the rows go from the worst to the best.
func TestTheWorstOutranksTheRest(t *testing.T) {
	deploying := state.Rollout{Number: 1, What: "deploy", Began: time.Unix(1, 0)}
	ready := func() *Snapshot {
		return &Snapshot{Roles: []RoleView{{Role: "wardens", Votes: true, Want: 3, Ready: 3, Survives: 1, Worked: true, Led: true, Leader: "wardens-1", LeaderSince: time.Unix(1, 0)}},
			Members: []MemberView{{Member: "wardens-1", Role: "wardens", Phase: state.Ready}, {Member: "wardens-2", Role: "wardens", Phase: state.Ready}}}
	}
	for _, test := range []struct {
		name    string
		rollout state.Rollout
		change  func(*state.State, *Snapshot)
		want    Condition
	}{
		{"its quorum is lost, also while a rollout goes on", deploying, func(_ *state.State, s *Snapshot) { s.Roles[0].Survives = -1; s.Members[1].Phase = state.Failed }, Down},
		{"its quorum is lost, and nothing goes on", state.Rollout{}, func(_ *state.State, s *Snapshot) { s.Roles[0].Survives = -1; s.Members[1].Phase = state.Unknown }, Down},
		{"it has not come up yet", deploying, func(_ *state.State, s *Snapshot) { s.Roles[0].Survives, s.Roles[0].Worked = -1, false }, Deploying},
		{"a member is dark while a rollout goes on", deploying, func(_ *state.State, s *Snapshot) { s.Members[1].Phase = state.Failed }, Deploying},
		{"a member is dark", state.Rollout{}, func(_ *state.State, s *Snapshot) { s.Members[1].Phase = state.Failed }, Degraded},
		{"nobody leads", state.Rollout{}, func(_ *state.State, s *Snapshot) { s.Roles[0].Leader = "" }, Degraded},
		{"two lead", state.Rollout{}, func(_ *state.State, s *Snapshot) { s.Roles[0].Rivals = append(s.Roles[0].Rivals, "wardens-2") }, Degraded},
		{"an agent does not obey", state.Rollout{}, func(s *state.State, _ *Snapshot) { s.Nodes["gull-1"] = &state.Node{Refuses: true} }, Degraded},
		{"a node has not been heard", state.Rollout{}, func(s *state.State, _ *Snapshot) { s.Nodes["gull-1"] = &state.Node{Unheard: true} }, Converging},
		{"members are being stopped", state.Rollout{}, func(s *state.State, _ *Snapshot) { s.Tasks = []state.Task{{Number: 1, What: "stop"}} }, Deploying},
		{"a member is starting", state.Rollout{}, func(_ *state.State, s *Snapshot) { s.Members[1].Phase = state.Starting }, Converging},
		{"all are stopped on purpose", state.Rollout{}, func(_ *state.State, s *Snapshot) {
			for i := range s.Members {
				s.Members[i].Phase, s.Members[i].Halted = state.Stopped, true
			}
		}, Stopped},
		{"all is well", state.Rollout{}, func(*state.State, *Snapshot) {}, Converged},
	} {
		s, snap := state.NewState(), ready()
		s.Rollout = test.rollout
		test.change(s, snap)
		if got := judge(s, snap); got != test.want {
			t.Errorf("%s: %s, want %s", test.name, got, test.want)
		}
	}
}

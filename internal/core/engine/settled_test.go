package engine

import (
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// TestSettledMeansThatNobodyIsNeeded changes one thing of a field at rest at a time.
func TestSettledMeansThatNobodyIsNeeded(t *testing.T) {
	at := time.Unix(100, 0)
	for _, test := range []struct {
		name    string
		change  func(*state.State)
		settled bool
	}{
		{"at rest", func(*state.State) {}, true},
		{"a rollout goes on", func(s *state.State) { s.Rollout.Ended = time.Time{} }, false},
		{"a rollout is paused", func(s *state.State) { s.Rollout.Ended, s.Rollout.Paused = time.Time{}, true }, true},
		{"members are stopped", func(s *state.State) { s.Tasks = []state.Task{{Number: 1, What: "stop", Began: at}} }, false},
		{"members were stopped", func(s *state.State) { s.Tasks = []state.Task{{Number: 1, What: "stop", Began: at, Ended: at}} }, true},
		{"an order has not been taken", func(s *state.State) { s.Members["crews-1"].Ordered.Revision = 99 }, false},
		{"a member is starting", func(s *state.State) { s.Members["crews-1"].Phase = state.Starting }, false},
		{"a restart is due", func(s *state.State) { s.Members["crews-1"].RestartDue = true }, false},
		{"a member is dark: its agent starts it again", func(s *state.State) { s.Members["crews-1"].Phase = state.Failed }, true},
		{"a node has not been heard", func(s *state.State) { s.Nodes["gull-1"].Unheard = true }, false},
		{"a node is being freed", func(s *state.State) { s.Nodes["gull-1"].Releasing = true }, false},
		{"an operation is under way", func(s *state.State) {
			s.Roles["crews"].Op = &order.Operation{ID: 1, Asked: "crews-1", Member: "crews-1"}
		}, false},
		{"it is being retired", func(s *state.State) { s.Retiring = true }, false},
		{"it is retired", func(s *state.State) { s.Retired, s.Rollout.Ended = true, time.Time{} }, true},
		{"it was never deployed", func(s *state.State) { s.Field = nil }, true},
	} {
		s := sailing(t, 2)
		for _, n := range s.Nodes {
			n.Unheard = false
		}
		s.Rollout.Ended = at
		if s.Roles["crews"] == nil || s.Members["crews-1"] == nil || s.Nodes[field.NodeName("gull-1")] == nil {
			t.Fatalf("the field has other names: %v %v", s.Roles, s.Nodes)
		}
		if !Settled(s) {
			t.Fatal("a field at rest is not settled")
		}
		if test.change(s); Settled(s) != test.settled {
			t.Errorf("%s: settled is %v", test.name, !test.settled)
		}
	}
}

package rehearse

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// TestClocksThatJump sets clocks, of the controller, of the nodes or of both, back and forth by up to a day in the middle of everything: what is carried out
// comes to its end, nothing that is told is impossible, and the field converges.
func TestClocksThatJump(t *testing.T) {
	jumps := []time.Duration{-24 * time.Hour, -time.Hour, -10 * time.Second, 0, 10 * time.Second, time.Hour, 24 * time.Hour}
	for seed := uint64(1); seed <= 40; seed++ {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 17))
			w := deployed(t, 0)
			for range 25 {
				switch random.IntN(5) {
				case 0:
					w.Ahead = jumps[random.IntN(len(jumps))]
				case 1:
					w.NodesAhead = jumps[random.IntN(len(jumps))]
				case 2:
					w.Ahead = jumps[random.IntN(len(jumps))]
					w.NodesAhead = w.Ahead
				default:
					scramble(t, w, random)
				}
				w.Run(time.Duration(random.IntN(1500)) * time.Millisecond)
				newest, all := told(w)
				for _, r := range append(all, newest) {
					whole(t, r)
				}
				possible(t, w.Snapshot())
			}
			for _, n := range state.SortedNodes(w.State) {
				w.Heal(n.Name)
			}
			if err := w.Do(engine.Deploy{Draft: ferries(), By: "test"}); err != nil {
				t.Fatal(err)
			}
			for _, m := range state.EveryMember(w.State) { // those that somebody has stopped
				_ = w.Do(engine.StartMembers{Members: []field.MemberName{m.Name}})
			}
			if !w.Until(settled(w, snapshot.Converged), 5*time.Minute) {
				t.Errorf("in the end it is %s: %s", w.Snapshot().State, w.Snapshot().Verdict)
			}
		})
	}
}

// possible checks that nothing has lasted less than no time, and that all of it can be told.
func possible(t *testing.T, s *snapshot.Snapshot) {
	t.Helper()
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	var tree any
	if err := json.Unmarshal(data, &tree); err != nil {
		t.Fatal(err)
	}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch v := v.(type) {
		case map[string]any:
			for k, x := range v {
				walk(path+"."+k, x)
			}
		case []any:
			for _, x := range v {
				walk(path, x)
			}
		case float64:
			if v < 0 && path != ".roles.survives" { // it has stopped
				t.Errorf("%s is %v", path, v)
			}
		}
	}
	walk("", tree)
}

// TestNothingIsLateSinceAClockWasSet sets the clock ahead by an hour while a member is awaited that may take ten seconds: it is waited for, and said what happened.
func TestNothingIsLateSinceAClockWasSet(t *testing.T) {
	w := New(begin)
	w.TakeOver()
	w.ReadyAfter = map[field.RoleName]time.Duration{"wardens": 4 * time.Second}
	f := ferries()
	f.Role("wardens").Late = &field.Late{After: field.Duration(10 * time.Second), Then: field.StopHere}
	if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
		t.Fatal(err)
	}
	w.Run(2 * time.Second)
	for _, by := range []time.Duration{time.Hour, -2 * time.Hour} {
		w.Ahead += by
		w.NodesAhead += by
		if err := w.Do(engine.ClockJumped{By: by}); err != nil {
			t.Fatal(err)
		}
		if m, _ := engine.Late(w.State, w.Clock()); m != nil {
			t.Errorf("%s is late since the clock was set by %s", m.Name, by)
		}
		if v := w.Snapshot().Rollout; w.Clock().Sub(v.Began) != 2*time.Second {
			t.Errorf("after %s it is said to have begun %s ago", by, w.Clock().Sub(v.Began))
		}
	}
	if !w.Until(settled(w, snapshot.Converged), time.Minute) {
		t.Fatalf("%s: %s", w.Snapshot().State, w.Snapshot().Verdict)
	}
	if took := w.State.Rollout.Ended.Sub(w.State.Rollout.Began); took > 30*time.Second {
		t.Errorf("it is said to have taken %s", took)
	}
	if m, _ := engine.Late(w.State, w.Clock().Add(time.Hour)); m != nil {
		t.Errorf("%s is late when all is done", m.Name)
	}
}

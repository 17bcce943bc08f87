package rehearse

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
)

// ferries is a field with voters, gates and every way of starting.
func ferries() *field.Field {
	program := &field.Program{Command: []string{"program", `{{range .Joined}}{{.Address}} {{end}}`}}
	f := &field.Field{Name: "saltmarsh",
		Nodes: []field.Node{{Name: "gull-1", Zone: "north-quay"}, {Name: "tern-1", Zone: "south-quay"}, {Name: "puffin-1", Zone: "lighthouse"}},
		Roles: []field.Role{
			{Name: "wardens", Kind: field.Master, Members: 3, Votes: true, Program: program},
			{Name: "relays", Kind: field.Broker, Members: 3, Start: field.SeedFirst, After: map[field.RoleName]field.Gate{"wardens": "quorum"}, Program: program},
			{Name: "crews", Members: 4, Start: field.OneByOne, Calls: map[string]field.RoleName{"store": "wardens", "queue": "relays"}, Program: program},
		}}
	field.FillDefaults(f)
	return f
}

func settled(w *World, want snapshot.Condition) func() bool {
	return func() bool { s := w.Snapshot(); return s.State == want && !s.Rollout.Active }
}

// outcome is what a history leads to, as far as it must not depend on who died when.
func outcome(w *World) string {
	var lines []string
	for _, m := range state.EveryMember(w.State) {
		lines = append(lines, fmt.Sprintf("%s on %s %s founding=%v", m.Name, m.Node, m.Phase, m.Founding))
	}
	return strings.Join(lines, "\n")
}

func deployed(t *testing.T, dieAfter int) *World {
	t.Helper()
	w := New(begin)
	w.ReadyAfter = map[field.RoleName]time.Duration{"wardens": 200 * time.Millisecond, "relays": 50 * time.Millisecond}
	w.TakeOver()
	w.DieAfter = dieAfter
	f := ferries()
	order := func() {
		if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
			t.Fatal(err)
		}
	}
	order()
	w.Until(func() bool { return w.Dead }, 20*time.Second)
	if w.Dead {
		w.TakeOver()
		if w.State.Field == nil { // the order itself was never stored: a person gives it again
			order()
		}
	}
	if !w.Until(settled(w, snapshot.Converged), time.Minute) {
		t.Fatalf("controller dead after event %d: %s: %s", dieAfter, w.Snapshot().State, w.Snapshot().Verdict)
	}
	return w
}

func TestControllerMayDieAfterEveryEventOfARollout(t *testing.T) {
	whole := deployed(t, 0)
	want := outcome(whole)
	for n := 2; n <= len(whole.Log); n++ {
		w := deployed(t, n)
		if got := outcome(w); got != want {
			t.Fatalf("controller dead after event %d: got\n%s\nwant\n%s", n, got, want)
		}
		if len(w.Lives) != 10 || w.Running() != 10 {
			t.Errorf("controller dead after event %d: %d processes were started and %d run; want 10 and 10", n, len(w.Lives), w.Running())
		}
	}
	t.Logf("died after each of %d events", len(whole.Log)-1)
}

func TestControllerMayDieAfterEveryEventOfARetire(t *testing.T) {
	retired := func(dieAfter int) *World {
		w := deployed(t, 0)
		w.DieAfter = dieAfter
		if err := w.Do(engine.Retire{By: "test"}); err != nil {
			t.Fatal(err)
		}
		w.Until(func() bool { return w.Dead }, 20*time.Second)
		if w.Dead {
			w.TakeOver()
		}
		if !w.Until(settled(w, snapshot.Retired), time.Minute) {
			t.Fatalf("controller dead after event %d: %s: %s", dieAfter, w.Snapshot().State, w.Snapshot().Verdict)
		}
		return w
	}
	first, last := len(deployed(t, 0).Log)+1, len(retired(0).Log)
	for n := first; n <= last; n++ {
		w := retired(n)
		if w.Running() != 0 || len(w.Lives) != 10 {
			t.Errorf("controller dead after event %d: %d processes run of %d started; want none of 10", n, w.Running(), len(w.Lives))
		}
	}
	t.Logf("died after each of %d events", last-first+1)
}

// TestRandomHistories kills, cuts, heals and changes controllers at seeded moments while the field is ordered about: a hundred histories, three
// thousand with LANTERNFIELD_SOAK.
func TestRandomHistories(t *testing.T) {
	seeds := uint64(100)
	if os.Getenv("LANTERNFIELD_SOAK") != "" {
		seeds = 3000
	}
	for seed := uint64(1); seed <= seeds; seed++ {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 7))
			w := deployed(t, 0)
			f := ferries()
			for range 30 {
				members := state.EveryMember(w.State)
				m := members[random.IntN(len(members))]
				switch random.IntN(9) {
				case 0, 1:
					w.Kill(m.Name)
				case 2:
					w.Cut(f.Nodes[random.IntN(3)].Name)
				case 3:
					w.Heal(f.Nodes[random.IntN(3)].Name)
				case 4:
					w.Dead = true
					w.Run(time.Duration(random.IntN(2000)) * time.Millisecond)
					w.TakeOver()
				case 5:
					_ = w.Do(engine.StopMembers{Members: []field.MemberName{m.Name}})
				case 6:
					_ = w.Do(engine.StartMembers{Members: []field.MemberName{m.Name}})
				case 7:
					_ = w.Do(engine.RestartMembers{Members: []field.MemberName{m.Name}})
				case 8:
					f = ferries()
					f.Role("crews").Members = random.IntN(6)
					if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
						t.Fatal(err)
					}
				}
				w.Run(time.Duration(random.IntN(1500)) * time.Millisecond)
			}
			for _, n := range f.Nodes {
				w.Heal(n.Name)
			}
			f = ferries()
			f.Role("crews").Members = 5
			if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
				t.Fatal(err)
			}
			if !w.Until(settled(w, snapshot.Converged), 5*time.Minute) {
				t.Fatalf("%s: %s", w.Snapshot().State, w.Snapshot().Verdict)
			}
			if bad := w.Overlaps(); len(bad) > 0 {
				t.Errorf("two processes at the same time for %v", bad)
			}
			if w.Running() != 11 {
				t.Errorf("%d processes run, want 11", w.Running())
			}
			numbersGivenOnce(t, w)
			if len(w.Problems) > 0 {
				t.Errorf("problems: %v", w.Problems)
			}
		})
	}
}

// TestFoldingTheLogGivesTheState shows that a state is nothing but its events, also after they were stored.
func TestFoldingTheLogGivesTheState(t *testing.T) {
	w := deployed(t, 0)
	folded := state.NewState()
	for _, e := range w.Log {
		kind, data, err := state.EncodeFact(e.Fact)
		if err != nil {
			t.Fatal(err)
		}
		fact, err := state.DecodeFact(kind, data)
		if err != nil {
			t.Fatal(err)
		}
		state.Apply(folded, state.Event{At: e.At, Fact: fact})
	}
	got, want := fmt.Sprintf("%+v", snapshot.Of(folded, w.Now)), fmt.Sprintf("%+v", w.Snapshot())
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got, want := engine.Commands(folded), engine.Commands(w.State); !slices.EqualFunc(got, want, func(a, b engine.Command) bool { return a.Node == b.Node }) {
		t.Errorf("commands: got %v, want %v", got, want)
	}
}

// TestOldLogsAreStillRead folds a log that an earlier version wrote and looks at what it says.
func TestOldLogsAreStillRead(t *testing.T) {
	if *update {
		w := deployed(t, 0)
		w.Lead("wardens-2", 3)
		w.Kill("relays-1")
		w.Run(500 * time.Millisecond)
		var b strings.Builder
		for _, e := range w.Log {
			kind, data, err := state.EncodeFact(e.Fact)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprintf(&b, "%d\t%s\t%s\n", e.At.UnixNano(), kind, data)
		}
		if _, err := os.Stat("testdata/log-1.tsv"); os.IsNotExist(err) { // old logs are never written anew
			if err := os.WriteFile("testdata/log-1.tsv", []byte(b.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	data, err := os.ReadFile("testdata/log-1.tsv")
	if err != nil {
		t.Fatal(err)
	}
	s := state.NewState()
	var last time.Time
	for _, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
		parts := strings.SplitN(line, "\t", 3)
		fact, err := state.DecodeFact(parts[1], []byte(parts[2]))
		if err != nil {
			t.Fatal(err)
		}
		var nanos int64
		fmt.Sscan(parts[0], &nanos)
		last = time.Unix(0, nanos).UTC()
		state.Apply(s, state.Event{At: last, Fact: fact})
	}
	snap := snapshot.Of(s, last)
	want := "9 of 10 lit · relays-1 is dark: was killed by signal 9 (KILL)"
	if snap.State != snapshot.Degraded || snap.Verdict != want || len(snap.Members) != 10 || snap.Roles[0].Leader != "wardens-2" {
		t.Errorf("got %s: %s (%d members, leader %s)", snap.State, snap.Verdict, len(snap.Members), snap.Roles[0].Leader)
	}
}

package rehearse

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// told folds a log and gives its newest rollout or task, and all that there were, as they were recorded.
func told(w *World) (*rollout.Record, []*rollout.Record) {
	var book rollout.Book
	var recorders []*rollout.Recorder
	then := state.NewState()
	for _, e := range w.Log {
		state.Apply(then, e)
		book.Note(then, e)
		if r := book.Newest(); r != nil && (len(recorders) == 0 || recorders[len(recorders)-1] != r) {
			recorders = append(recorders, r)
		}
	}
	var all []*rollout.Record
	for _, r := range recorders {
		all = append(all, r.Record(then, w.Now))
	}
	newest := book.Newest().Record(then, w.Now)
	newest.Expect(then)
	return newest, all
}

// TestRecordsAreWholeInAnyHistory goes through random histories: whatever happens, each record is a story without holes, and a book that begins later
// tells the same of what goes on.
func TestRecordsAreWholeInAnyHistory(t *testing.T) {
	for seed := uint64(1); seed <= 40; seed++ {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 11))
			w := deployed(t, 0)
			for range 25 {
				scramble(t, w, random)
				w.Run(time.Duration(random.IntN(1500)) * time.Millisecond)
				newest, all := told(w)
				for _, r := range append(all, newest) {
					whole(t, r)
				}
				later(t, w, newest)
			}
		})
	}
}

// scramble does one of the things that happen to fields, and that people do to them.
func scramble(t *testing.T, w *World, random *rand.Rand) {
	t.Helper()
	members := state.EveryMember(w.State)
	m := members[random.IntN(len(members))]
	switch random.IntN(7) {
	case 0:
		w.Kill(m.Name)
	case 1:
		w.Cut(m.Node)
	case 2:
		w.Heal(m.Node)
	case 3:
		_ = w.Do(engine.RestartMembers{Members: []field.MemberName{m.Name}})
	case 4:
		_ = w.Do(engine.StopMembers{Members: []field.MemberName{m.Name}})
	case 5:
		_ = w.Do(engine.StopRollout{By: "test"})
	case 6:
		f := ferries()
		f.Role("crews").Members = random.IntN(6)
		if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
			t.Fatal(err)
		}
	}
}

// whole checks that a record has no holes and says nothing that cannot be.
func whole(t *testing.T, r *rollout.Record) {
	t.Helper()
	if r.End().Before(r.Began) {
		t.Errorf("%s ends before it begins", r.Title())
	}
	for _, row := range r.Rows {
		for i, s := range row.Segments {
			last := i == len(row.Segments)-1
			switch {
			case s.From.Before(r.Began) && i > 0:
				t.Errorf("%s of %s: a segment from before it began", row.Member, r.Title())
			case !last && (s.To.IsZero() || !s.To.Equal(row.Segments[i+1].From)):
				t.Errorf("%s of %s: a hole after %s: %v to %v", row.Member, r.Title(), s.Phase, s.To, row.Segments[i+1].From)
			case !s.To.IsZero() && s.To.Before(s.From):
				t.Errorf("%s of %s: %s ends before it begins", row.Member, r.Title(), s.Phase)
			case last && s.To.IsZero() != r.Active():
				t.Errorf("%s of %s: its last segment ends %v", row.Member, r.Title(), s.To)
			}
		}
		if row.After != nil && !row.Begun.IsZero() && row.After.At.After(row.Begun) {
			t.Errorf("%s of %s: its turn came before what it had waited for", row.Member, r.Title())
		}
		if r.Outcome == state.Completed && r.What == "deploy" && row.Action == rollout.Comes && row.Done.IsZero() {
			t.Errorf("%s came to its end without %s", r.Title(), row.Member)
		}
	}
	if e := r.Expected; e != nil && (e.Low > e.Left || e.Left > e.High || e.Low < 0) {
		t.Errorf("%s: %+v", r.Title(), *e)
	}
}

// later has a book begin where what goes on began, as a keeper does that takes over.
func later(t *testing.T, w *World, newest *rollout.Record) {
	t.Helper()
	var book rollout.Book
	then, begins := state.NewState(), false
	for _, e := range w.Log {
		state.Apply(then, e)
		if begins = begins || !e.At.Before(newest.Began); begins { // reports that come late are from before
			book.Note(then, e)
		}
	}
	found := book.Of(newest.Number, newest.Task)
	if found == nil {
		t.Fatalf("a book that begins later has no %s", newest.Title())
	}
	again := found.Record(then, w.Now)
	again.Expect(then)
	if !reflect.DeepEqual(again.Rows, newest.Rows) || !reflect.DeepEqual(again.Gates, newest.Gates) {
		t.Errorf("a book that begins later tells otherwise of %s", newest.Title())
	}
}

// TestEstimatesComeTrue knows how long members take, and has it compared with the truth before and on the way.
func TestEstimatesComeTrue(t *testing.T) {
	near := func(what string, got, want time.Duration) {
		t.Helper()
		if differ := (got - want).Abs(); differ > want/10+300*time.Millisecond {
			t.Errorf("%s: %s was expected, and it was %s", what, got, want)
		}
	}
	w := New(begin)
	w.TakeOver()
	w.ReadyAfter = map[field.RoleName]time.Duration{"wardens": 8 * time.Second, "relays": 4 * time.Second, "crews": 12 * time.Second}
	deploy := func(f *field.Field) {
		t.Helper()
		if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
			t.Fatal(err)
		}
	}
	end := func(want snapshot.Condition) time.Duration {
		t.Helper()
		began := w.Now
		if !w.Until(func() bool { return w.Snapshot().State == want && !w.State.Rollout.Active() }, 10*time.Minute) {
			t.Fatalf("%s: %s", w.Snapshot().State, w.Snapshot().Verdict)
		}
		return w.Now.Sub(began)
	}
	deploy(ferries())
	w.Run(2 * time.Second)
	if r, _ := told(w); len(r.Expected.Unknown) == 0 {
		t.Errorf("the first time it is said how long it takes: %+v", r.Expected)
	}
	end(snapshot.Converged)
	if err := w.Do(engine.Retire{By: "test"}); err != nil {
		t.Fatal(err)
	}
	end(snapshot.Retired)

	ahead, err := review.Of(w.State, ferries())
	if err != nil {
		t.Fatal(err)
	}
	rollout.Ahead(w.State, ferries(), ahead, w.Now)
	if ahead.Expected == nil || len(ahead.Expected.Unknown) > 0 {
		t.Fatalf("what was seen before the retire is forgotten: %+v", ahead.Expected)
	}
	began := w.Now
	deploy(ferries())
	var said []time.Duration
	var at []time.Time
	for range 4 {
		w.Run(3 * time.Second)
		if r, _ := told(w); r.Active() {
			said, at = append(said, r.Expected.Left), append(at, w.Now)
		}
	}
	end(snapshot.Converged)
	near("the whole deploy, beforehand", ahead.Expected.Left, w.Now.Sub(began))
	for i := range said {
		near(fmt.Sprintf("what was left after %s", at[i].Sub(began)), said[i], w.Now.Sub(at[i]))
	}
	var longest time.Duration
	for _, s := range ahead.Steps {
		longest = max(longest, s.Takes)
	}
	near("the longest step", longest, 12*time.Second)

	if err := w.Do(engine.RestartMembers{Members: []field.MemberName{"wardens-1", "wardens-2", "wardens-3"}, By: "test"}); err != nil {
		t.Fatal(err)
	}
	w.Run(5 * time.Second)
	r, _ := told(w)
	if r.Task == 0 || len(r.Rows) != 3 {
		t.Fatalf("a restart is told as %s with %d rows", r.Title(), len(r.Rows))
	}
	left, asked := r.Expected.Left, w.Now
	w.Until(func() bool { return !w.State.UnderWay() }, 10*time.Minute)
	near("a restart one by one", left, w.Now.Sub(asked))
}

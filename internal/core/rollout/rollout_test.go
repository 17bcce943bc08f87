package rollout

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func after(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }

// ferries is a field in which crews wait for relays, one of which is stuck.
func ferries() *snapshot.Snapshot {
	snap := &snapshot.Snapshot{At: after(41), Roles: []snapshot.RoleView{
		{Role: "relays", Want: 3, Ready: 1},
		{Role: "crews", Want: 3, Gates: []state.Gate{{On: "relays", Gate: field.GateAll, Have: 1, Need: 3}}}}}
	usual := pace.Usual{Times: 9, Median: 14 * time.Second, High: 20 * time.Second, Longest: 22 * time.Second}
	snap.Members = []snapshot.MemberView{
		{Member: "relays-1", Role: "relays", Phase: state.Ready},
		{Member: "relays-2", Role: "relays", Phase: state.Joining, Since: noon, PID: 7, Usual: usual, WaitsFor: "relays to list it as a member", Signs: snapshot.Signs{Wrote: after(11), Worked: after(5)}},
		{Member: "relays-3", Role: "relays", Phase: state.Starting, Since: after(35), PID: 8, Usual: usual, WaitsFor: "its ready probe to succeed"},
		{Member: "crews-1", Role: "crews", Phase: state.Planned, WaitsFor: "relays: all (1 of 3 ready)"},
		{Member: "crews-3", Role: "crews", Phase: state.Planned, WaitsFor: "relays: all (1 of 3 ready)", WaitsOn: "crews-1"},
	}
	for i := range snap.Members {
		snap.Members[i].Judge(snap.At)
	}
	return snap
}

// TestReasonsGoDownToTheRoot follows a wait to the one that is worst off, with the evidence.
func TestReasonsGoDownToTheRoot(t *testing.T) {
	snap := ferries()
	got := Reasons(snap, "crews-3")
	if len(got) != 2 || got[0] != "crews-3 waits for relays: all (1 of 3 ready)" {
		t.Fatalf("%q", got)
	}
	for _, want := range []string{"relays-2 is joining, and stuck: 41 s", "usually 14 s", "its log has been silent for 30 s", "it waits for relays to list it"} {
		if !strings.Contains(got[1], want) {
			t.Errorf("%q does not say %q", got[1], want)
		}
	}
	snap.Members[2].Phase, snap.Members[2].LastExit, snap.Members[2].Attempt = state.Failed, "ended with exit code 3", 4
	if got = Reasons(snap, "crews-3"); !strings.Contains(got[1], "relays-3 has failed: ended with exit code 3, 4 times in a row") {
		t.Errorf("what has failed is the reason before what is slow: %q", got)
	}
	if got = Reasons(snap, "relays-1"); len(got) != 0 {
		t.Errorf("who is lit waits for nothing: %q", got)
	}
	snap.Roles[1].Gates = nil
	if got = Reasons(snap, "crews-3"); len(got) != 2 || !strings.HasPrefix(got[1], "crews-1 waits") {
		t.Errorf("behind an open gate it waits for its turn: %q", got)
	}
	snap.Members[3].WaitsOn = "crews-3" // which cannot be, and must not be followed for ever
	if got = Reasons(snap, "crews-3"); len(got) != 2 {
		t.Errorf("two that wait for each other: %q", got)
	}
}

// TestNothingIsExpectedOfWhatIsStuck has neither the stuck one nor whoever waits for it be expected at any time.
func TestNothingIsExpectedOfWhatIsStuck(t *testing.T) {
	r := &Record{Began: noon, At: after(41), Expected: &pace.Estimate{Left: time.Minute, Low: time.Minute, High: time.Minute}}
	row := func(name field.MemberName, phase state.Phase, after *Cause) {
		r.Rows = append(r.Rows, Row{Member: name, Role: "x", Action: Comes, Segments: []Segment{{Phase: phase, From: noon}}, Expected: &Expected{Known: true, After: after}})
	}
	row("relays-2", state.Joining, nil)
	row("relays-3", state.Starting, nil)
	row("crews-1", state.Planned, &Cause{Kind: AGate, Member: "relays-2"})
	row("pier-1", state.Planned, &Cause{Kind: AGate, Member: "crews-1"})
	row("lookout-1", state.Planned, &Cause{Kind: AGate, Member: "relays-3"})
	r.Judge(ferries())
	var known []field.MemberName
	for _, row := range r.Rows {
		if row.Expected.Known {
			known = append(known, row.Member)
		}
	}
	if !slices.Equal(known, []field.MemberName{"relays-3", "lookout-1"}) {
		t.Errorf("it is known when %v are done", known)
	}
	if got := r.Expected.Words(); got != "about 60 s more, once relays-2 goes on, which is stuck" {
		t.Errorf("%q", got)
	}
}

// TestWordsOfEstimates says what is known, and no more.
func TestWordsOfEstimates(t *testing.T) {
	s := time.Second
	for _, c := range []struct {
		e    pace.Estimate
		want string
	}{
		{pace.Estimate{}, "almost done"},
		{pace.Estimate{Left: 14 * s, Low: 14 * s, High: 14 * s}, "about 14 s more"},
		{pace.Estimate{Left: 240 * s, Low: 180 * s, High: 360 * s}, "about 4 min more (3 min to 6 min)"},
		{pace.Estimate{Left: 150 * s, Low: 150 * s, High: 151 * s}, "about 2½ min more"},
		{pace.Estimate{Left: 23 * s, Low: 21 * s, High: 52 * s, Unknown: []field.RoleName{"crews"}}, "about 25 s more (20 s to 50 s), and what crews takes, which was never seen"},
		{pace.Estimate{Unknown: []field.RoleName{"crews", "pier"}}, "how much longer is not known: how long crews, pier take was never seen"},
		{pace.Estimate{Left: 3 * time.Hour, Low: 3 * time.Hour, High: 3 * time.Hour}, "about 3 h 0 min more"},
	} {
		if got := c.e.Words(); got != c.want {
			t.Errorf("%+v: %q, want %q", c.e, got, c.want)
		}
	}
}

// TestFasterThanLastTime compares only what hardly anybody would call the same.
func TestFasterThanLastTime(t *testing.T) {
	for _, c := range []struct {
		took, before time.Duration
		want         string
	}{
		{102 * time.Second, 114 * time.Second, "took 1 min 42 s, 12 s faster than last time"},
		{114 * time.Second, 102 * time.Second, "took 1 min 54 s, 12 s slower than last time"},
		{100 * time.Second, 102 * time.Second, "took 1 min 40 s, as long as last time"},
		{100 * time.Second, 0, "took 1 min 40 s"},
	} {
		r := &Record{What: "deploy", Began: noon, Ended: noon.Add(c.took), Outcome: state.Completed}
		if c.before > 0 {
			r.Before = &Before{Took: c.before}
		}
		if got := r.Standing(); got != c.want {
			t.Errorf("%q, want %q", got, c.want)
		}
	}
}

// TestABookForgetsWhatHasEndedLongAgo keeps what goes on, however old it is.
func TestABookForgetsWhatHasEndedLongAgo(t *testing.T) {
	var b Book
	old := &Recorder{record: Record{Number: 1}}
	b.recorders = append(b.recorders, old)
	for i := range 30 {
		b.recorders = append(b.recorders, &Recorder{record: Record{Task: i + 1, Ended: after(i + 1)}})
		b.forget()
	}
	if b.Of(1, 0) != old || b.Newest() != old {
		t.Error("what goes on was forgotten")
	}
	if n := len(b.recorders); n != mostEnded+1 || b.Of(0, 30) == nil || b.Of(0, 1) != nil {
		t.Errorf("%d are kept", n)
	}
}

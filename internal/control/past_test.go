package control

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

func TestTideKeepsOrderWhenReportsComeLate(t *testing.T) {
	s := state.NewState()
	var tide timeline
	at := func(sec int) time.Time { return time.Unix(int64(sec), 0) }
	note := func(sec int, f state.Fact) {
		e := state.Event{At: at(sec), Fact: f}
		state.Apply(s, e)
		tide.note(s, e)
	}
	note(1, state.Accepted{Field: sleepers(1), By: "test"})
	planned := state.MemberPlanned{Number: 1}
	planned.Name, planned.Role, planned.Node = "crews-1", "crews", "gull-1"
	note(1, planned)
	note(10, state.MemberReady{Member: "crews-1"})
	note(20, state.RolloutEnded{What: "deploy"})
	note(15, state.MemberExited{Member: "crews-1"})
	got := ""
	for _, x := range tide.since(time.Time{}) {
		got += fmt.Sprintf("%d:%d/%d %s|", x.At.Unix(), x.Lit, x.Want, x.Mark)
	}
	if want := "1:0/1 deploy|10:1/1 |15:0/1 crews-1 dark|20:1/1 deploy done|"; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if n := len(tide.since(at(12))); n != 3 {
		t.Errorf("since 12: %d samples, want the one before and two", n)
	}
}

// TestTideCountsTogetherWhatComesTogether has a thousand members come up within milliseconds, and one end among them: the whole field is counted a few times, the end is
// not lost, and the last count is of all.
func TestTideCountsTogetherWhatComesTogether(t *testing.T) {
	s := state.NewState()
	var tide timeline
	begin := time.Unix(1, 0)
	note := func(after time.Duration, f state.Fact) {
		e := state.Event{At: begin.Add(after), Fact: f}
		state.Apply(s, e)
		tide.note(s, e)
	}
	const members = 1000
	draft := sleepers(members)
	note(0, state.Accepted{Field: draft, By: "test"})
	for i := range members {
		planned := state.MemberPlanned{Number: i + 1}
		planned.Name, planned.Role, planned.Node = draft.Roles[0].Name.Member(i+1), "crews", "gull-1"
		note(0, planned)
		note(0, state.MemberOrdered{Order: order.Order{Revision: uint64(i + 1), Member: planned.Name, Want: order.Run, Spec: &order.Spec{}}, Draft: true})
		note(0, state.MemberStarted{Member: planned.Name, Incarnation: 1, PID: 100 + i})
	}
	for i := range members {
		note(time.Second+time.Duration(i)*50*time.Microsecond, state.MemberReady{Member: draft.Roles[0].Name.Member(i + 1)})
		if i == members/2 {
			note(time.Second+time.Duration(i)*50*time.Microsecond, state.MemberExited{Member: "crews-1", Exit: order.Exit{Known: true, Code: 3}})
		}
	}
	tide.settle(s)
	got := tide.since(begin)
	last := got[len(got)-1]
	if len(got) > 12 || last.Lit != members-1 || !last.At.Equal(begin.Add(time.Second+(members-1)*50*time.Microsecond)) {
		t.Errorf("%d samples, the last %+v", len(got), last)
	}
	if !slices.ContainsFunc(got, func(x Sample) bool { return x.Mark == "crews-1 dark" && x.Lit == members/2 }) {
		t.Errorf("that one has ended is not among %+v", got)
	}
}

// TestThePastAndTheLinesOfMembers looks back and reads what members wrote, through both kinds of session.
func TestThePastAndTheLinesOfMembers(t *testing.T) {
	f := folder(t)
	ctx := context.Background()
	first := open(t, f)
	draft := sleepers(2)
	draft.Roles[0].Program.Command = []string{"sh", "-c", `echo "2026-01-01T12:00:00Z the bell"; printf 'ding\033[2Jdong\n'; exec sleep 600`}
	before := time.Now()
	if err := first.Do(ctx, Request{What: "deploy", Draft: draft, By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, first, "converged", in(snapshot.Converged))
	lit := time.Now()
	if err := first.Do(ctx, Request{What: "stop", Names: []string{"crews"}}); err != nil {
		t.Fatal(err)
	}
	await(t, first, "stopped", in(snapshot.Stopped))
	for _, s := range []Session{first, open(t, f)} {
		for at, want := range map[time.Time]snapshot.Condition{before: snapshot.Draft, lit: snapshot.Converged, time.Now(): snapshot.Stopped} {
			if past, err := s.Past(ctx, at); err != nil || past.State != want || !past.At.Equal(at) {
				t.Errorf("%T: %+v, %v; want %s", s, past, err, want)
			}
		}
		lines, err := s.Lines(ctx, map[field.MemberName]int64{"crews-1": -1, "crews-9": -1})
		if err != nil || len(lines) != 1 || len(lines["crews-1"].Lines) != 2 {
			t.Fatalf("%T: lines %+v, %v", s, lines, err)
		}
		own, seen := lines["crews-1"].Lines[0], lines["crews-1"].Lines[1]
		if own.Text != "the bell" || own.About || own.At.Year() != 2026 || own.At.Month() != 1 || seen.Text != "dingdong" || !seen.About || seen.At.Before(before.Add(-time.Second)) {
			t.Errorf("%T: %+v, %+v", s, own, seen)
		}
		if more, err := s.Lines(ctx, map[field.MemberName]int64{"crews-1": lines["crews-1"].Next}); err != nil || len(more["crews-1"].Lines) != 0 {
			t.Errorf("%T: nothing more was written, and it gives %+v, %v", s, more, err)
		}
		entries, err := s.Journal(ctx, Range{})
		about := 0
		for _, e := range entries {
			if e.Member == "crews-1" && e.Kind == "member-ready" && e.Level == state.LevelInfo {
				about++
			}
		}
		if err != nil || about != 1 {
			t.Errorf("%T: %d events say that crews-1 is ready, %v", s, about, err)
		}
		if err := s.Do(ctx, Request{What: "pause"}); err == nil || !strings.Contains(err.Error(), "nothing is under way") {
			t.Errorf("%T: paused: %v", s, err)
		}
	}
}

// TestWordsOfLinesMayBeZones has a zone stand for its nodes, and one that is misspelt be found.
func TestWordsOfLinesMayBeZones(t *testing.T) {
	s := state.NewState()
	s.Field = &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "north-quay"}, {Name: "gull-2", Zone: "north-quay"}, {Name: "tern-1", Zone: "south-quay"}}, Roles: []field.Role{{Name: "crews"}}}
	s.Members["crews-1"] = &state.Member{Member: place.Member{Name: "crews-1", Role: "crews", Node: "gull-1"}, Phase: state.Ready}
	if got := zonesAsNodes(s, []string{"north-quay", "crews", "south-quay"}); !slices.Equal(got, []string{"gull-1", "crews", "south-quay"}) {
		t.Errorf("got %q", got)
	}
	if got := zoneNear(s, []string{"crews", "nort-quay"}); got != "north-quay" {
		t.Errorf("near it is %q", got)
	}
	if got := zoneNear(s, []string{"north-quay", "abacus"}); got != "" {
		t.Errorf("near nothing is %q", got)
	}
}

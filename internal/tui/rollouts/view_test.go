package rollouts

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func after(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }

// unfolding is a deploy of many: wardens are done, relays on their way, one of them stuck, crews wait.
func unfolding() *rollout.Record {
	r := &rollout.Record{Number: 2, What: "deploy", Began: noon, At: after(60), Gates: []rollout.Gate{
		{Role: "relays", Since: noon, Opened: after(10), By: "wardens-2", Gate: state.Gate{On: "wardens", Gate: field.GateAll, Have: 3, Need: 3, Open: true}},
		{Role: "crews", Since: noon, Gate: state.Gate{On: "relays", Gate: field.GateAll, Have: 4, Need: 6}}}}
	add := func(role field.RoleName, n int, segments func(i int) (done time.Time, all []rollout.Segment)) {
		for i := range n {
			done, all := segments(i)
			row := rollout.Row{Member: field.MemberName(fmt.Sprintf("%s-%d", role, i+1)), Role: role, Action: rollout.Comes, Segments: all, Done: done}
			if len(all) > 1 || !done.IsZero() {
				row.Begun = all[0].To
			}
			r.Rows = append(r.Rows, row)
		}
	}
	add("wardens", 3, func(int) (time.Time, []rollout.Segment) {
		return after(10), []rollout.Segment{{Phase: state.Starting, From: noon, To: after(10)}, {Phase: state.Ready, From: after(10)}}
	})
	add("relays", 6, func(i int) (time.Time, []rollout.Segment) {
		waits := rollout.Segment{Phase: state.Planned, From: noon, To: after(10)}
		if i < 4 {
			return after(20), []rollout.Segment{waits, {Phase: state.Starting, From: after(10), To: after(20)}, {Phase: state.Ready, From: after(20)}}
		}
		return time.Time{}, []rollout.Segment{waits, {Phase: state.Starting, From: after(10), Usual: pace.Usual{Times: 9, Median: 10 * time.Second, High: 10 * time.Second, Longest: 10 * time.Second}}}
	})
	r.Row("relays-6").Pace = &pace.Judgement{Word: pace.Stuck, For: 50 * time.Second}
	add("crews", 40, func(int) (time.Time, []rollout.Segment) {
		return time.Time{}, []rollout.Segment{{Phase: state.Planned, From: noon}}
	})
	return r
}

func drawn(v *View, w, h int, k theme.Theme) string {
	g := grid.New(w, h, k.Text())
	v.Draw(g, k, Seen{Now: after(60), Snap: &snapshot.Snapshot{}}, board.Area{W: w, H: h})
	return g.Plain()
}

// TestWhatIsDoneIsFoldedFirst has more members than lines: who is on the way is shown each, the others as bands.
func TestWhatIsDoneIsFoldedFirst(t *testing.T) {
	v := &View{Record: unfolding()}
	text := drawn(v, 120, 30, theme.Theme{})
	for _, want := range []string{"deploy 2", "7 of 49 done", "wardens-1", "relays-6", "stuck: 50 s, usually 10 s", "▸ crews", "relays: all (4 of 6 ready)", "wardens: all", "0 of 40", "now ▾"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not show %q:\n%s", want, text)
		}
	}
	if strings.Contains(text, "crews-1") {
		t.Errorf("those that wait are not folded:\n%s", text)
	}
	v.Role = "crews"
	v.Fold()
	if text = drawn(v, 120, 30, theme.Theme{}); !strings.Contains(text, "▾ crews") || !strings.Contains(text, "crews-1 ") || !strings.Contains(text, " more ▾") {
		t.Errorf("unfolded:\n%s", text)
	}
	v.Move(1 << 20)
	if text = drawn(v, 120, 30, theme.Theme{}); v.Member != "crews-40" || !strings.Contains(text, "crews-40") {
		t.Errorf("at the end it stands on %q:\n%s", v.Member, text)
	}
}

// TestTheWorstOffComesFirst goes through those that are not done.
func TestTheWorstOffComesFirst(t *testing.T) {
	v := &View{Record: unfolding()}
	drawn(v, 120, 30, theme.Theme{})
	for _, want := range []field.MemberName{"relays-6", "relays-5", "crews-1", "crews-2"} {
		if !v.ToWaiting() || v.Member != want {
			t.Errorf("it goes to %s, want %s", v.Member, want)
		}
	}
	if v.Role = "relays"; v.Row() == nil {
		t.Error("a role has no row to speak of")
	}
	if v.Member = ""; v.Row().Member != "relays-6" {
		t.Errorf("of a role it speaks of %s", v.Row().Member)
	}
	r := unfolding()
	for i := range r.Rows {
		r.Rows[i].Done = after(50)
	}
	if v.Record = r; v.ToWaiting() {
		t.Error("all are done, and it goes on")
	}
}

// TestEveryShapeIsToldWithoutColour draws all phases in ASCII, each by a sign of its own.
func TestEveryShapeIsToldWithoutColour(t *testing.T) {
	r := &rollout.Record{Number: 1, What: "deploy", Began: noon, At: after(80)}
	phases := []state.Phase{state.Planned, state.Placing, state.Starting, state.Joining, state.Ready, state.Failed, state.Unknown, state.Draining}
	var row rollout.Row
	for i, p := range phases {
		row.Segments = append(row.Segments, rollout.Segment{Phase: p, From: after(10 * i), To: after(10*i + 10)})
	}
	row.Segments[len(phases)-1].To = time.Time{}
	row.Member, row.Role, row.Action = "relays-1", "relays", rollout.Comes
	r.Rows = []rollout.Row{row}
	text := drawn(&View{Record: r}, 120, 14, theme.Theme{ASCII: true})
	for _, want := range []string{"....", "----", "====", "####", "*____", "xxxx", "????", "~~~~"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q:\n%s", want, text)
		}
	}
	for _, r := range text {
		if r > 126 {
			t.Fatalf("%q is no ASCII", r)
		}
	}
}

// TestItFitsAnyScreen draws it on screens of every size, with and without anything to show.
func TestItFitsAnyScreen(t *testing.T) {
	for _, record := range []*rollout.Record{nil, unfolding(), {What: "restart", Began: noon, At: noon}} {
		for w := 10; w < 200; w += 7 {
			for h := 1; h < 50; h += 3 {
				v := &View{Record: record, Other: unfolding()}
				drawn(v, w, h, theme.Theme{})
				v.ToWaiting()
				v.Move(5)
				v.Fold()
				drawn(v, w, h, theme.Theme{ASCII: true})
			}
		}
	}
}

// TestComparedWithTheOneBefore says of each member how much earlier or later it was done.
func TestComparedWithTheOneBefore(t *testing.T) {
	other := unfolding()
	other.Number, other.Ended = 1, after(30)
	for i := range other.Rows[:3] {
		other.Rows[i].Done = after(4)
	}
	text := drawn(&View{Record: unfolding(), Other: other}, 140, 40, theme.Theme{})
	for _, want := range []string{"beside deploy 1, which took 30 s", "+6.0 s", "+1 ms", "◇"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not show %q:\n%s", want, text)
		}
	}
}

package draw

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/state"
)

var began = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

func after(seconds int) time.Time { return began.Add(time.Duration(seconds) * time.Second) }

// texts are all texts of a drawing, in one line.
func texts(d *Drawing) string {
	var all []string
	for _, s := range d.Shapes {
		if s.Kind == Text {
			all = append(all, s.Text)
		}
	}
	return strings.Join(all, " | ")
}

// within checks that nothing is drawn beside the page, and that it can be written in both forms.
func within(t *testing.T, what string, d *Drawing) {
	t.Helper()
	for _, s := range d.Shapes {
		if s.X < 0 || s.Y < 0 || s.X > d.W || s.Y > d.H || s.Kind != Text && s.Kind != Disc && (s.X+s.W > d.W+1 || s.Y+s.H > d.H+1) {
			t.Errorf("%s: %s %q at %.0f %.0f, %.0f by %.0f, is beside the page of %.0f by %.0f", what, s.Kind, s.Text, s.X, s.Y, s.W, s.H, d.W, d.H)
			return
		}
	}
	for _, name := range []string{"x.svg", "x.pdf"} {
		var b bytes.Buffer
		if err := d.Write(&b, name); err != nil || b.Len() < 1000 {
			t.Errorf("%s as %s: %d bytes, %v", what, name, b.Len(), err)
		}
	}
}

// TestARolloutIsDrawn draws one that goes on, with a member of each kind, and one that has ended.
func TestARolloutIsDrawn(t *testing.T) {
	r := &rollout.Record{Number: 3, What: "deploy", By: "somebody", Began: began, At: after(40), Rows: []rollout.Row{
		{Member: "wardens-1", Role: "wardens", Action: rollout.Comes, Begun: after(1), Done: after(10), Segments: []rollout.Segment{{Phase: state.Placing, From: after(1), To: after(2)}, {Phase: state.Starting, From: after(2), To: after(10)}, {Phase: state.Ready, From: after(10)}}},
		{Member: "crews-1", Role: "crews", Action: rollout.Comes, Segments: []rollout.Segment{{Phase: state.Planned, From: began}}, Expected: &rollout.Expected{Begin: after(50), End: after(90), Known: true}},
		{Member: "crews-2", Role: "crews", Action: rollout.Changes, Begun: after(3), Segments: []rollout.Segment{{Phase: state.Ready, Due: true, From: began, To: after(3)}, {Phase: state.Stopping, From: after(3), To: after(5)}, {Phase: state.Joining, From: after(5), To: after(9)}, {Phase: state.Failed, From: after(9)}}}},
		Gates: []rollout.Gate{{Role: "crews", Since: began, Gate: state.Gate{On: "wardens", Gate: field.GateQuorum, Have: 1, Need: 2}}},
		Chain: []rollout.Link{{Member: "wardens-1"}, {Member: "crews-1"}}}
	d := Rollout("saltmarsh", r, Light)
	within(t, "one that goes on", d)
	for _, want := range []string{"saltmarsh, deploy 3", "1 of 3 done", "what decides: wardens-1 → crews-1", "crews-2", "wardens: quorum (1 of 2 ready)", "now", "30 s", "failed"} {
		if !strings.Contains(texts(d), want) {
			t.Errorf("%q is not in %s", want, texts(d))
		}
	}
	r.Ended, r.Outcome, r.Gates[0].Opened = after(40), state.Completed, after(12)
	d = Rollout("saltmarsh", r, Night)
	within(t, "one that has ended", d)
	if got := texts(d); strings.Contains(got, "now |") || !strings.Contains(got, "wardens: quorum |") || !strings.Contains(got, "took 40 s") {
		t.Errorf("of one that has ended it says %s", got)
	}
	within(t, "one without anybody", Rollout("saltmarsh", &rollout.Record{What: "restart", Began: began, At: began}, Light))
}

// TestHealthIsDrawn draws charts of every shape, with gaps, with nothing, and with one value for ever.
func TestHealthIsDrawn(t *testing.T) {
	told := &health.Told{Role: "wardens", From: began, To: after(600), Parts: 100, Marks: []health.Mark{{At: after(300), Text: "wardens-1 dark"}}}
	parts := func(value func(i int) float64) []health.Part {
		out := make([]health.Part, 100)
		for i := range out {
			if i%50 < 40 {
				out[i] = health.Part{N: 1, Mid: value(i), Low: value(i) / 2, High: 2 * value(i)}
			}
		}
		return out
	}
	flat := make([]health.Part, 100)
	for i := range flat {
		flat[i] = health.Part{N: 1}
	}
	told.Charts = []health.Chart{
		{Name: "ready", About: "ready", Unit: "members", Shape: health.Steps, Band: parts(func(i int) float64 { return float64(2 + i/50) })},
		{Name: "survives", About: "survives", Unit: "members", Shape: health.Steps, Band: parts(func(int) float64 { return -1 })},
		{Name: "leader", About: "who led", Shape: health.Ribbon, Band: parts(func(i int) float64 { return float64(i / 30) })},
		{Name: "latency", About: "probe", Unit: "ms", Shape: health.Curve, Band: parts(func(i int) float64 { return 1 + float64(i)/10 })},
		{Name: "memory", About: "memory", Unit: "bytes", Shape: health.Curve, Band: parts(func(i int) float64 { return 5e6 }), Lines: []health.Line{{Of: "wardens-1", Parts: parts(func(int) float64 { return 5e6 })}}},
		{Name: "read", About: "read", Unit: "bytes/s", Shape: health.Curve, Band: flat},
		{Name: "none", About: "nothing", Shape: health.Curve, Band: make([]health.Part, 100)},
	}
	d := Health("saltmarsh", told, Light)
	within(t, "health", d)
	got := texts(d)
	for _, want := range []string{"saltmarsh, wardens", "ready, members", "probe, ms", "MiB", "09:05", "wardens-1 dark", "nobody"} {
		if !strings.Contains(got, want) && !(want == "09:05" && strings.Contains(got, after(300).Local().Format("15:04"))) {
			t.Errorf("%q is not in %s", want, got)
		}
	}
	if before, _, _ := strings.Cut(got, "probe, ms"); strings.Contains(before, ".5 |") {
		t.Errorf("half a member: %s", got)
	}
	within(t, "health of nothing", Health("saltmarsh", &health.Told{Role: "crews", From: began, To: after(1), Parts: 1}, Night))
}

// TestTicksAreRound has numbers at the side of charts that hold the span, and are easy to read.
func TestTicksAreRound(t *testing.T) {
	for _, c := range []struct {
		low, high float64
		unit      string
		shape     health.Shape
		want      string
	}{
		{0.4, 5.6, "ms", health.Curve, "0 2 4 6"},
		{6, 9 << 20, "bytes", health.Curve, "0 B 2 MiB 4 MiB 6 MiB 8 MiB 10 MiB"},
		{0, 0, "bytes/s", health.Curve, "0 B/s 1 B/s 2 B/s 3 B/s 4 B/s"},
		{0, 1, "members", health.Steps, "0 1"},
		{-1, 1, "members", health.Steps, "-1 0 1"},
		{0, 3, "members", health.Steps, "0 1 2 3"},
		{100, 101, "ms", health.Curve, "100 100.25 100.5 100.75 101"},
	} {
		var words []string
		for _, v := range ticksOf(c.low, c.high, &health.Chart{Unit: c.unit, Shape: c.shape}) {
			words = append(words, amount(v, c.unit))
		}
		if got := strings.Join(words, " "); got != c.want {
			t.Errorf("%v to %v %s: %q, want %q", c.low, c.high, c.unit, got, c.want)
		}
	}
}

package charts

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

// told is a role of which everything was measured, in parts of a second, and nothing in the middle.
func told(parts int) *health.Told {
	t := &health.Told{Role: "wardens", From: noon, To: noon.Add(time.Duration(parts) * time.Second), Parts: parts, Lost: []string{"12 bytes of raw-1.seg are lost"}}
	line := func(value float64) []health.Part {
		out := make([]health.Part, parts)
		for i := range out {
			if i < parts/3 || i > 2*parts/3 {
				out[i] = health.Part{N: 1, Mid: value, Low: value, High: value * 1.5}
			}
		}
		return out
	}
	count := func(value float64) []health.Part {
		out := line(value)
		for i := range out {
			out[i].High = out[i].Mid
		}
		return out
	}
	t.Charts = []health.Chart{
		{Name: "ready", About: "ready", Unit: "members", Shape: health.Steps, Band: count(2), Lines: []health.Line{{Of: "wanted", Parts: count(3)}}},
		{Name: "leader", About: "who led", Shape: health.Ribbon, Band: count(2)},
		{Name: "latency", About: "probe", Unit: "ms", Shape: health.Curve, Band: line(0.8), Lines: []health.Line{{Of: "wardens-1", Parts: line(0.8)}, {Of: "wardens-2", Parts: line(1)}}},
		{Name: "flat", About: "always nothing", Shape: health.Curve, Band: line(0)},
		{Name: "none", About: "never measured", Shape: health.Curve, Band: make([]health.Part, parts)},
	}
	return t
}

func drawn(v *View, w, h int, k theme.Theme, cursor time.Time, past bool) string {
	g := grid.New(w, h, k.Text())
	v.Draw(g, k, cursor, past, board.Area{W: w, H: h})
	return g.Plain()
}

func TestWhatStandsUnderTheCursorIsSaid(t *testing.T) {
	v := &View{Told: told(120), Roles: []field.RoleName{"wardens", "crews"}, Role: "wardens", Chart: "latency", Large: true}
	text := drawn(v, 120, 24, theme.Theme{}, noon.Add(10*time.Second), true)
	for _, want := range []string{"probe", "0.80 ms, from 0.80 to 1.20 ms", "12 bytes of raw-1.seg are lost", "│"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not show %q:\n%s", want, text)
		}
	}
	if text = drawn(v, 120, 24, theme.Theme{}, noon.Add(60*time.Second), true); !strings.Contains(text, "nothing was measured") {
		t.Errorf("in a gap:\n%s", text)
	}
	v.Chart = "leader"
	if text = drawn(v, 120, 24, theme.Theme{}, noon.Add(119*time.Second), false); !strings.Contains(text, "wardens-2") {
		t.Errorf("who led:\n%s", text)
	}
}

func TestEachMemberAloneHasItsName(t *testing.T) {
	v := &View{Told: told(120), Role: "wardens", Chart: "latency", Large: true, Each: true}
	for _, k := range []theme.Theme{{}, {ASCII: true}} {
		text := drawn(v, 120, 24, k, noon.Add(100*time.Second), false)
		if !strings.Contains(text, "wardens-1") || !strings.Contains(text, "wardens-2") {
			t.Errorf("their names:\n%s", text)
		}
	}
}

// TestItFitsAnyScreen draws every chart on screens of every size.
func TestItFitsAnyScreen(t *testing.T) {
	for _, all := range []*health.Told{nil, told(1), told(7), told(300)} {
		for w := 12; w < 240; w += 11 {
			for h := 2; h < 50; h += 5 {
				for _, chart := range []string{"ready", "leader", "latency", "flat", "none"} {
					v := &View{Told: all, Before: all, Roles: []field.RoleName{"wardens"}, Role: "wardens", Chart: chart, Large: h%2 == 0, Each: w%2 == 0}
					drawn(v, w, h, theme.Theme{ASCII: w%3 == 0}, noon.Add(3*time.Second), h%3 == 0)
					if n := v.Parts(board.Area{W: w, H: h}); n < 8 {
						t.Fatalf("at %d by %d it asks for %d parts", w, h, n)
					}
				}
			}
		}
	}
}

func TestValuesAreReadable(t *testing.T) {
	for _, c := range []struct {
		value float64
		unit  string
		want  string
	}{
		{0.0123, "cores", "0.01 cores"}, {0.00123, "cores", "0.0012 cores"}, {12.34, "ms", "12.3 ms"}, {1234.5, "ms", "1234 ms"}, {3, "members", "3"}, {0.5, "share", "50 %"}, {3 << 20, "bytes", "3 MiB"},
		{2048, "bytes/s", "2 KiB/s"}, {-1, "members", "-1"}, {7, "", "7"}, {7.2e-05, "s", "72 µs"}, {0.0123, "s", "12.3 ms"}, {2.5, "seconds", "2.50 s"}, {0, "s", "0 s"},
	} {
		if got := Value(c.value, c.unit); got != c.want {
			t.Errorf("%v %s is %q, want %q", c.value, c.unit, got, c.want)
		}
	}
	for value, want := range map[float64]string{3.2 * 1024: "3.2 KiB/s", 72.8 * 1024: "73 KiB/s", 1023.6 * 1024: "1024 KiB"} {
		if got := label(value, "bytes/s"); got != want {
			t.Errorf("at the edge, %v bytes/s is %q, want %q", value, got, want)
		}
	}
	if got := label(0.04, "cores"); got != "0.04" {
		t.Errorf("at the edge, 0.04 cores is %q", got)
	}
	if got := between(0.8, 1.2, "ms"); got != "0.80 to 1.20 ms" {
		t.Errorf("a span is %q", got)
	}
}

// TestAnotherChartIsLaidOverTheLargeOne goes through all that can be, and back to none.
func TestAnotherChartIsLaidOverTheLargeOne(t *testing.T) {
	all := told(120)
	v := &View{Told: all, Role: "wardens", Chart: "latency", Large: true}
	draw := func() string {
		g := grid.New(120, 24, theme.Dark().Page())
		v.Draw(g, theme.Dark(), all.To, false, board.Area{W: 120, H: 24})
		return g.Plain()
	}
	alone := draw()
	seen := map[string]bool{}
	for range all.Charts {
		v.LayOver()
		if v.Over == "" {
			break
		}
		seen[v.Over] = true
		text := draw()
		if c := all.Chart(v.Over); !strings.Contains(text, "dotted: "+c.About) || text == alone || c.Shape == health.Ribbon {
			t.Errorf("%s over it:\n%s", v.Over, text)
		}
	}
	if v.Over != "" || len(seen) == 0 || seen["latency"] || draw() != alone {
		t.Errorf("laid over it were %v, and at last %q", seen, v.Over)
	}
}

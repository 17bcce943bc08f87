package tide

import (
	"cmp"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/control"
	"lanternfield/internal/tui/grid"
)

var noon = time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)

func ago(seconds float64) time.Time { return noon.Add(-time.Duration(seconds * float64(time.Second))) }

func TestABucketShowsTheWorstOfItsTime(t *testing.T) {
	samples := []control.Sample{
		{At: ago(25), Lit: 0, Want: 3},
		{At: ago(20), Lit: 3, Want: 3, Survives: 1, Votes: true},
		{At: ago(10.2), Lit: 2, Want: 3, Survives: 0, Votes: true, Mark: "wardens-1 dark"},
		{At: ago(10.1), Lit: 3, Want: 3, Survives: 1, Votes: true},
	}
	got := buckets(samples, noon, 30*time.Second, 30)
	if got[0].known || got[4].known {
		t.Error("time before the first sample is not unknown")
	}
	for second, lit := range map[int]int{6: 0, 11: 3, 18: 3, 19: 2, 20: 3, 29: 3} {
		if b := got[second]; b.lit != lit || !b.known || b.want != 3 {
			t.Errorf("column %d: %+v, want %d lit", second, b, lit)
		}
	}
	if got[19].mark != "wardens-1 dark" || got[19].survives != 0 || got[20].mark != "" || got[20].survives != 1 {
		t.Errorf("the tenth of a second in the dark was lost: %+v, %+v", got[19], got[20])
	}
}

func TestSamplesOlderThanTheTideTellOnlyHowItBegan(t *testing.T) {
	got := buckets([]control.Sample{{At: ago(900), Lit: 1, Want: 3, Mark: "old"}, {At: ago(800), Lit: 3, Want: 3, Mark: "older"}}, noon, 30*time.Second, 10)
	for i, b := range got {
		if b.lit != 3 || b.mark != "" {
			t.Errorf("column %d: %+v", i, b)
		}
	}
}

func TestTheSpanFollowsTheLifeOfTheField(t *testing.T) {
	for age, want := range map[float64]time.Duration{5: 30 * time.Second, 100: 2 * time.Minute, 250: 5 * time.Minute, 800: 15 * time.Minute, 90_000: 5 * time.Minute} {
		if got := Span([]control.Sample{{At: ago(age)}}, noon); got != want {
			t.Errorf("a field of %v s: %s, want %s", age, got, want)
		}
	}
	if got := Span(nil, noon); got != 30*time.Second {
		t.Errorf("a field without a past: %s", got)
	}
}

// TestTheTideWidensUpToTheLifeOfTheField presses the key until the last minutes are shown again.
func TestTheTideWidensUpToTheLifeOfTheField(t *testing.T) {
	samples := []control.Sample{{At: ago(2 * 3600)}}
	shown, chosen := Span(samples, noon), time.Duration(0)
	var got []time.Duration
	for range 5 {
		chosen = Widen(samples, noon, shown, chosen)
		got = append(got, chosen.Round(time.Minute))
		shown = cmp.Or(chosen, Span(samples, noon))
	}
	if want := []time.Duration{15 * time.Minute, time.Hour, 122 * time.Minute, 0, 15 * time.Minute}; !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
	if got := Widen(nil, noon, 30*time.Second, 0); got != 0 {
		t.Errorf("a field without a past: %s", got)
	}
}

func TestTheBandTellsSurvivalByShape(t *testing.T) {
	var samples []control.Sample
	for i, survives := range []int{2, 1, 0, -1} {
		samples = append(samples, control.Sample{At: ago(float64(30 - 7*i)), Lit: 4 - i, Want: 4, Survives: survives, Votes: true})
	}
	for _, ascii := range []bool{false, true} {
		k := theme.Dark()
		k.ASCII = ascii
		g := grid.New(71, 6, k.Page())
		Draw(g, k, Tide{Samples: samples, Lit: 1, Want: 4, End: noon, Now: true}, Area{W: 71, H: 6})
		lines := strings.Split(g.Plain(), "\n")
		want := "█▄▁×"
		if ascii {
			want = "21_x"
		}
		seen := ""
		for _, r := range strings.TrimPrefix(lines[4], " survives") {
			if r != ' ' && !strings.HasSuffix(seen, string(r)) {
				seen += string(r)
			}
		}
		if seen != want {
			t.Errorf("ascii %v: the band is %q, want %q:\n%s", ascii, seen, want, g.Plain())
		}
		if !strings.Contains(lines[1], "lit 1") || !strings.Contains(lines[2], "of 4") || !strings.Contains(lines[5], "30 s ago") || !strings.HasSuffix(lines[5], "now") {
			t.Errorf("ascii %v:\n%s", ascii, g.Plain())
		}
	}
}

func TestMarksNeverOverlap(t *testing.T) {
	var samples []control.Sample
	for i := range 40 {
		samples = append(samples, control.Sample{At: ago(float64(29 - i/2)), Lit: 1, Want: 1, Mark: "wardens-2 leads"})
	}
	for w := 0; w < 160; w += 3 {
		for h := range 8 {
			g := grid.New(w, h, theme.Dark().Page())
			Draw(g, theme.Dark(), Tide{Samples: samples, Lit: 1, Want: 1, End: noon, Now: true}, Area{W: w, H: h})
			if h >= 4 && w > 60 {
				for _, word := range strings.FieldsFunc(strings.Split(g.Plain(), "\n")[0], func(r rune) bool { return r == '▾' }) {
					if word = strings.TrimSpace(word); word != "" && word != "wardens-2 leads" {
						t.Fatalf("%d wide: a mark was cut: %q", w, word)
					}
				}
			}
		}
	}
}

func TestTheTimeCursorFindsMomentsAndEvents(t *testing.T) {
	tide := Tide{Samples: []control.Sample{{At: ago(25), Mark: "deploy"}, {At: ago(20), Lit: 3, Want: 3}, {At: ago(10), Mark: "wardens-1 dark"}}, End: noon, Now: true}
	area := Area{W: margin + 61, H: 6}
	for x, want := range map[int]float64{margin + 59: 0, margin + 39: 10, margin: 29.5} {
		if at, ok := tide.At(x, area); !ok || !at.Equal(ago(want)) {
			t.Errorf("column %d: %s before the end, want %v", x, noon.Sub(at), want)
		}
	}
	if _, ok := tide.At(margin-1, area); ok {
		t.Error("the margin is no moment")
	}
	for _, test := range []struct {
		from, want float64
		forward    bool
	}{{5, 10, false}, {10.5, 25, false}, {22, 10, true}, {25.1, 25, true}} {
		at, ok := tide.Event(ago(test.from), test.forward)
		if want := ago(test.want).Add(-time.Millisecond); !ok || !at.Equal(want) {
			t.Errorf("from %v, forward %v: %s", test.from, test.forward, noon.Sub(at))
		}
	}
	if _, ok := tide.Event(ago(9), true); ok {
		t.Error("nothing happened after that")
	}
	tide.Cursor = ago(10)
	g := grid.New(area.W, 6, theme.Dark().Page())
	Draw(g, theme.Dark(), tide, area)
	if lines := strings.Split(g.Plain(), "\n"); !strings.Contains(lines[2], "┃") || !strings.Contains(lines[5], ago(10).Local().Format("15:04:05.0")) {
		t.Errorf("the cursor is not shown:\n%s", g.Plain())
	}
}

// TestWordsBelowTheTideAreWholeOrNotThere moves the time cursor along the whole tide.
func TestWordsBelowTheTideAreWholeOrNotThere(t *testing.T) {
	samples := []control.Sample{{At: ago(29), Lit: 1, Want: 1}}
	left, right := 0, 0
	for at := 0.0; at <= 29; at += 0.5 {
		g := grid.New(90, 6, theme.Dark().Page())
		tide := Tide{Samples: samples, Lit: 1, Want: 1, End: noon, Cursor: ago(at)}
		Draw(g, theme.Dark(), tide, Area{W: 90, H: 6})
		line := strings.Split(g.Plain(), "\n")[5]
		cursor, end := ago(at).Local().Format("15:04:05.0"), noon.Local().Format("15:04:05")
		before, after, found := strings.Cut(line, cursor)
		if before, after = strings.TrimSpace(before), strings.TrimSpace(after); !found || before != "" && before != "30 s earlier" || after != "" && after != end {
			t.Errorf("%.1f s before its end: %q", at, line)
		}
		if before != "" {
			left++
		}
		if after != "" {
			right++
		}
	}
	if left < 30 || right < 30 {
		t.Errorf("they are there %d and %d times of 59", left, right)
	}
}

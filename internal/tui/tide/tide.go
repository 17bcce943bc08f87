// Package tide draws the last minutes: lanterns lit against lanterns wanted, the losses that the weakest voting role
// survives, and marks for what happened.
package tide

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/tui/grid"
)

// Area is a rectangle of the screen.
type Area struct{ X, Y, W, H int }

// Height is how many rows a tide takes on a screen of that height.
func Height(screen int) int {
	switch {
	case screen >= 34:
		return 6
	case screen >= 22:
		return 4
	case screen >= 14:
		return 2
	}
	return 0
}

// Spans that one tide may cover; the shortest that holds the field's recent life is taken.
var spans = []time.Duration{30 * time.Second, 2 * time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// Span chooses how much time to show.
func Span(samples []control.Sample, now time.Time) time.Duration {
	if len(samples) == 0 {
		return spans[0]
	}
	for _, s := range spans[:len(spans)-1] {
		if now.Sub(samples[0].At) <= s {
			return s
		}
	}
	return spans[2]
}

const margin = 11

// bucket is what one column shows: the worst of its time, so that no short darkness is lost.
type bucket struct {
	known    bool
	lit      int
	want     int
	survives int
	votes    bool
	mark     string
}

func buckets(samples []control.Sample, now time.Time, span time.Duration, n int) []bucket {
	out := make([]bucket, n)
	begin := now.Add(-span)
	var last *control.Sample
	next := 0
	for i := range out {
		end := begin.Add(span * time.Duration(i+1) / time.Duration(n))
		b := &out[i]
		take := func(s *control.Sample) {
			if !b.known || s.Lit < b.lit {
				b.lit = s.Lit
			}
			if !b.known || s.Survives < b.survives {
				b.survives = s.Survives
			}
			b.want, b.votes, b.known = s.Want, s.Votes, true
		}
		if last != nil {
			take(last)
		}
		for next < len(samples) && samples[next].At.Before(end) {
			last = &samples[next]
			if last.Mark != "" && !last.At.Before(begin) {
				b.mark = last.Mark
			}
			if !last.At.Before(begin) {
				take(last)
			} else {
				*b = bucket{}
				take(last)
			}
			next++
		}
	}
	return out
}

// wider are the spans that a person may choose besides the one that is taken by itself.
var wider = []time.Duration{15 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour}

// Widen gives the next wider span than the one that is shown: up to all that is known of the field, and then 0, by which the
// last minutes are shown again.
func Widen(samples []control.Sample, now time.Time, shown, chosen time.Duration) time.Duration {
	if len(samples) == 0 {
		return 0
	}
	life := now.Sub(samples[0].At)
	life += life/50 + time.Second // room before the first
	if chosen >= life {
		return 0
	}
	for _, s := range wider {
		if s > shown && s < life {
			return s
		}
	}
	if life <= shown {
		return 0
	}
	return life
}

// Tide is what is drawn: the samples up to an end, and a cursor in time where somebody looks at the past.
type Tide struct {
	Samples   []control.Sample
	Lit, Want int       // at the cursor, or now
	End       time.Time // the right edge
	Cursor    time.Time // zero while the present is looked at
	Now       bool      // the right edge is the present

	Wide time.Duration // how much is shown where a person has chosen it; 0 otherwise
}

// Step is how much time one column stands for, on a tide of that width.
func (t Tide) Step(width int) time.Duration {
	return t.Span() / time.Duration(max(1, width-margin-1))
}

// Span is how much time is shown.
func (t Tide) Span() time.Duration {
	if t.Wide > 0 {
		return t.Wide
	}
	return Span(t.Samples, t.End)
}

// At gives the moment under a column of the screen; ok is false where there is none.
func (t Tide) At(x int, a Area) (at time.Time, ok bool) {
	w := a.W - margin - 1
	i := x - a.X - margin
	if i < 0 || i >= w || a.H < 2 {
		return at, false
	}
	return t.End.Add(-t.Span() + t.Span()*time.Duration(i+1)/time.Duration(w)), true
}

// Event gives the moment of the next mark after, or, going back, just before that moment.
func (t Tide) Event(at time.Time, forward bool) (time.Time, bool) {
	var found time.Time
	for _, s := range t.Samples {
		if s.Mark == "" {
			continue
		}
		before := s.At.Add(-time.Millisecond) // just before it happened is what one wants to see
		switch {
		case forward && before.After(at) && found.IsZero():
			found = before
		case !forward && before.Before(at):
			found = before
		}
	}
	return found, !found.IsZero()
}

// Draw draws the tide.
func Draw(g *grid.Grid, k theme.Theme, t Tide, a Area) {
	if a.H < 2 || a.W < margin+10 {
		return
	}
	span := t.Span()
	w := a.W - margin - 1
	columns := buckets(t.Samples, t.End, span, w)
	bars := max(1, a.H-2)
	if a.H >= 6 {
		bars = a.H - 3
	}
	top := a.Y
	if a.H >= 4 {
		drawMarks(g, k, columns, a.X+margin, top, w)
		top++
	} else {
		bars = a.H - 1
	}
	g.Text(a.X+1, top, fmt.Sprintf("lit %d", t.Lit), k.In(k.Lit))
	if bars > 1 {
		g.Text(a.X+1, top+1, fmt.Sprintf("of %d", t.Want), k.Quiet())
	}
	cursor := -1
	if !t.Cursor.IsZero() {
		cursor = min(max(int(int64(t.Cursor.Sub(t.End.Add(-span)))*int64(w)/int64(span)), 0), w-1)
	}
	for i, b := range columns {
		x := a.X + margin + i
		for y := range bars {
			g.Set(x, top+y, ' ', grid.Style{Fg: k.Dim, Bg: k.Shade})
		}
		after := cursor >= 0 && i > cursor // had not happened yet
		if b.known && b.want > 0 {
			drawBar(g, k, x, top, bars, b, after)
		}
		if !after {
			drawSurvival(g, k, x, top+bars, b)
		}
	}
	if cursor >= 0 {
		for y := range bars + 1 {
			g.Set(a.X+margin+cursor, top+y, k.Or('┃', '|'), k.In(k.Act).Strong())
		}
	}
	g.Text(a.X+1, top+bars, "survives", k.Quiet())
	if a.H >= 6 {
		t.scale(g, k, a, top+bars+1, cursor)
	}
}

func drawBar(g *grid.Grid, k theme.Theme, x, top, rows int, b bucket, after bool) {
	edge, body := grid.Mix(k.Warm, k.Shade, 0.15), grid.Mix(k.Warm, k.Shade, 0.66)
	if b.lit >= b.want {
		edge, body = grid.Mix(k.Lit, k.Shade, 0.15), grid.Mix(k.Lit, k.Shade, 0.66)
	}
	if k.Flat {
		edge, body = k.Warm, k.Warm
		if b.lit >= b.want {
			edge, body = k.Lit, k.Glow
		}
	}
	if after {
		edge, body = k.Faint, k.Faint
	}
	eighths := rows * 8 * b.lit / max(b.want, b.lit)
	for y := range rows {
		part := min(max(eighths-(rows-1-y)*8, 0), 8)
		if part == 0 {
			continue
		}
		r := []rune(" ▁▂▃▄▅▆▇█")[part]
		if k.ASCII {
			r = []rune(" ..::||##")[part]
		}
		color := edge
		if y > 0 && min(max(eighths-(rows-y)*8, 0), 8) > 0 || part == 8 { // below the edge
			color = body
		}
		style := grid.Style{Fg: color, Bg: grid.None}
		if part == 8 && !k.ASCII {
			style.Bg = color // no seams between rows
		}
		g.Set(x, top+y, r, style)
	}
}

// drawSurvival draws the band: shape and height tell it as well as colour.
func drawSurvival(g *grid.Grid, k theme.Theme, x, y int, b bucket) {
	switch {
	case !b.known || !b.votes:
	case b.survives < 0:
		g.Set(x, y, k.Or('×', 'x'), k.In(k.Fail))
	case b.survives == 0:
		g.Set(x, y, k.Or('▁', '_'), k.In(k.Fail))
	case b.survives == 1:
		g.Set(x, y, k.Or('▄', '1'), k.In(k.Plan))
	default:
		g.Set(x, y, k.Or('█', '2'), k.In(k.Plan))
	}
}

// drawMarks writes what happened above its moment, the newest first, leaving out what would overlap.
func drawMarks(g *grid.Grid, k theme.Theme, columns []bucket, x, y, w int) {
	free := w
	for i := w - 1; i >= 0; i-- {
		mark := columns[i].mark
		if mark == "" || i >= free {
			continue
		}
		style := k.In(k.Act)
		g.Set(x+i, y, k.Or('▾', 'v'), style)
		text := mark
		switch {
		case i+2+grid.Width(text) < free:
			g.Text(x+i+2, y, text, k.Quiet())
			free = i - 1
		case i-1-grid.Width(text) > 0 && free == w:
			g.Text(x+i-1-grid.Width(text), y, text, k.Quiet())
			free = i - 2 - grid.Width(text)
		default:
			free = i - 1
		}
	}
}

func (t Tide) scale(g *grid.Grid, k theme.Theme, a Area, y, cursor int) {
	span := strings.TrimSuffix(field.Span(t.Span()), " 0 s")
	left, right := span+" earlier", t.End.Local().Format("15:04:05")
	if t.Now {
		left, right = span+" ago", "now"
	}
	from, to := a.X+margin, a.X+a.W-1
	if cursor >= 0 {
		text := t.Cursor.Local().Format("15:04:05.0")
		x := min(max(from+cursor-len(text)/2, from), to-len(text))
		g.Text(x, y, text, k.In(k.Act).Strong())
		if x <= from+len(left) { // what it would cover a part of is left out
			left = ""
		}
		if x+len(text) >= to-len(right) {
			right = ""
		}
	}
	g.Text(from, y, left, k.In(k.Faint))
	g.Text(to-len(right), y, right, k.In(k.Faint))
}

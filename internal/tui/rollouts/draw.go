package rollouts

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// Seen is what the view is drawn from, beside the record.
type Seen struct {
	Snap   *snapshot.Snapshot
	Now    time.Time // the right edge of what has happened
	Cursor time.Time // a moment of the past that is looked at; zero for none
	Lately []string  // the last lines of the chosen member
}

// picture is one frame of the view.
type picture struct {
	g           *grid.Grid
	k           theme.Theme
	v           *View
	r           *rollout.Record
	seen        Seen
	a           board.Area
	label, note int       // widths beside the chart
	x, w        int       // of the chart
	from, to    time.Time // that it covers
	chain       map[field.MemberName]bool
}

// Draw draws the view into an area.
func (v *View) Draw(g *grid.Grid, k theme.Theme, seen Seen, a board.Area) {
	a.X, a.W = a.X+1, a.W-2
	if v.Record == nil {
		v.drawNothing(g, k, a)
		return
	}
	p := &picture{g: g, k: k, v: v, r: v.Record, seen: seen, a: a, chain: map[field.MemberName]bool{}}
	for _, l := range v.Record.Chain {
		p.chain[l.Member] = len(v.Record.Chain) > 1
	}
	foot := 0
	switch {
	case a.H >= 26:
		foot = min(11, a.H/3)
	case a.H >= 12:
		foot = max(4, a.H/3)
	}
	head := p.title()
	v.rows = max(1, a.H-head-1-foot)
	lines := v.lines()
	p.measure()
	p.axis(a.Y + head)
	at := v.place(lines)
	if len(lines) > 0 {
		v.stand(lines[at])
	}
	v.first = max(0, min(v.first, at, len(lines)-v.rows))
	if at >= v.first+v.rows {
		v.first = at - v.rows + 1
	}
	top := a.Y + head + 1
	for i := v.first; i < min(len(lines), v.first+v.rows); i++ {
		p.line(top+i-v.first, lines[i], i == at)
	}
	if foot > 0 {
		p.why(a.Y+a.H-foot, foot)
	}
	if more := len(lines) - v.first - v.rows; more > 0 && foot > 0 {
		text := fmt.Sprintf(" %d more %c ", more, k.Or('▾', 'v'))
		g.Text(a.X+a.W-grid.Width(text)-1, a.Y+a.H-foot, text, k.In(k.Act))
	}
}

func (v *View) drawNothing(g *grid.Grid, k theme.Theme, a board.Area) {
	text := "Nothing has been carried out yet. What the draft asks for is in the review (v); once it is deployed, each member has its row here, with its phases over time, and what it waits for."
	if v.Why != "" {
		text = v.Why
	}
	for i, l := range grid.Wrap(text, max(20, min(a.W, 90))) {
		g.Clip(a.X, a.Y+1+i, a.W, l, k.Text())
	}
}

// title says which rollout it is and how it goes; it gives how many lines it took.
func (p *picture) title() int {
	r, k := p.r, p.k
	x := p.g.Clip(p.a.X, p.a.Y, p.a.W, r.Title(), p.k.Text().Strong())
	color := k.Lit
	switch {
	case r.Failed != "":
		color = k.Fail
	case r.Active():
		color = k.Warm
	}
	x = p.g.Clip(x+2, p.a.Y, p.a.X+p.a.W-x-2, r.Counts(), k.In(color))
	standing := r.Standing()
	if by := p.by(); by != "" && p.a.W-(x-p.a.X)-4-grid.Width(standing) > grid.Width(by)+3 {
		p.g.Text(p.a.X+p.a.W-grid.Width(by), p.a.Y, by, k.Quiet())
	}
	lines := grid.Wrap(standing, p.a.X+p.a.W-x-2)
	if len(lines) == 0 {
		return 2
	}
	p.g.Clip(x+2, p.a.Y, p.a.X+p.a.W-x-2, lines[0], k.Text())
	rest := strings.TrimPrefix(strings.TrimPrefix(standing, lines[0]), " ")
	if rest != "" {
		p.g.Clip(p.a.X, p.a.Y+1, p.a.W, rest, k.Text())
	} else if text := p.decides(); text != "" {
		p.g.Clip(p.a.X, p.a.Y+1, p.a.W, text, k.In(k.Gold))
	}
	return 2
}

func (p *picture) by() string {
	if p.v.Other != nil {
		return fmt.Sprintf("beside %s, which took %s", p.v.Other.Title(), field.Brief(p.v.Other.End().Sub(p.v.Other.Began)))
	}
	if p.r.By == "" {
		return p.r.Began.Local().Format("2 Jan 15:04:05")
	}
	return fmt.Sprintf("%s by %s", p.r.Began.Local().Format("2 Jan 15:04:05"), p.r.By)
}

// decides says which chain decides how long it takes.
func (p *picture) decides() string {
	if len(p.r.Chain) < 2 {
		return ""
	}
	word := "decided by "
	if p.r.Active() {
		word = "what decides: "
	}
	text := word + p.r.Decided()
	if p.k.ASCII {
		text = strings.ReplaceAll(text, "→", ">")
	}
	return text
}

// measure finds the columns, and which time they cover.
func (p *picture) measure() {
	p.label = 10
	for i := range p.r.Rows {
		p.label = max(p.label, min(24, len(p.r.Rows[i].Member)+5))
	}
	p.note = 0
	if p.a.W >= 60 {
		p.note = min(34, p.a.W/4)
	}
	p.x = p.a.X + p.label
	p.w = max(8, p.a.W-p.label-p.note-1)
	p.from, p.to = p.r.Began, p.r.End()
	for i := range p.r.Rows {
		if e := p.r.Rows[i].Expected; e != nil && e.Known && e.End.After(p.to) {
			p.to = e.End
		}
	}
	if p.v.Other != nil {
		if end := p.from.Add(p.v.Other.End().Sub(p.v.Other.Began)); end.After(p.to) {
			p.to = end
		}
	}
	span := p.to.Sub(p.from)
	if p.r.Active() {
		span += span / 12
	}
	p.to = p.from.Add(max(span, time.Second/10))
}

// column is where a moment is drawn; it may lie outside.
func (p *picture) column(at time.Time) int {
	return p.x + int(float64(p.w-1)*float64(at.Sub(p.from))/float64(p.to.Sub(p.from))+0.5)
}

// steps are the distances of marks on the axis that are easy to read.
var steps = []time.Duration{10 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second,
	time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour}

// axis draws the time since it began.
func (p *picture) axis(y int) {
	span, step := p.to.Sub(p.from), steps[len(steps)-1]
	for _, s := range steps {
		if int(span/s) <= max(1, p.w/14) {
			step = s
			break
		}
	}
	p.g.Fill(p.x, y, p.w, 1, p.k.Or('─', '-'), p.k.In(p.k.Faint))
	for at := time.Duration(0); at <= span; at += step {
		text := tickWord(at)
		x := p.column(p.from.Add(at))
		p.g.Set(x, y, p.k.Or('┬', '+'), p.k.In(p.k.Faint))
		if now := p.column(p.seen.Now); p.r.Active() && x+1+len(text) >= now-5 && x < now+2 {
			continue // now stands there
		}
		if x+1+len(text) <= p.x+p.w {
			p.g.Text(x+1, y, text, p.k.Quiet())
		}
	}
	if x := p.column(p.seen.Now); p.r.Active() && x < p.x+p.w {
		p.g.Text(max(p.x, x-4), y, "now ", p.k.In(p.k.Act).Strong())
		p.g.Set(x, y, p.k.Or('▾', 'v'), p.k.In(p.k.Act).Strong())
	}
}

func tickWord(d time.Duration) string {
	switch {
	case d == 0:
		return "0"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d%time.Minute == 0 && d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 10*time.Second && d%time.Second == 0:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return field.Span(d)
}

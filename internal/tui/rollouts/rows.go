package rollouts

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/grid"
)

// line draws a role or a member.
func (p *picture) line(y int, l line, chosen bool) {
	if chosen {
		p.g.Fill(p.a.X, y, p.a.W, 1, ' ', grid.Style{Fg: p.k.Paper, Bg: p.k.Raise})
	}
	if p.r.Active() {
		if x := p.column(p.seen.Now); x < p.x+p.w {
			p.g.Set(x, y, p.k.Or('╎', ':'), p.k.In(p.k.Faint))
		}
	}
	if l.row == nil {
		p.role(y, l, chosen)
	} else {
		p.member(y, l.row, chosen)
	}
	if !p.seen.Cursor.IsZero() {
		if x := p.column(p.seen.Cursor); x >= p.x && x < p.x+p.w {
			p.g.Set(x, y, p.k.Or('│', '|'), p.k.In(p.k.Act))
		}
	}
}

// role draws a role: its gate, and, where it is folded, how its members come to burn.
func (p *picture) role(y int, l line, chosen bool) {
	done := 0
	for _, row := range l.all {
		if !row.Done.IsZero() {
			done++
		}
	}
	style := p.k.Text().Strong()
	if chosen {
		style.Fg = p.k.Act
	}
	fold := p.k.Or('▾', '-')
	if l.folded {
		fold = p.k.Or('▸', '+')
	}
	p.g.Set(p.a.X, y, fold, p.k.In(p.k.Dim))
	p.g.Clip(p.a.X+2, y, p.label-3, string(l.role), style)
	p.noted(y, fmt.Sprintf("%d of %d", done, len(l.all)), p.k.Quiet())
	if l.folded {
		p.glow(y, l.all)
	}
	for i := range p.r.Gates {
		if g := &p.r.Gates[i]; g.Role == l.role {
			p.post(y, g, true)
		}
	}
}

// post draws a gate in the way of a role.
func (p *picture) post(y int, g *rollout.Gate, named bool) {
	x, style := p.column(g.Opened), p.k.In(p.k.Act)
	text := fmt.Sprintf("%s: %s", g.Gate.On, g.Gate.Gate)
	if !g.Open() {
		x, style = p.column(p.expectedOpen(g)), p.k.In(p.k.Warm).Strong()
		text = g.Gate.String()
	}
	x = min(max(x, p.x), p.x+p.w-1)
	p.g.Set(x, y, p.k.Or(map[bool]rune{true: '┰', false: '┃'}[named], '|'), style)
	if named {
		room := x - p.x - 1
		if room < grid.Width(text) && p.x+p.w-x-2 >= grid.Width(text) {
			p.g.Text(x+2, y, text, style)
			return
		}
		if room > 6 {
			text = grid.Shorten(text, room)
			p.g.Text(x-1-grid.Width(text), y, text, style)
		}
	}
}

// expectedOpen is when a closed gate may open: as the first of those behind it may begin.
func (p *picture) expectedOpen(g *rollout.Gate) time.Time {
	at := time.Time{}
	for i := range p.r.Rows {
		if row := &p.r.Rows[i]; row.Role == g.Role && row.Expected != nil && row.Begun.IsZero() && (at.IsZero() || row.Expected.Begin.Before(at)) {
			at = row.Expected.Begin
		}
	}
	if at.Before(p.seen.Now) {
		return p.seen.Now
	}
	return at
}

var heights, lowHeights = []rune(" ▁▂▃▄▅▆▇█"), []rune(" ..::oo##")

// glow draws the members of a role as one band: how many burn, and whether some are on their way, or have failed.
func (p *picture) glow(y int, rows []*rollout.Row) {
	for c := range p.w {
		at := p.at(c)
		if at.After(p.r.End()) {
			break
		}
		lit, warm, dark := 0, 0, 0
		for _, row := range rows {
			switch phase := phaseAt(row, at, p.r.End()); {
			case phase == state.Ready:
				lit++
			case bad(phase):
				dark++
			case phase == state.Placing || phase == state.Starting || phase == state.Joining || phase == state.Stopping || phase == state.Draining:
				warm++
			}
		}
		ramp := heights
		if p.k.ASCII {
			ramp = lowHeights
		}
		level := func(n int) rune {
			if n == 0 {
				return ' '
			}
			return ramp[max(1, n*8/len(rows))]
		}
		switch {
		case dark > 0:
			p.g.Set(p.x+c, y, level(max(dark, lit)), p.k.In(p.k.Fail))
		case lit > 0:
			p.g.Set(p.x+c, y, level(lit), p.k.In(p.k.Lit))
		case warm > 0:
			p.g.Set(p.x+c, y, p.k.Or('░', '='), p.k.In(p.k.Warm))
		default:
			p.g.Set(p.x+c, y, p.k.Or('·', '.'), p.k.In(p.k.Faint))
		}
	}
}

// at is the moment in the middle of a column.
func (p *picture) at(column int) time.Time {
	return p.from.Add(time.Duration(float64(p.to.Sub(p.from)) * float64(column) / float64(max(1, p.w-1))))
}

func phaseAt(row *rollout.Row, at, end time.Time) state.Phase {
	phase := state.Phase("")
	for _, s := range row.Segments {
		if !s.From.After(at) && !at.After(s.Until(end)) {
			phase = s.Phase
		}
	}
	return phase
}

func bad(p state.Phase) bool {
	return p == state.Failed || p == state.Unready || p == state.Unknown
}

// member draws what a member came through, and what is expected of it.
func (p *picture) member(y int, row *rollout.Row, chosen bool) {
	lamp := p.k.LampOf(row.Now().Phase, false)
	name := p.k.Text()
	if chosen {
		name = p.k.In(p.k.Act).Strong()
	}
	if p.chain[row.Member] {
		p.g.Set(p.a.X, y, p.k.Or('◆', '>'), p.k.In(p.k.Gold))
		if !chosen {
			name = p.k.In(p.k.Gold)
		}
	}
	p.g.Set(p.a.X+2, y, lamp.Shape, grid.Style{Fg: lamp.Color, Bg: grid.None, Bold: true})
	p.g.Clip(p.a.X+4, y, p.label-5, string(row.Member), name)
	for i, s := range row.Segments {
		p.segment(y, row, s, i)
	}
	if e := row.Expected; e != nil && e.Known {
		from := e.Begin
		if from.Before(p.seen.Now) {
			from = p.seen.Now
		}
		for x := p.column(from) + 1; x < min(p.column(e.End), p.x+p.w); x++ {
			p.g.Set(x, y, p.k.Or('┈', '.'), p.k.In(p.k.Plan))
		}
		if x := p.column(e.End); x < p.x+p.w && x > p.column(p.seen.Now) {
			p.g.Set(x, y, p.k.Or('○', 'o'), p.k.In(p.k.Plan))
		}
	}
	for i := range p.r.Gates {
		if g := &p.r.Gates[i]; g.Role == row.Role && (row.Begun.IsZero() || !g.Open() || !row.Begun.Before(g.Opened)) && !row.Segments[0].From.After(opened(g, p.r.End())) {
			p.post(y, g, false)
		}
	}
	p.beside(y, row)
	text, style := p.says(row)
	p.noted(y, text, style)
}

func opened(g *rollout.Gate, end time.Time) time.Time {
	if g.Open() {
		return g.Opened
	}
	return end
}

// wick is how a phase is drawn over time: shapes differ as well as tones.
func (p *picture) wick(s rollout.Segment, row *rollout.Row) (rune, grid.Color) {
	k := p.k
	warm := k.Warm
	if row.Pace != nil && s.To.IsZero() && row.Pace.Word == pace.Stuck {
		warm = k.Fail
	}
	switch s.Phase {
	case state.Planned:
		return k.Or('·', '.'), k.Plan
	case state.Placing:
		return k.Or('╌', '-'), warm
	case state.Starting:
		return k.Or('━', '='), warm
	case state.Joining:
		return k.Or('═', '#'), warm
	case state.Draining, state.Stopping:
		return k.Or('┅', '~'), warm
	case state.Ready:
		if s.Due {
			return k.Or('·', '.'), k.Lit
		}
		return k.Or('─', '_'), k.Lit
	case state.Failed, state.Unready:
		return k.Or('╳', 'x'), k.Fail
	case state.Unknown:
		return '?', k.Fail
	}
	return ' ', k.Faint
}

// segment draws one phase; where it begins to burn, or ends, a lantern hangs.
func (p *picture) segment(y int, row *rollout.Row, s rollout.Segment, i int) {
	from, to := p.column(s.From), p.column(s.Until(p.r.End()))
	shape, color := p.wick(s, row)
	style := p.k.In(color)
	if s.Phase == state.Ready && !s.Due && !p.k.Flat {
		style.Fg = grid.Mix(p.k.Ink, color, 0.45)
	}
	for x := max(from, p.x); x <= min(to, p.x+p.w-1); x++ {
		p.g.Set(x, y, shape, style)
	}
	if i > 0 && (s.Phase == state.Ready && !s.Due || bad(s.Phase) || s.Phase == state.Gone || s.Phase == state.Stopped) && from >= p.x && from < p.x+p.w {
		lamp := p.k.LampOf(s.Phase, false)
		p.g.Set(from, y, lamp.Shape, grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: true})
	}
	if s.To.IsZero() && row.Done.IsZero() && s.Usual.Known() && p.r.Active() && s.Phase != state.Planned { // when it is usually through
		if x := p.column(s.From.Add(s.Usual.Median)); x > from && x < p.x+p.w {
			p.g.Set(x, y, p.k.Or('┊', '!'), p.k.In(p.k.Act))
		}
	}
}

// beside marks where the same member was done in the rollout that it is compared with.
func (p *picture) beside(y int, row *rollout.Row) {
	if p.v.Other == nil {
		return
	}
	if o := p.v.Other.Row(row.Member); o != nil && !o.Done.IsZero() {
		if x := p.column(p.from.Add(o.Done.Sub(p.v.Other.Began))); x >= p.x && x < p.x+p.w {
			p.g.Set(x, y, p.k.Or('◇', '^'), p.k.In(p.k.Act))
		}
	}
}

// says is what stands at the end of a row.
func (p *picture) says(row *rollout.Row) (string, grid.Style) {
	k, now := p.k, row.Now()
	if p.v.Other != nil && !row.Done.IsZero() {
		o := p.v.Other.Row(row.Member)
		if o == nil || o.Done.IsZero() {
			return "not in " + p.v.Other.Title(), k.Quiet()
		}
		differ := row.Done.Sub(p.r.Began) - o.Done.Sub(p.v.Other.Began)
		if differ >= 0 {
			return "+" + field.Brief(differ), k.In(k.Warm)
		}
		return "-" + field.Brief(-differ), k.In(k.Lit)
	}
	switch {
	case !row.Done.IsZero():
		if end := row.Now(); end.Phase != state.Ready && end.Phase != state.Gone && end.Phase != state.Stopped {
			return string(end.Phase), k.In(k.Fail)
		}
		took := ""
		if !row.Begun.IsZero() {
			took = field.Brief(row.Done.Sub(row.Begun))
		}
		return took, k.Quiet()
	case row.Pace != nil && row.Pace.Word != pace.AsUsual:
		text := fmt.Sprintf("%s: %s", row.Pace.Word, field.Span(row.Pace.For))
		if now.Usual.Known() {
			text += ", usually " + field.Span(now.Usual.Median)
		}
		return text, k.In(map[pace.Word]grid.Color{pace.Slow: k.Gold, pace.Stuck: k.Fail}[row.Pace.Word]).Strong()
	case bad(now.Phase):
		return string(now.Phase) + " " + field.Brief(now.Until(p.seen.Now).Sub(now.From)), k.In(k.Fail).Strong()
	case now.Phase == state.Planned || now.Due:
		return "waits", k.Quiet()
	}
	since := now.Until(p.seen.Now).Sub(now.From)
	text := string(now.Phase) + " " + field.Brief(since)
	switch {
	case !now.Usual.Known():
	case since > now.Usual.Median:
		text += ", usually " + field.Brief(now.Usual.Median)
	default:
		text += " of " + field.Brief(now.Usual.Median)
	}
	return text, k.In(k.Warm)
}

func (p *picture) noted(y int, text string, style grid.Style) {
	if p.note > 0 {
		p.g.Clip(p.x+p.w+1, y, p.note, text, style)
	}
}

package draw

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/state"
)

// Measures of a rollout, in points.
const (
	rowH      = 13.0
	rolloutW  = 780.0
	namesW    = 110.0
	notesW    = 96.0
	roleGap   = 7.0
	wickWidth = 3.2
)

// Rollout draws a rollout over time: a row a member in the order of deployment, gates as posts, what decided in bold.
func Rollout(name string, r *rollout.Record, t Theme) *Drawing {
	p := &rolloutDrawing{boardDrawing: &boardDrawing{Drawing: &Drawing{Page: t.Page, W: rolloutW}, t: t}, r: r, from: r.Began, to: r.End(), left: edge + namesW, right: rolloutW - edge - notesW}
	for i := range r.Rows {
		if e := r.Rows[i].Expected; e != nil && e.Known && e.End.After(p.to) {
			p.to = e.End
		}
	}
	p.to = p.to.Add(p.to.Sub(p.from)/40 + time.Millisecond)
	p.text(edge, edge+14, 16, name+", "+r.Title(), t.Ink, true)
	about := r.Began.Local().Format("2 January 2006, 15:04:05")
	if r.By != "" {
		about += ", asked for by " + r.By
	}
	p.text(edge, edge+30, 9, fmt.Sprintf("%s: %s, %s", about, r.Counts(), r.Standing()), t.Dim, false)
	if len(r.Chain) > 1 {
		p.text(edge, edge+43, 9, map[bool]string{true: "what decides: ", false: "decided by "}[r.Active()]+r.Decided(), t.Leads, true)
	}
	top := edge + 72
	bottom := p.rows(top)
	p.axis(top-6, bottom)
	p.legend(bottom + 26)
	p.H = bottom + 26 + edge
	return p.Drawing
}

type rolloutDrawing struct {
	*boardDrawing
	r           *rollout.Record
	from, to    time.Time
	left, right float64
}

func (p *rolloutDrawing) x(at time.Time) float64 {
	return p.left + (p.right-p.left)*float64(at.Sub(p.from))/float64(p.to.Sub(p.from))
}

// rows draws all members, and gives where they end.
func (p *rolloutDrawing) rows(y float64) float64 {
	chain := map[field.MemberName]bool{}
	for _, l := range p.r.Chain {
		chain[l.Member] = len(p.r.Chain) > 1
	}
	role, first := field.RoleName(""), y
	for i := range p.r.Rows {
		row := &p.r.Rows[i]
		if row.Role != role {
			if role != "" {
				p.gates(role, first, y)
				y += roleGap
			}
			p.text(edge, y+9, 9, string(row.Role), p.t.Ink, true)
			y += rowH
			role, first = row.Role, y
		}
		color := p.t.Ink
		if chain[row.Member] {
			color = p.t.Leads
		}
		p.text(edge+8, y+9, 8, string(row.Member), color, chain[row.Member])
		for j, s := range row.Segments {
			p.wick(y+rowH/2, row, s, j > 0)
		}
		p.expected(y+rowH/2, row)
		p.note(y+9, row)
		y += rowH
	}
	if role != "" {
		p.gates(role, first, y)
	}
	return y
}

// wick draws a phase as a line; shapes differ as well as tones.
func (p *rolloutDrawing) wick(y float64, row *rollout.Row, s rollout.Segment, began bool) {
	x := p.x(s.From)
	w := p.x(s.Until(p.r.End())) - x
	line := Shape{Kind: Line, X: x, Y: y, W: w, Label: string(s.Phase)}
	switch s.Phase {
	case state.Planned:
		line.Edge, line.Width, line.Dashed = p.t.Planned, 0.6, true
	case state.Placing:
		line.Edge, line.Width, line.Dashed = p.t.Warm, 1.4, true
	case state.Starting:
		line.Edge, line.Width = p.t.Warm, wickWidth
		if row.Pace != nil && row.Pace.Word == pace.Stuck && s.To.IsZero() {
			line.Edge = p.t.Dark
		}
	case state.Joining:
		for _, dy := range []float64{-1.3, 1.3} {
			p.add(Shape{Kind: Line, X: x, Y: y + dy, W: w, Edge: p.t.Warm, Width: 1, Label: "joining"})
		}
		return
	case state.Draining, state.Stopping:
		line.Edge, line.Width, line.Dashed = p.t.Warm, 2.2, true
	case state.Ready:
		line.Edge, line.Width = p.t.Lit, 0.8
		if s.Due {
			line.Dashed = true
		}
	case state.Failed, state.Unready, state.Unknown:
		line.Edge, line.Width, line.Dashed = p.t.Dark, 2.4, true
	default:
		return
	}
	p.add(line)
	switch {
	case began && s.Phase == state.Ready && !s.Due:
		p.add(Shape{Kind: Disc, X: x, Y: y, W: 10, Fill: p.t.LitGlow, Label: "glow"})
		p.add(Shape{Kind: Disc, X: x, Y: y, W: 5.6, Fill: p.t.Lit, Label: "lit"})
	case s.Phase == state.Failed || s.Phase == state.Unready:
		for _, h := range []float64{1, -1} {
			p.add(Shape{Kind: Line, X: x - 2.6, Y: y - 2.6*h, W: 5.2, H: 5.2 * h, Edge: p.t.Dark, Width: 1.3, Label: "dark"})
		}
	}
}

// expected draws when it may be done.
func (p *rolloutDrawing) expected(y float64, row *rollout.Row) {
	e := row.Expected
	if e == nil || !e.Known {
		return
	}
	from := e.Begin
	if from.Before(p.r.End()) {
		from = p.r.End()
	}
	if e.End.After(from) {
		p.add(Shape{Kind: Line, X: p.x(from), Y: y, W: p.x(e.End) - p.x(from), Edge: p.t.Planned, Width: 0.9, Dashed: true, Label: "expected"})
		p.add(Shape{Kind: Disc, X: p.x(e.End), Y: y, W: 5, Edge: p.t.Planned, Width: 0.9, Label: "expected"})
	}
}

func (p *rolloutDrawing) note(y float64, row *rollout.Row) {
	text, color := "", p.t.Dim
	switch {
	case !row.Done.IsZero() && !row.Begun.IsZero():
		text = field.Brief(row.Done.Sub(row.Begun))
	case !row.Done.IsZero():
	case row.Pace != nil && row.Pace.Word != pace.AsUsual:
		text, color = fmt.Sprintf("%s: %s", row.Pace.Word, field.Span(row.Pace.For)), p.t.Dark
	default:
		text = string(row.Now().Phase)
	}
	p.text(p.right+10, y, 8, text, color, false)
}

// gates draws those that stood in the way of a role, across its rows.
func (p *rolloutDrawing) gates(role field.RoleName, top, bottom float64) {
	for i := range p.r.Gates {
		g := &p.r.Gates[i]
		if g.Role != role {
			continue
		}
		at, color := g.Opened, p.t.Planned
		if !g.Open() {
			at, color = p.r.End(), p.t.Dark
		}
		x := p.x(at)
		p.add(Shape{Kind: Line, X: x, Y: top - rowH + 2, H: bottom - top + rowH - 2, Edge: color, Width: 1.6, Label: "gate"})
		text := fmt.Sprintf("%s: %s", g.Gate.On, g.Gate.Gate)
		if !g.Open() {
			text = g.Gate.String()
		}
		s := Shape{Kind: Text, X: x - 7, Y: top - 4, Text: text, Size: 8, Fill: color, Right: true, Label: "gate"}
		if x-p.left < 4.4*float64(len(text)) {
			s.X, s.Right = x+4, false
		}
		p.add(s)
	}
}

// distances between marks on an axis of time that are easy to read.
var distances = []time.Duration{10 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second,
	30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour}

// axis draws the time since it began, with a line at now where it goes on.
func (p *rolloutDrawing) axis(y, bottom float64) {
	span := p.to.Sub(p.from)
	step := distances[len(distances)-1]
	for _, d := range distances {
		if span/d <= 9 {
			step = d
			break
		}
	}
	p.add(Shape{Kind: Line, X: p.left, Y: y, W: p.right - p.left, Edge: p.t.Rule, Width: 0.8})
	for at := time.Duration(0); at <= span; at += step {
		x := p.x(p.from.Add(at))
		p.add(Shape{Kind: Line, X: x, Y: y, H: bottom - y, Edge: p.t.Rule, Width: 0.3, Label: "mark"})
		text := strings.TrimSuffix(strings.TrimSuffix(field.Brief(at), " 0 s"), ".0 s")
		if at == 0 {
			text = "0"
		} else if !strings.HasSuffix(text, "s") && !strings.HasSuffix(text, "n") {
			text += " s"
		}
		p.text(x+2, y-3, 7.5, text, p.t.Dim, false)
	}
	if p.r.Active() {
		x := p.x(p.r.End())
		p.add(Shape{Kind: Line, X: x, Y: y, H: bottom - y, Edge: p.t.Ink, Width: 0.9, Dashed: true, Label: "now"})
		p.text(x+2, y-3, 7.5, "now", p.t.Ink, true)
	}
}

func (p *rolloutDrawing) legend(y float64) {
	x := edge
	for _, e := range []struct {
		phase state.Phase
		word  string
	}{{state.Planned, "waits"}, {state.Placing, "being placed"}, {state.Starting, "starting"}, {state.Joining, "joining"}, {state.Stopping, "stopping"}, {state.Ready, "lit"}, {state.Failed, "dark"}} {
		p.from, p.to, p.left, p.right = time.Unix(0, 0), time.Unix(1, 0), x, x+26
		p.wick(y, &rollout.Row{}, rollout.Segment{Phase: e.phase, From: p.from, To: p.to}, true)
		p.text(x+32, y+3, 8, e.word, p.t.Dim, false)
		x += 44 + 4.6*float64(len(e.word)) + 10
	}
	p.add(Shape{Kind: Line, X: x, Y: y - 6, H: 12, Edge: p.t.Planned, Width: 1.6, Label: "gate"})
	p.text(x+6, y+3, 8, "gate", p.t.Dim, false)
}

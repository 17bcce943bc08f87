// Package charts is the view of health: what was measured of a role over time, as small charts on one axis, of which each opens large.
package charts

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// View stands on a chart of a role.
type View struct {
	Told   *health.Told // as it was read last; nil before
	Before *health.Told // the span before, where it is compared with that
	Why    string       // why nothing can be told
	Roles  []field.RoleName
	Role   field.RoleName
	Chart  string // the name of the chart on which it stands
	Large  bool   // that one alone
	Each   bool   // each member alone, where it is large
	Over   string // the name of another chart that is laid over the large one

	first int // the first row of small charts that is drawn
}

// Measures of charts, in cells.
const (
	leastW  = 52 // of a small chart
	labelW  = 10
	smallH  = 6 // of a small chart, its title included
	ribbonH = 2
)

// Parts is in how many parts the time is to be told for an area: two for each column.
func (v *View) Parts(a board.Area) int {
	w := a.W
	if !v.Large {
		w /= v.columns(a)
	}
	return max(8, 2*(w-labelW-3))
}

func (v *View) columns(a board.Area) int { return max(1, min(3, a.W/leastW)) }

// place is on which of the charts it stands.
func (v *View) place() int {
	if v.Told == nil {
		return 0
	}
	return max(0, slices.IndexFunc(v.Told.Charts, func(c health.Chart) bool { return c.Name == v.Chart }))
}

// Move goes to another chart.
func (v *View) Move(by int) {
	if v.Told != nil && len(v.Told.Charts) > 0 {
		v.Chart = v.Told.Charts[max(0, min(v.place()+by, len(v.Told.Charts)-1))].Name
	}
}

// Turn goes to another role.
func (v *View) Turn(by int) {
	if i := slices.Index(v.Roles, v.Role); len(v.Roles) > 0 {
		v.Role = v.Roles[(max(0, i)+by+len(v.Roles))%len(v.Roles)]
	}
}

// drawing is one frame of the view.
type drawing struct {
	g      *grid.Grid
	k      theme.Theme
	v      *View
	cursor time.Time // the moment that is looked at
	past   bool
}

// Draw draws the view into an area; cursor is the moment that is looked at.
func (v *View) Draw(g *grid.Grid, k theme.Theme, cursor time.Time, past bool, a board.Area) {
	a.X, a.W = a.X+1, a.W-2
	d := &drawing{g, k, v, cursor, past}
	d.roles(a)
	a.Y, a.H = a.Y+1, a.H-1
	switch {
	case v.Told == nil || len(v.Told.Charts) == 0:
		text := "Nothing was measured yet. Charts come as soon as members run: whether they are ready, how fast they answer, what they take of their machines."
		if v.Why != "" {
			text = v.Why
		}
		for i, l := range grid.Wrap(text, max(20, min(a.W, 90))) {
			g.Clip(a.X, a.Y+1+i, a.W, l, k.Text())
		}
	case v.Large:
		d.large(a)
	default:
		d.small(a)
	}
}

// roles names the roles, the chosen one lit, and says how much is kept.
func (d *drawing) roles(a board.Area) {
	x := a.X
	for _, r := range d.v.Roles {
		style := d.k.Quiet()
		if r == d.v.Role {
			style = d.k.In(d.k.Lit).Strong()
		}
		name := cmp.Or(string(r), "whole field")
		if x+grid.Width(name) > a.X+a.W-4 {
			break
		}
		x = d.g.Text(x, a.Y, name, style) + 2
	}
	t := d.v.Told
	if t == nil {
		return
	}
	text := ""
	if t.Bytes > 0 {
		text = fmt.Sprintf("%s of at most %s kept", field.Bytes(t.Bytes), field.Bytes(t.Limit))
	}
	if len(t.Lost) > 0 {
		text = t.Lost[0]
	}
	if room := a.X + a.W - x - 2; room > 10 {
		text = grid.Shorten(text, room)
		style := d.k.In(d.k.Faint)
		if len(t.Lost) > 0 {
			style = d.k.In(d.k.Fail)
		}
		d.g.Text(a.X+a.W-grid.Width(text), a.Y, text, style)
	}
}

// small draws all charts beside and below each other, with the time under them.
func (d *drawing) small(a board.Area) {
	columns := d.v.columns(a)
	width := (a.W - 2*(columns-1)) / columns
	all := d.v.Told.Charts
	at := d.v.place()
	d.v.Chart = all[at].Name
	type cell struct{ x, y, h int }
	places := make([]cell, len(all))
	heights := make([]int, columns)
	for i := range all { // each goes where most room is
		c := 0
		for j := range heights {
			if heights[j] < heights[c] {
				c = j
			}
		}
		h := smallH
		if all[i].Shape == health.Ribbon {
			h = ribbonH
		}
		places[i] = cell{a.X + c*(width+2), heights[c], h}
		heights[c] += h
	}
	room := a.H - 1
	d.v.first = max(0, min(d.v.first, places[at].y))
	if below := places[at].y + places[at].h; below > d.v.first+room {
		d.v.first = below - room
	}
	for i := range all {
		if y := places[i].y - d.v.first; y >= 0 && y+places[i].h <= room {
			d.chart(&all[i], board.Area{X: places[i].x, Y: a.Y + y, W: width, H: places[i].h}, i == at)
		}
	}
	for c := range columns {
		d.axis(board.Area{X: a.X + c*(width+2), Y: a.Y + a.H - 1, W: width, H: 1})
	}
}

// large draws one chart alone, with what happened meanwhile.
func (d *drawing) large(a board.Area) {
	c := &d.v.Told.Charts[d.v.place()]
	d.v.Chart = c.Name
	foot := 2
	high := a.H - foot
	if c.Shape == health.Ribbon {
		high = ribbonH
	}
	d.chart(c, board.Area{X: a.X, Y: a.Y, W: a.W, H: high}, true)
	d.over(c, board.Area{X: a.X, Y: a.Y, W: a.W, H: high})
	d.axis(board.Area{X: a.X, Y: a.Y + a.H - foot, W: a.W, H: 1})
	d.under(c, a.X, a.Y+a.H-1, a.W)
}

// under says below a large chart what is under the cursor.
func (d *drawing) under(c *health.Chart, x, y, w int) {
	part := d.part(d.v.Told)
	text := d.cursor.Local().Format("15:04:05")
	switch p, any := d.held(c); {
	case !any:
		text += "  nothing was measured"
	case c.Shape == health.Curve:
		text += fmt.Sprintf("  %s, from %s", Value(p.Mid, c.Unit), between(p.Low, p.High, c.Unit))
	default:
		text += "  " + d.now(c)
	}
	if b := d.v.Before; b != nil {
		if o := b.Chart(c.Name); o != nil && part >= 0 && part < len(o.Band) && o.Band[part].N > 0 {
			text += fmt.Sprintf("; %s in the span before", Value(o.Band[part].Mid, c.Unit))
		}
	}
	if o := d.v.laid(); o != nil {
		if p, any := d.held(o); any {
			text += fmt.Sprintf("; %s %s", o.About, Value(p.Mid, o.Unit))
		}
	}
	for _, m := range d.v.Told.Marks {
		if at := d.v.Told.Part(m.At); at >= part-2 && at <= part+2 {
			text += "; " + m.Text
		}
	}
	d.g.Clip(x, y, w, text, d.k.Text())
}

// part is the part under the cursor.
func (d *drawing) part(t *health.Told) int {
	if p := t.Part(d.cursor); p >= 0 {
		return p
	}
	return t.Parts - 1
}

// chart draws one chart with its title.
func (d *drawing) chart(c *health.Chart, a board.Area, chosen bool) {
	k := d.k
	style := k.Text()
	if chosen {
		d.g.Fill(a.X, a.Y, a.W, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
		style = k.In(k.Act).Strong()
	}
	title := c.About
	d.g.Clip(a.X, a.Y, a.W, title, style)
	if text := d.now(c); text != "" && a.W-grid.Width(title)-3 > grid.Width(text) {
		d.g.Text(a.X+a.W-grid.Width(text), a.Y, text, k.In(k.Lit))
	}
	plot := board.Area{X: a.X + labelW, Y: a.Y + 1, W: a.W - labelW, H: a.H - 1}
	if !d.v.Large && c.Shape != health.Ribbon {
		plot.H-- // a blank line between charts
	}
	if plot.H < 1 {
		return
	}
	if !k.Flat && c.Shape != health.Ribbon {
		for y := range plot.H {
			d.g.Fill(plot.X, plot.Y+y, plot.W, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Shade})
		}
	}
	switch c.Shape {
	case health.Ribbon:
		d.ribbon(c, plot)
	case health.Steps:
		d.steps(c, plot)
	default:
		d.curve(c, plot)
	}
	if d.past {
		if x := d.column(d.part(d.v.Told), plot.W); x >= 0 && x < plot.W {
			for y := range plot.H {
				d.g.Set(plot.X+x, plot.Y+y, k.Or('│', '|'), k.In(k.Act))
			}
		}
	}
}

// held is the part under the cursor; where nothing was measured in it, the newest before that still holds.
func (d *drawing) held(c *health.Chart) (health.Part, bool) {
	at := d.part(d.v.Told)
	for i := min(at, len(c.Band)-1); i >= 0 && i > at-d.stale()-1; i-- {
		if c.Band[i].N > 0 {
			return c.Band[i], true
		}
	}
	return health.Part{}, false
}

// now is the value under the cursor.
func (d *drawing) now(c *health.Chart) string {
	p, any := d.held(c)
	switch {
	case !any:
		return ""
	case c.Shape == health.Ribbon && p.Mid < 1:
		return "nobody"
	case c.Shape == health.Ribbon:
		return fmt.Sprintf("%s-%d", d.v.Role, int(p.Mid+0.5))
	case c.Shape == health.Steps:
		return Value(p.Low, c.Unit)
	case p.High > p.Mid*1.02:
		return between(p.Mid, p.High, c.Unit)
	}
	return Value(p.Mid, c.Unit)
}

// between words a span, with its unit once.
func between(low, high float64, unit string) string {
	a, b := Value(low, unit), Value(high, unit)
	if i, j := strings.LastIndexByte(a, ' '), strings.LastIndexByte(b, ' '); i > 0 && j > 0 && a[i:] == b[j:] {
		a = a[:i]
	}
	return a + " to " + b
}

// stale is over how many parts a value is carried on: what is measured comes every five seconds.
func (d *drawing) stale() int {
	t := d.v.Told
	per := t.To.Sub(t.From) / time.Duration(max(1, t.Parts))
	if per <= 0 {
		return 1
	}
	return 1 + int(11*time.Second/per)
}

// carried gives parts in which short gaps are filled with what came before.
func (d *drawing) carried(parts []health.Part) []health.Part {
	out := slices.Clone(parts)
	last, most := -1, d.stale()
	for i, p := range out {
		if p.N > 0 {
			last = i
		} else if last >= 0 && i-last < most && d.v.Told.At(i).Before(d.v.Told.To) {
			out[i] = out[last]
			out[i].N = 1
		}
	}
	return out
}

// column is where a part is drawn.
func (d *drawing) column(part, w int) int {
	if part < 0 {
		return -1
	}
	return part * w / max(1, d.v.Told.Parts)
}

// axis draws the time below charts, with what happened.
func (d *drawing) axis(a board.Area) {
	t, k := d.v.Told, d.k
	x, w := a.X+labelW, a.W-labelW
	d.g.Fill(x, a.Y, w, 1, k.Or('─', '-'), k.In(k.Faint))
	ago := "-" + strings.TrimSuffix(field.Span(t.To.Sub(t.From)), " 0 s")
	d.g.Text(x, a.Y, ago+" ", k.Quiet())
	end := " " + t.To.Local().Format("15:04:05")
	d.g.Text(x+w-len(end), a.Y, end, k.Quiet())
	for _, m := range t.Marks {
		if at := d.column(t.Part(m.At), w); at > len(ago) && at < w-len(end) {
			d.g.Set(x+at, a.Y, k.Or('▾', 'v'), k.In(k.Act))
		}
	}
}

// Value words a number in a unit.
func Value(v float64, unit string) string {
	digits := func(v float64) string {
		switch a := math.Abs(v); {
		case a >= 100 || a == math.Trunc(a):
			return strconv.FormatFloat(v, 'f', 0, 64)
		case a >= 10:
			return strconv.FormatFloat(v, 'f', 1, 64)
		case a >= 0.01:
			return strconv.FormatFloat(v, 'f', 2, 64)
		}
		return strconv.FormatFloat(v, 'g', 2, 64)
	}
	switch unit {
	case "bytes":
		return field.Bytes(v).String()
	case "bytes/s":
		return field.Bytes(v).String() + "/s"
	case "share":
		return digits(100*v) + " %"
	case "members":
		return digits(v)
	case "":
		return digits(v)
	case "s", "seconds":
		switch a := math.Abs(v); {
		case a == 0 || a >= 1:
			return digits(v) + " s"
		case a >= 1e-3:
			return digits(v*1e3) + " ms"
		}
		return digits(v*1e6) + " µs"
	}
	return digits(v) + " " + unit
}

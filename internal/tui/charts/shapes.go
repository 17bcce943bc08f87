package charts

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"lanternfield/internal/core/health"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// dots are cells of two by four dots each, as braille signs show them.
type dots struct {
	w, h  int // in cells
	cells []rune
	style []grid.Style
}

func newDots(w, h int) *dots {
	return &dots{w, h, make([]rune, w*h), make([]grid.Style, w*h)}
}

// set sets a dot, counted from the upper left one.
func (d *dots) set(x, y int, s grid.Style) {
	if x < 0 || y < 0 || x >= 2*d.w || y >= 4*d.h {
		return
	}
	i := y/4*d.w + x/2
	bit := [4][2]rune{{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}}[y%4][x%2]
	d.cells[i] |= bit
	d.style[i] = s
}

// draw puts the dots on a grid; in ASCII a cell with any is one sign.
func (d *dots) draw(g *grid.Grid, a board.Area, ascii rune) {
	for i, c := range d.cells {
		if c == 0 {
			continue
		}
		r := 0x2800 + c
		if ascii != 0 {
			r = ascii
		}
		g.Set(a.X+i%d.w, a.Y+i/d.w, r, d.style[i])
	}
}

// scale is what the rows of a chart stand for.
type scale struct{ low, high float64 }

// scaleOf is from zero, or from somewhat below the least where nothing is near zero, to the most.
func scaleOf(c *health.Chart, other *health.Chart) scale {
	low, high, ok := c.Range()
	if other != nil {
		if l, h, there := other.Range(); there {
			if !ok {
				low, high, ok = l, h, true
			}
			low, high = min(low, l), max(high, h)
		}
	}
	if !ok {
		return scale{0, 1}
	}
	if low > 0 && low < 0.8*high || c.Shape == health.Steps {
		low = 0
	}
	if high-low < 1e-12 {
		if high == 0 {
			return scale{0, 1}
		}
		low, high = low-math.Abs(low)/20, high+math.Abs(high)/20
	}
	return scale{low, high}
}

// row is on which of n rows of dots a value is, counted from the top.
func (s scale) row(v float64, n int) int {
	return n - 1 - int(float64(n-1)*(v-s.low)/(s.high-s.low)+0.5)
}

// label words a value at the edge of a chart, where there is little room: without decimals, then without its time or its unit, which the title says too.
func label(v float64, unit string) string {
	for _, unit := range []string{unit, strings.TrimSuffix(unit, "/s"), ""} {
		text := Value(v, unit)
		if grid.Width(text) < labelW {
			return text
		}
		number, of, _ := strings.Cut(text, " ")
		if n, err := strconv.ParseFloat(number, 64); err == nil && math.Abs(n) >= 10 { // of less, the decimals are what counts
			if text = strings.TrimSpace(strconv.FormatFloat(n, 'f', 0, 64) + " " + of); grid.Width(text) < labelW {
				return text
			}
		}
	}
	return grid.Shorten(Value(v, ""), labelW-1)
}

// labels writes what the top and the bottom stand for.
func (d *drawing) labels(s scale, unit string, a board.Area) {
	put := func(y int, v float64) {
		text := label(v, unit)
		d.g.Text(a.X-1-grid.Width(text), y, text, d.k.Quiet())
	}
	put(a.Y, s.high)
	if a.H > 1 {
		put(a.Y+a.H-1, s.low)
	}
	if a.H >= 9 {
		put(a.Y+a.H/2, s.low+(s.high-s.low)*(1-float64(a.H/2)/float64(a.H-1)))
	}
}

// curve draws the middle as a line, and from the least to the most as a glow behind it.
func (d *drawing) curve(c *health.Chart, a board.Area) {
	var other *health.Chart
	if d.v.Before != nil {
		other = d.v.Before.Chart(c.Name)
	}
	s := scaleOf(c, other)
	d.labels(s, c.Unit, a)
	n := 4 * a.H
	ascii := d.k.Or(0, '*')
	band := d.carried(c.Band)
	at := func(i int) int { return i * 2 * a.W / max(1, len(band)) } // the column of dots of a part
	if !(d.v.Large && d.v.Each && len(c.Lines) > 0) {
		edge := newDots(a.W, a.H)
		for i, p := range band {
			if p.N == 0 {
				continue
			}
			top, bottom := s.row(p.High, n), s.row(p.Low, n)
			if !d.k.Flat {
				for y := max(0, top) / 4; y <= min(n-1, bottom)/4; y++ {
					d.g.Set(a.X+at(i)/2, a.Y+y, ' ', grid.Style{Fg: d.k.Paper, Bg: d.k.WarmGlow})
				}
			}
			if i%2 == 0 {
				edge.set(at(i), top, d.k.In(d.k.Warm))
				edge.set(at(i), bottom, d.k.In(d.k.Warm))
			}
		}
		edge.draw(d.g, a, d.k.Or(0, '.'))
	}
	if c.Bound > s.low && c.Bound <= s.high {
		y := a.Y + s.row(c.Bound, n)/4
		for x := 0; x < a.W; x += 2 {
			d.g.Set(a.X+x, y, d.k.Or('╌', '-'), d.k.In(d.k.Fail))
		}
	}
	if other != nil {
		ghost := newDots(a.W, a.H)
		for i, p := range d.carried(other.Band) {
			if p.N > 0 && i%2 == 0 {
				ghost.set(at(i), s.row(p.Mid, n), d.k.In(d.k.Act))
			}
		}
		ghost.draw(d.g, a, d.k.Or(0, ','))
	}
	if d.v.Large && d.v.Each && len(c.Lines) > 0 {
		d.each(c, s, a)
		return
	}
	line := newDots(a.W, a.H)
	d.line(line, band, s, n, at, d.k.In(d.k.Lit))
	line.draw(d.g, a, ascii)
}

// line joins the middles of parts.
func (d *drawing) line(to *dots, parts []health.Part, s scale, n int, at func(int) int, style grid.Style) {
	last := -1
	for i, p := range parts {
		if p.N == 0 {
			last = -1
			continue
		}
		y := s.row(p.Mid, n)
		to.set(at(i), y, style)
		if last >= 0 {
			step := 1
			if y < last {
				step = -1
			}
			for j := last; j != y; j += step {
				to.set(at(i), j, style)
			}
		}
		last = y
	}
}

// each draws every member alone, with its name where its line ends.
func (d *drawing) each(c *health.Chart, s scale, a board.Area) {
	colors := []grid.Color{d.k.Lit, d.k.Act, d.k.Plan, d.k.Gold, d.k.Fail, d.k.Warm}
	n := 4 * a.H
	taken := map[int]bool{}
	for i, l := range c.Lines {
		style := d.k.In(colors[i%len(colors)])
		parts := d.carried(l.Parts)
		to := newDots(a.W, a.H)
		d.line(to, parts, s, n, func(i int) int { return i * 2 * a.W / max(1, len(parts)) }, style)
		to.draw(d.g, a, d.k.Or(0, rune('a'+i%26)))
		for j := len(parts) - 1; j >= 0; j-- {
			if parts[j].N > 0 {
				y := min(max(s.row(parts[j].Mid, n)/4, 0), a.H-1)
				for taken[y] && y < a.H-1 {
					y++
				}
				taken[y] = true
				name := l.Of
				if d.k.ASCII {
					name = fmt.Sprintf("%c %s", 'a'+i%26, name)
				}
				d.g.Text(a.X+a.W-grid.Width(name), a.Y+y, name, style.Strong())
				break
			}
		}
	}
}

var blocks, lowBlocks = []rune(" ▁▂▃▄▅▆▇█"), []rune(" ..::oo##")

// steps draws a count as a filled area; what is missing of what is wanted stands above it.
func (d *drawing) steps(c *health.Chart, a board.Area) {
	s := scaleOf(c, nil)
	s.low = 0
	if c.Name == "survives" {
		s.high = max(1, s.high)
	}
	d.labels(s, c.Unit, a)
	band := d.carried(c.Band)
	var want []health.Part
	if len(c.Lines) == 1 && len(c.Lines[0].Parts) == len(band) {
		want = d.carried(c.Lines[0].Parts)
	}
	ramp := blocks
	if d.k.ASCII {
		ramp = lowBlocks
	}
	for x := range a.W {
		from, to := x*len(band)/a.W, max(x*len(band)/a.W+1, (x+1)*len(band)/a.W)
		value, wanted, any := math.Inf(1), 0.0, false
		for i := from; i < min(to, len(band)); i++ {
			if band[i].N > 0 {
				value, any = min(value, band[i].Low), true
				if c.Name == "starts" {
					value = band[i].High
				}
			}
			if want != nil && want[i].N > 0 {
				wanted = max(wanted, want[i].High)
			}
		}
		if !any {
			continue
		}
		eighths := int(math.Round(8 * float64(a.H) * max(0, value) / s.high))
		color := d.k.Lit
		if value < 0 || wanted > 0 && value == 0 {
			color = d.k.Fail
		}
		for y := range a.H {
			fill := min(8, eighths-8*(a.H-1-y))
			switch tone := grid.Mix(d.k.Ink, color, 0.62); {
			case fill == 8 && !d.k.Flat: // signs of whole cells leave gaps between rows in many fonts
				d.g.Set(a.X+x, a.Y+y, ' ', grid.Style{Fg: color, Bg: tone})
			case fill > 0 && !d.k.Flat:
				d.g.Set(a.X+x, a.Y+y, ramp[fill], d.k.In(tone))
			case fill > 0:
				d.g.Set(a.X+x, a.Y+y, ramp[fill], d.k.In(color))
			}
		}
		if top := s.row(wanted, a.H); wanted > value && top >= 0 && top < a.H {
			d.g.Set(a.X+x, a.Y+top, d.k.Or('▔', '^'), d.k.In(d.k.Fail))
		}
		if value < 0 {
			d.g.Set(a.X+x, a.Y+a.H-1, d.k.Or('╳', 'x'), d.k.In(d.k.Fail))
		}
	}
}

// ribbon draws who led: a line that is broken where another came to lead.
func (d *drawing) ribbon(c *health.Chart, a board.Area) {
	band := d.carried(c.Band)
	last, free := -1, 0
	for x := range a.W {
		i := x * len(band) / a.W
		if band[i].N == 0 {
			last = -1
			continue
		}
		who := int(band[i].High + 0.5)
		mixed := band[i].Low != band[i].High
		switch {
		case who == 0:
			d.g.Set(a.X+x, a.Y, d.k.Or('╳', 'x'), d.k.In(d.k.Fail))
		case who != last || mixed:
			d.g.Set(a.X+x, a.Y, d.k.Or('┣', '|'), d.k.In(d.k.Gold).Strong())
			name := fmt.Sprintf("%s-%d ", d.v.Role, who)
			if x >= free && x+1+grid.Width(name) < a.W {
				d.g.Text(a.X+x+1, a.Y, name, d.k.In(d.k.Gold))
				free = x + 1 + grid.Width(name)
			}
		case x >= free:
			d.g.Set(a.X+x, a.Y, d.k.Or('━', '='), d.k.In(d.k.Gold))
		}
		last = who
	}
}

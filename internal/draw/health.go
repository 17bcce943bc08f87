package draw

import (
	"fmt"
	"image/color"
	"math"
	"strconv"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
)

// Measures of charts, in points.
const (
	chartW   = 700.0
	chartH   = 92.0
	ribbonPt = 16.0
	axisW    = 64.0
	chartGap = 34.0
)

// Health draws what was measured of a role over time: each chart with its axes, its unit and what happened meanwhile, on one axis of time.
func Health(name string, t *health.Told, theme Theme) *Drawing {
	d := &healthDrawing{boardDrawing: &boardDrawing{Drawing: &Drawing{Page: theme.Page, W: chartW + 2*edge}, t: theme}, told: t, left: edge + axisW, right: edge + chartW}
	title := name
	if t.Role != "" {
		title += ", " + t.Role
	}
	d.text(edge, edge+14, 16, title, theme.Ink, true)
	d.text(edge, edge+30, 9, fmt.Sprintf("%s to %s, in parts of %s", t.From.Local().Format("2 January 2006, 15:04:05"), t.To.Local().Format("2 January 2006, 15:04:05"),
		field.Brief(t.To.Sub(t.From)/time.Duration(max(1, t.Parts)))), theme.Dim, false)
	y := edge + 64.0
	for i := range t.Charts {
		y = d.chart(&t.Charts[i], y)
	}
	d.legend(y)
	d.H = y + 14 + edge
	return d.Drawing
}

type healthDrawing struct {
	*boardDrawing
	told        *health.Told
	left, right float64
}

func (d *healthDrawing) x(part float64) float64 {
	return d.left + (d.right-d.left)*part/float64(max(1, d.told.Parts))
}

func (d *healthDrawing) moment(at time.Time) float64 {
	return d.left + (d.right-d.left)*float64(at.Sub(d.told.From))/float64(d.told.To.Sub(d.told.From))
}

// chart draws one chart, and gives where the next one begins.
func (d *healthDrawing) chart(c *health.Chart, y float64) float64 {
	title := c.About
	if unit := unitWord(c.Unit); unit != "" {
		title += ", " + unit
	}
	d.text(d.left, y-6, 9.5, title, d.t.Ink, true)
	h := chartH
	if c.Shape == health.Ribbon {
		h = ribbonPt
	}
	for _, m := range d.told.Marks {
		d.add(Shape{Kind: Line, X: d.moment(m.At), Y: y, H: h, Edge: d.t.Planned, Width: 0.5, Dashed: true, Label: "mark"})
	}
	if c.Shape == health.Ribbon {
		d.led(c, y, h)
	} else {
		d.plot(c, y, h)
	}
	d.time(y + h)
	return y + h + chartGap
}

// plot draws a chart with numbers.
func (d *healthDrawing) plot(c *health.Chart, y, h float64) {
	low, high, ok := c.Range()
	if !ok {
		low, high = 0, 1
	}
	ticks := ticksOf(low, high, c)
	low, high = ticks[0], ticks[len(ticks)-1]
	at := func(v float64) float64 { return y + h - h*(v-low)/(high-low) }
	for _, v := range ticks {
		d.add(Shape{Kind: Line, X: d.left, Y: at(v), W: d.right - d.left, Edge: d.t.Rule, Width: 0.4, Label: "tick"})
		d.add(Shape{Kind: Text, X: d.left - 5, Y: at(v) + 2.6, Text: amount(v, c.Unit), Size: 7.5, Fill: d.t.Dim, Right: true, Label: "tick"})
	}
	if c.Bound > low && c.Bound <= high {
		d.add(Shape{Kind: Line, X: d.left, Y: at(c.Bound), W: d.right - d.left, Edge: d.t.Dark, Width: 0.8, Dashed: true, Label: "bound"})
		d.add(Shape{Kind: Text, X: d.right, Y: at(c.Bound) - 3, Text: "at most " + amount(c.Bound, c.Unit), Size: 7.5, Fill: d.t.Dark, Right: true, Label: "bound"})
	}
	gap := d.stale()
	if c.Shape == health.Steps {
		d.area(c.Band, low, at, gap)
		for _, l := range c.Lines {
			d.joined(l.Parts, at, gap, d.t.Ink, 0.9, true)
		}
		return
	}
	last := -1
	for i, p := range c.Band { // from the least to the most
		if p.N == 0 {
			continue
		}
		if top, bottom := at(p.High), at(p.Low); bottom-top > 0.6 {
			to := float64(i + 1)
			if last >= 0 && i-last <= gap {
				d.add(Shape{Kind: Box, X: d.x(float64(last + 1)), Y: top, W: d.x(to) - d.x(float64(last+1)), H: bottom - top, Fill: d.t.LitGlow, Label: "band"})
			} else {
				d.add(Shape{Kind: Box, X: d.x(float64(i)), Y: top, W: d.x(to) - d.x(float64(i)), H: bottom - top, Fill: d.t.LitGlow, Label: "band"})
			}
		}
		last = i
	}
	if len(c.Lines) > 0 {
		for i, l := range c.Lines {
			d.joined(l.Parts, at, gap, []color.RGBA{d.t.Lit, d.t.Planned, d.t.Dark, d.t.Leads, d.t.Warm}[i%5], 1, i%2 == 1)
		}
		return
	}
	d.joined(c.Band, at, gap, d.t.Lit, 1.3, false)
}

// stale is over how many parts a value holds: what is measured comes every five seconds.
func (d *healthDrawing) stale() int {
	per := d.told.To.Sub(d.told.From) / time.Duration(max(1, d.told.Parts))
	if per <= 0 {
		return 1
	}
	return 1 + int(11*time.Second/per)
}

// joined draws the middles as a line, which is broken where nothing was measured.
func (d *healthDrawing) joined(parts []health.Part, at func(float64) float64, gap int, c color.RGBA, width float64, dashed bool) {
	last := -1
	for i, p := range parts {
		if p.N == 0 {
			continue
		}
		if last >= 0 && i-last <= gap {
			x, y := d.x(float64(last)+0.5), at(parts[last].Mid)
			d.add(Shape{Kind: Line, X: x, Y: y, W: d.x(float64(i)+0.5) - x, H: at(p.Mid) - y, Edge: c, Width: width, Dashed: dashed, Label: "line"})
		}
		last = i
	}
}

// area draws a count as bars without gaps.
func (d *healthDrawing) area(parts []health.Part, low float64, at func(float64) float64, gap int) {
	last := -1
	for i, p := range parts {
		if p.N == 0 {
			continue
		}
		from := float64(i)
		if last >= 0 && i-last <= gap {
			from = float64(last + 1)
		}
		fill := d.t.LitGlow
		if p.Low < 0 {
			fill = d.t.DarkGlow
		}
		d.add(Shape{Kind: Box, X: d.x(from), Y: at(max(p.Low, low)), W: d.x(float64(i+1)) - d.x(from), H: at(low) - at(max(p.Low, low)), Fill: fill, Label: "count"})
		d.add(Shape{Kind: Line, X: d.x(from), Y: at(p.Low), W: d.x(float64(i+1)) - d.x(from), Edge: d.t.Lit, Width: 1, Label: "count"})
		last = i
	}
}

// led draws who led when.
func (d *healthDrawing) led(c *health.Chart, y, h float64) {
	gap, last, who, from := d.stale(), -1, -1, 0.0
	end := func(to float64) {
		if last < 0 {
			return
		}
		fill, text := d.t.LitGlow, fmt.Sprintf("%s-%d", d.told.Role, who)
		if who == 0 {
			fill, text = d.t.DarkGlow, "nobody"
		}
		d.add(Shape{Kind: Box, X: d.x(from), Y: y + 2, W: d.x(to) - d.x(from), H: h - 4, Fill: fill, Edge: d.t.Leads, Width: 0.6, Label: "leader"})
		if room := d.x(to) - d.x(from); room > 4.6*float64(len(text)) {
			d.text(d.x(from)+4, y+h-5, 8, text, d.t.Leads, true)
		}
	}
	for i, p := range c.Band {
		if p.N == 0 {
			continue
		}
		now := int(p.High + 0.5)
		if last < 0 || i-last > gap || now != who {
			to := float64(i)
			if last >= 0 && i-last > gap {
				to = float64(last + 1)
			}
			end(to)
			from, who = float64(i), now
		}
		last = i
	}
	end(float64(last + 1))
}

// time draws the axis of time.
func (d *healthDrawing) time(y float64) {
	d.add(Shape{Kind: Line, X: d.left, Y: y, W: d.right - d.left, Edge: d.t.Rule, Width: 0.8})
	span := d.told.To.Sub(d.told.From)
	step := distances[len(distances)-1]
	for _, s := range distances {
		if span/s <= 8 {
			step = s
			break
		}
	}
	form := "15:04:05"
	switch {
	case step >= 24*time.Hour:
		form = "2 Jan"
	case span > 24*time.Hour:
		form = "2 Jan 15:04"
	case step >= time.Minute:
		form = "15:04"
	}
	for at := d.told.From.Truncate(step).Add(step); at.Before(d.told.To); at = at.Add(step) {
		x := d.moment(at)
		d.add(Shape{Kind: Line, X: x, Y: y, H: 3, Edge: d.t.Dim, Width: 0.6, Label: "mark of time"})
		d.text(x+2, y+9, 7.5, at.Local().Format(form), d.t.Dim, false)
	}
}

// legend says what the shapes mean, and what happened.
func (d *healthDrawing) legend(y float64) {
	text := "line: the middle of all members; shaded: from the least to the most; broken: nothing was measured"
	for i, m := range d.told.Marks {
		if i == 0 {
			text += "; dashed across: "
		} else {
			text += ", "
		}
		if i == 6 {
			text += fmt.Sprintf("%d more", len(d.told.Marks)-i)
			break
		}
		text += m.At.Local().Format("15:04:05") + " " + m.Text
	}
	if most := int((d.W - 2*edge) / 3.9); len(text) > most {
		text = text[:most-3] + "…"
	}
	d.text(edge, y, 8, text, d.t.Dim, false)
}

// unitWord is how a unit stands in a title; bytes say theirs with each number.
func unitWord(unit string) string {
	switch unit {
	case "share":
		return "in percent"
	case "bytes", "bytes/s", "":
		return ""
	}
	return unit
}

// amount words a number on an axis.
func amount(v float64, unit string) string {
	switch unit {
	case "bytes":
		return field.Bytes(v).String()
	case "bytes/s":
		return field.Bytes(v).String() + "/s"
	case "share":
		v *= 100
	}
	return strconv.FormatFloat(math.Round(v*1e6)/1e6, 'g', 5, 64)
}

// ticksOf gives the numbers at the side of a chart: whole ones where members are counted, round ones of their unit where bytes are.
func ticksOf(low, high float64, c *health.Chart) []float64 {
	zero := c.Shape == health.Steps || low >= 0 && low < 0.8*high
	if most := max(math.Abs(low), math.Abs(high)); !zero && high-low < most/1000 { // it hardly moves: the numbers at the side would be one and the same, and the line on the edge
		low, high = low-most/20, high+most/20
	}
	unit := 1.0
	switch c.Unit {
	case "bytes", "bytes/s":
		for math.Abs(high) >= 1024*unit && unit < 1<<40 {
			unit *= 1024
		}
		high = max(high, low+4) // bytes are not divided
	case "members":
		low, high = math.Floor(low), max(math.Ceil(high), math.Floor(low)+1)
	}
	ticks := niceTicks(low/unit, high/unit, zero)
	if c.Unit == "members" && len(ticks) > 1 && ticks[1]-ticks[0] < 1 {
		ticks = ticks[:0]
		for v := low; v <= high; v++ {
			ticks = append(ticks, v)
		}
	}
	for i := range ticks {
		ticks[i] *= unit
	}
	return ticks
}

// niceTicks gives three to six round numbers that hold a span.
func niceTicks(low, high float64, zero bool) []float64 {
	if zero {
		low = min(low, 0)
	}
	if high-low < 1e-12 {
		high = low + max(1, math.Abs(low)/10)
	}
	step := math.Pow(10, math.Floor(math.Log10((high-low)/3)))
	for _, f := range []float64{1, 2, 2.5, 5, 10} {
		if (high-low)/(step*f) <= 4.5 {
			step *= f
			break
		}
	}
	var out []float64
	for v := math.Floor(low/step+1e-9) * step; ; v += step {
		out = append(out, v)
		if v >= high-step*1e-9 || len(out) > 12 {
			return out
		}
	}
}

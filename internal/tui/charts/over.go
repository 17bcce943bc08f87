package charts

import (
	"slices"

	"lanternfield/internal/core/health"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// LayOver lays the next other chart over the large one; none after the last.
func (v *View) LayOver() {
	if v.Told == nil || len(v.Told.Charts) == 0 {
		return
	}
	v.Chart = v.Told.Charts[v.place()].Name
	names := []string{""}
	for _, c := range v.Told.Charts {
		if c.Shape != health.Ribbon && c.Name != v.Chart {
			names = append(names, c.Name)
		}
	}
	v.Over = names[(max(0, slices.Index(names, v.Over))+1)%len(names)]
}

// laid is the chart that is laid over the large one; nil for none.
func (v *View) laid() *health.Chart {
	if !v.Large || v.Over == "" || v.Over == v.Chart || v.Told == nil {
		return nil
	}
	return v.Told.Chart(v.Over)
}

// over draws another chart over the large one: its middle as dots, on a scale of its own, which stands at the right.
func (d *drawing) over(c *health.Chart, a board.Area) {
	o := d.v.laid()
	plot := board.Area{X: a.X + labelW, Y: a.Y + 1, W: a.W - labelW, H: a.H - 1}
	if o == nil || c.Shape == health.Ribbon || plot.H < 2 || plot.W < 8 {
		return
	}
	style := d.k.In(d.k.Act)
	s := scaleOf(o, nil)
	n := 4 * plot.H
	to := newDots(plot.W, plot.H)
	band := d.carried(o.Band)
	for i, p := range band {
		if p.N > 0 && i%2 == 0 {
			to.set(i*2*plot.W/max(1, len(band)), s.row(p.Mid, n), style)
		}
	}
	to.draw(d.g, plot, d.k.Or(0, 'o'))
	for y, v := range map[int]float64{plot.Y: s.high, plot.Y + plot.H - 1: s.low} {
		text := Value(v, o.Unit)
		d.g.Text(plot.X+plot.W-grid.Width(text), y, text, style)
	}
	title := "dotted: " + o.About
	d.g.Clip(a.X+grid.Width(c.About)+3, a.Y, a.W-grid.Width(c.About)-22, title, style)
}

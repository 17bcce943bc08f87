package draw

import (
	"fmt"

	"lanternfield/internal/core/snapshot"

	"lanternfield/internal/core/wiring"
)

// Measures of the order, in points.
const (
	roleW   = 118.0
	roleH   = 44.0
	channel = 92.0
	perUnit = 34.0 // of the layout
)

// Order draws the roles in the order in which they are deployed, with the gates between them.
func Order(snap *snapshot.Snapshot, t Theme) *Drawing {
	g := wiring.Of(snap.Roles)
	d := &boardDrawing{Drawing: &Drawing{Page: t.Page}, t: t, snap: snap}
	d.W = max(480, 2*edge+float64(len(g.Stages))*(roleW+channel)-channel)
	top := edge + 62.0
	d.H = top + g.Lay.Breadth*perUnit + 70
	d.text(edge, edge+14, 16, snap.Field, t.Ink, true)
	d.text(edge, edge+30, 9, "the order of deployment, "+snap.At.Local().Format("2 January 2006, 15:04:05"), t.Dim, false)
	x := func(stage int) float64 { return edge + float64(stage)*(roleW+channel) }
	y := func(at float64) float64 { return top + at*perUnit }
	for s := range g.Stages {
		name := fmt.Sprintf("stage %d", s+1)
		if s == 0 {
			name = "first"
		}
		d.text(x(s), edge+52, 8, name, t.Dim, false)
	}
	for i, w := range g.Wires {
		r := g.Lay.Routes[i]
		if len(r) == 0 {
			continue
		}
		c := t.Dim
		if w.Gate != "" {
			c = t.Planned
			if w.Open {
				c = t.Lit
			}
		}
		step := min(10, (roleH-10)/float64(max(1, w.Entries-1)))
		end := y(r[len(r)-1].At) + (float64(w.Entry)-float64(w.Entries-1)/2)*step
		for j := 1; j < len(r); j++ {
			x0, y0, x1, y1 := x(r[j-1].Layer)+roleW, y(r[j-1].At), x(r[j].Layer), y(r[j].At)
			last := j == len(r)-1
			if last {
				y1 = end
				x1 -= 44
			}
			d.add(Shape{Kind: Line, X: x0, Y: y0, W: x1 - x0, H: y1 - y0, Edge: c, Width: 0.9, Dashed: w.Gate == "", Label: fmt.Sprintf("wire from %s to %s", w.From, w.To)})
			if last {
				d.add(Shape{Kind: Line, X: x1, Y: y1, W: 41, Edge: c, Width: 0.9, Dashed: w.Gate == ""})
				if w.Gate != "" {
					d.add(Shape{Kind: Line, X: x1 + 42, Y: y1 - 4, H: 8, Edge: c, Width: 2})
					d.add(Shape{Kind: Text, X: x1 + 38, Y: y1 - 3, Text: string(w.Gate), Size: 7, Fill: t.Dim, Right: true, Label: "gate"})
				}
			} else { // it passes through the stage
				d.add(Shape{Kind: Line, X: x1, Y: y1, W: roleW, Edge: c, Width: 0.9, Dashed: w.Gate == ""})
			}
		}
	}
	stage := map[int]int{}
	for s, roles := range g.Stages {
		for _, i := range roles {
			stage[i] = s
		}
	}
	for i := range g.Roles {
		d.orderRole(&g.Roles[i], x(stage[i]), y(g.Lay.At[i])-roleH/2)
	}
	d.text(edge, d.H-edge, 8, "A line leads from a role to one that waits for it; the bar is its gate. Dashed: it is only told where the other is.", t.Dim, false)
	return d.Drawing
}

func (b *boardDrawing) orderRole(r *snapshot.RoleView, x, y float64) {
	fill, edge := b.t.PlanGlow, b.t.Planned
	switch {
	case r.Ready >= r.Want && r.Want > 0:
		fill, edge = b.t.LitGlow, b.t.Lit
	case r.Ready > 0:
		fill, edge = b.t.WarmGlow, b.t.Warm
	case r.Worked:
		fill, edge = b.t.DarkGlow, b.t.Dark
	}
	b.add(Shape{Kind: Box, X: x, Y: y, W: roleW, H: roleH, Fill: fill, Edge: edge, Width: 1, Label: "role " + string(r.Role)})
	b.text(x+8, y+14, 10, string(r.Role), b.t.Ink, true)
	b.text(x+8, y+26, 8, fmt.Sprintf("%s, %d of %d lit", r.Kind, r.Ready, r.Want), b.t.Dim, false)
	if r.Votes {
		text := "its members vote"
		if r.Worked && r.Survives >= 0 {
			text = fmt.Sprintf("survives %d", r.Survives)
		}
		b.text(x+8, y+37, 8, text, b.t.Dim, false)
	}
}

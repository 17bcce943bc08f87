package draw

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/snapshot"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/whatif"
)

// Measures of the table of losses, in points.
const (
	cellW    = 62.0
	cellH    = 26.0
	mostCols = 24 // nodes, after the zones; those that hold nobody are left out
)

// Survives draws what each zone and node takes with it when it fails, role by role, and the failures that hurt most. Before
// anything runs it takes every member of the draft to work.
func Survives(snap *snapshot.Snapshot, t Theme) *Drawing {
	scene := snap.Scene()
	var units []whatif.Fault
	var names []string
	zones := map[field.ZoneName]bool{}
	busy := map[field.NodeName]bool{}
	for _, m := range scene.Members {
		zones[m.Zone], busy[m.Node] = true, true
	}
	if len(zones) > 1 {
		for _, n := range snap.Nodes {
			if zones[n.Zone] {
				zones[n.Zone] = false
				units, names = append(units, whatif.Fault{Zone: n.Zone}), append(names, string(n.Zone))
			}
		}
	}
	first := len(units)
	left := 0
	for _, n := range snap.Nodes {
		switch {
		case !busy[n.Node]:
		case len(units)-first >= mostCols:
			left++
		default:
			units, names = append(units, whatif.Fault{Node: n.Node}), append(names, string(n.Node))
		}
	}
	singles, doubles := scene.WorstFailures(6)
	b := &boardDrawing{Drawing: &Drawing{Page: t.Page}, t: t, snap: snap}
	b.W = max(2*edge+float64(len(survivesLegend))*3.9, 2*edge+margin+float64(len(units))*cellW)
	top := edge + 76.0
	bottom := top + float64(len(snap.Roles))*cellH
	b.H = bottom + 66 + 14*float64(max(1, len(singles))+max(1, len(doubles))) + 62
	b.text(edge, edge+14, 16, snap.Field, t.Ink, true)
	b.text(edge, edge+30, 9, "what is left of each role when a zone or a node fails, "+snap.At.Local().Format("2 January 2006, 15:04:05"), t.Dim, false)
	for i, name := range names {
		x := edge + margin + float64(i)*cellW
		if i == first && first > 0 {
			b.add(Shape{Kind: Line, X: x - 2, Y: edge + 50, H: bottom - edge - 50, Edge: t.Rule, Width: 0.7})
		}
		if len(name) > 12 {
			name = name[:11] + "…"
		}
		b.add(Shape{Kind: Text, X: x + 4, Y: top - 10, Text: name, Size: 8, Fill: t.Ink, Bold: i < first, Label: "failure"})
	}
	losses := make([]whatif.Loss, len(units))
	for i, u := range units {
		losses[i] = scene.Fail(u)
	}
	for j, r := range snap.Roles {
		y := top + float64(j)*cellH
		b.text(edge, y+16, 10, string(r.Role), t.Ink, true)
		for i := range units {
			b.cell(losses[i], r, edge+margin+float64(i)*cellW, y)
		}
	}
	if left > 0 {
		b.text(edge, bottom+14, 8, fmt.Sprintf("%d more nodes are not shown", left), t.Dim, false)
	}
	y := bottom + 36
	y = b.worst(y, "one failure that stops something", singles, "No single failure of a node or a zone would stop anything.")
	b.worst(y+10, "two failures that together stop more", doubles, "Nor would any two together stop more.")
	b.text(edge, b.H-edge+8, 8, survivesLegend, t.Dim, false)
	return b.Drawing
}

const survivesLegend = "red: it stops; dashed: it goes on without any reserve; shaded: it goes on with fewer; empty: it loses nobody. Calls are followed."

// cell says what is left of a role after a failure.
func (b *boardDrawing) cell(loss whatif.Loss, r snapshot.RoleView, x, y float64) {
	i := slices.IndexFunc(loss.Roles, func(l whatif.RoleLoss) bool { return l.Role == r.Role })
	s := Shape{Kind: Box, X: x, Y: y + 3, W: cellW - 4, H: cellH - 6, Edge: b.t.Rule, Width: 0.5, Label: "cell"}
	text, c := "", b.t.Dim
	if i >= 0 {
		l := loss.Roles[i]
		text = fmt.Sprintf("%d of %d", l.Left, l.Of)
		_, weight := l.Words(true)
		switch weight {
		case whatif.Stopped:
			s.Fill, s.Edge, s.Width, c = b.t.DarkGlow, b.t.Dark, 1.2, b.t.Dark
			if l.Through != "" {
				text = "no " + string(l.Through)
			}
		case whatif.Tight:
			s.Fill, s.Edge, s.Dashed, s.Width, c = b.t.WarmGlow, b.t.Warm, true, 0.9, b.t.Warm
		default:
			s.Fill = b.t.LitGlow
			c = b.t.Ink
		}
	}
	b.add(s)
	if len(text) > 13 {
		text = text[:12] + "…"
	}
	b.text(x+5, y+16, 8, text, c, i >= 0 && s.Width > 1)
}

func (b *boardDrawing) worst(y float64, title string, cases []whatif.Case, none string) float64 {
	b.text(edge, y, 9, title, b.t.Ink, true)
	y += 14
	if len(cases) == 0 {
		b.text(edge, y, 8, none, b.t.Dim, false)
		return y + 14
	}
	for _, c := range cases {
		var names []string
		for _, f := range c.Faults {
			names = append(names, string(f.Zone)+string(f.Node))
		}
		b.text(edge, y, 8, strings.Join(names, " and ")+": "+c.Loss.Stops()+" would stop", b.t.Dim, false)
		y += 14
	}
	return y
}

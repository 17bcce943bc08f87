// Package stages is the view of roles as they are deployed: stages from left to right, and between them the gates that each
// role waits for.
package stages

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wiring"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// Measures, in cells.
const (
	unit    = 2.5 // rows for each unit of the layout: a role and its gap take two
	boxRows = 3
	label   = 14 // for the gate before a role
)

// View is the wiring of a board's roles, laid out.
type View struct {
	of    *board.Model
	graph *wiring.Graph
}

// Sync lays the roles out when the board has changed.
func (v *View) Sync(m *board.Model) {
	if v.of == m {
		return
	}
	roles := make([]snapshot.RoleView, len(m.Roles))
	for i := range m.Roles {
		roles[i] = m.Roles[i].RoleView
	}
	v.of, v.graph = m, wiring.Of(roles)
}

// Move gives the role that stands in a direction of another.
func (v *View) Move(from, dx, dy int) int {
	g := v.graph
	for s, stage := range g.Stages {
		i := slices.Index(stage, from)
		if i < 0 {
			continue
		}
		if dy != 0 {
			return stage[min(max(i+dy, 0), len(stage)-1)]
		}
		for next := s + dx; next >= 0 && next < len(g.Stages); next += dx {
			if len(g.Stages[next]) > 0 {
				return slices.MinFunc(g.Stages[next], func(a, b int) int {
					return cmp.Compare(math.Abs(g.Lay.At[a]-g.Lay.At[from]), math.Abs(g.Lay.At[b]-g.Lay.At[from]))
				})
			}
		}
	}
	return from
}

// drawing is one frame of the view.
type drawing struct {
	g     *grid.Grid
	k     theme.Theme
	a     board.Area
	v     *View
	width int   // of a role
	left  []int // the first column of each stage
	top   int
	lines map[[2]int]line
}

// line is what wires do in one cell.
type line struct {
	sides  int // which ways it leads
	dotted bool
	style  grid.Style
}

const (
	toLeft = 1 << iota
	toRight
	up
	down
)

// Draw draws the roles with their wires; chosen is the one that the person stands on.
func (v *View) Draw(g *grid.Grid, k theme.Theme, a board.Area, chosen int) {
	if v.graph == nil || len(v.graph.Roles) == 0 {
		g.Clip(a.X+2, a.Y+1, a.W-4, "There are no roles yet. A adds one.", k.Quiet())
		return
	}
	d := &drawing{g: g, k: k, a: a, v: v, lines: map[[2]int]line{}}
	d.measure(chosen)
	for s := range v.graph.Stages {
		title := fmt.Sprintf("stage %d", s+1)
		if s == 0 {
			title = "first"
		}
		if x := d.left[s]; x >= a.X && x < a.X+a.W {
			g.Clip(x, a.Y, min(d.width, a.X+a.W-x), title, k.Quiet())
		}
	}
	d.wires(chosen)
	for i := range v.graph.Roles {
		d.role(i, i == chosen)
	}
}

// measure finds the columns, and what part of the whole is in sight.
func (d *drawing) measure(chosen int) {
	g := d.v.graph
	d.width = 14
	for i := range g.Roles {
		second := fmt.Sprintf("%d/%d %s", g.Roles[i].Ready, g.Roles[i].Want, g.Roles[i].Kind)
		d.width = max(d.width, min(24, max(grid.Width(string(g.Roles[i].Role)), grid.Width(second))+5))
	}
	x := d.a.X + 2
	for s := range g.Stages {
		d.left = append(d.left, x)
		x += d.width + d.channel(s) + 1
	}
	stage, at := 0, 0.0
	for s := range g.Stages {
		if slices.Contains(g.Stages[s], chosen) {
			stage, at = s, g.Lay.At[chosen]
		}
	}
	if over := d.left[stage] + d.width + 2 - (d.a.X + d.a.W); over > 0 {
		for i := range d.left {
			d.left[i] -= over
		}
	}
	d.top = d.a.Y + 2
	high := int(g.Lay.Breadth*unit) + boxRows
	if free := d.a.H - 3 - high; free > 1 {
		d.top += free / 3
	} else if y := int(at*unit) + boxRows; y > d.a.H-4 {
		d.top -= y - (d.a.H - 4)
	}
}

// channel is how wide the space after a stage is: a column for each wire that turns in it, and room for the gate's name.
func (d *drawing) channel(s int) int {
	n := 0
	for _, r := range d.v.graph.Lay.Routes {
		for j := 1; j < len(r); j++ {
			if r[j-1].Layer == s && d.row(r[j-1].At) != d.row(r[j].At) {
				n++
			}
		}
	}
	return min(2*n, 24) + label + 3
}

func (d *drawing) row(at float64) int { return d.top + int(math.Round(at*unit)) }

// role draws a role as a lantern of its own.
func (d *drawing) role(i int, chosen bool) {
	g, k := d.v.graph, d.k
	r := &d.v.of.Roles[i]
	stage := 0
	for s := range g.Stages {
		if slices.Contains(g.Stages[s], i) {
			stage = s
		}
	}
	x, y := d.left[stage], d.row(g.Lay.At[i])-boxRows/2
	if y <= d.a.Y || y+boxRows > d.a.Y+d.a.H || x+d.width <= d.a.X || x >= d.a.X+d.a.W {
		return
	}
	lamp := k.LampOf(phaseOf(r), false)
	fill := grid.Style{Fg: k.Paper, Bg: lamp.Glow}
	d.g.Fill(x, y, d.width, boxRows, ' ', fill)
	d.g.Set(x+1, y, lamp.Shape, grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: true})
	style := grid.Style{Fg: k.Paper, Bg: lamp.Glow, Bold: true}
	if chosen {
		style.Fg = k.Act
		for j := range boxRows {
			d.g.Set(x-1, y+j, k.Or('⟦', '['), k.In(k.Act).Strong())
			d.g.Set(x+d.width, y+j, k.Or('⟧', ']'), k.In(k.Act).Strong())
		}
	}
	d.g.Clip(x+3, y, d.width-4, string(r.Role), style)
	d.g.Clip(x+3, y+1, d.width-4, fmt.Sprintf("%d/%d %s", r.Ready, max(r.Want, r.Draft), cmp.Or(string(r.Kind), string(field.Worker))), fill)
	last := ""
	if r.Votes {
		last = "votes"
		if r.Survives >= 0 && r.Worked {
			last = fmt.Sprintf("survives %d", r.Survives)
		}
	}
	d.g.Clip(x+3, y+2, d.width-4, last, grid.Style{Fg: k.Dim, Bg: lamp.Glow})
}

// phaseOf is how a role burns as a whole: as its worst member, once it has any.
func phaseOf(r *board.Role) state.Phase {
	phase := state.Planned
	for _, m := range r.Members {
		switch {
		case m.Unsent:
		case m.Phase == state.Failed || m.Phase == state.Unready || m.Phase == state.Unknown:
			return m.Phase
		case m.Phase != state.Ready:
			phase = m.Phase
		case phase == state.Planned:
			phase = state.Ready
		}
	}
	return phase
}

package stages

import (
	"cmp"
	"slices"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/wiring"
	"lanternfield/internal/tui/grid"
)

// wires draws who depends on whom.
func (d *drawing) wires(chosen int) {
	g := d.v.graph
	type hop struct{ wire, from, to int } // rows in a channel
	for s := 0; s+1 < len(g.Stages); s++ {
		var hops []hop
		for i, r := range g.Lay.Routes {
			for j := 1; j < len(r); j++ {
				if r[j-1].Layer == s {
					hops = append(hops, hop{i, d.row(r[j-1].At), d.entry(i, s, r[j].At)})
				}
			}
		}
		slices.SortStableFunc(hops, func(a, b hop) int { // wires that turn cross less when those that fall far turn first
			fall := func(h hop) int {
				if h.to > h.from {
					return -h.from
				}
				return h.from
			}
			return cmp.Compare(fall(a), fall(b))
		})
		track := d.left[s] + d.width + 2
		for _, h := range hops {
			w := g.Wires[h.wire]
			style := d.k.In(d.k.Dim)
			switch {
			case g.Roles[max(0, chosen)].Role == w.To || g.Roles[max(0, chosen)].Role == w.From:
				style = d.k.In(d.k.Act)
			case w.Gate != "" && w.Open:
				style = d.k.In(d.k.Lit)
			case w.Gate != "":
				style = d.k.In(d.k.Warm)
			}
			turn := d.left[s] + d.width + 1
			if h.from != h.to {
				turn = min(track, d.left[s+1]-label-2)
				track += 2
			}
			end := d.left[s+1] - 1
			if !d.ended(h.wire, s) {
				end += d.width + 1 // it passes through the stage
			}
			d.run(d.left[s]+d.width, turn, h.from, w.Gate == "", style)
			d.fall(turn, h.from, h.to, w.Gate == "", style)
			d.run(turn, end, h.to, w.Gate == "", style)
			if d.ended(h.wire, s) {
				d.gate(w, d.left[s+1]-1, h.to, style)
			}
		}
	}
	for at, l := range d.lines {
		if at[0] >= d.a.X && at[0] < d.a.X+d.a.W && at[1] > d.a.Y && at[1] < d.a.Y+d.a.H {
			d.g.Set(at[0], at[1], d.rune(l), l.style)
		}
	}
	d.lines = nil
	for s := 0; s+1 < len(g.Stages); s++ {
		for i, r := range g.Lay.Routes {
			if len(r) > 0 && r[len(r)-1].Layer == s+1 {
				d.name(g.Wires[i], s, i)
			}
		}
	}
}

// ends is the role in which a wire ends in the next stage; -1 where it passes through.
func (d *drawing) ends(wire, stage int) int {
	r := d.v.graph.Lay.Routes[wire]
	if r[len(r)-1].Layer != stage+1 {
		return -1
	}
	last := d.v.graph.Wires[wire].To
	if d.v.graph.Wires[wire].Back {
		last = d.v.graph.Wires[wire].From
	}
	return slices.IndexFunc(d.v.graph.Roles, func(r snapshot.RoleView) bool { return r.Role == last })
}

func (d *drawing) ended(wire, stage int) bool { return d.ends(wire, stage) >= 0 }

// entry is the row on which a wire reaches the next stage: wires into one role end on different rows of it, as far as it
// has them.
func (d *drawing) entry(wire, stage int, passes float64) int {
	g := d.v.graph
	to := d.ends(wire, stage)
	if to < 0 {
		return d.row(passes)
	}
	w := g.Wires[wire]
	return d.row(g.Lay.At[to]) + min(w.Entry, boxRows-1) - min(w.Entries-1, boxRows-1)/2
}

func (d *drawing) mark(x, y, sides int, dotted bool, style grid.Style) {
	l, there := d.lines[[2]int{x, y}]
	l.sides |= sides
	l.dotted = dotted && (!there || l.dotted)
	if !there || style.Fg == d.k.Act {
		l.style = style
	}
	d.lines[[2]int{x, y}] = l
}

func (d *drawing) run(from, to, y int, dotted bool, style grid.Style) {
	for x := from; x <= to; x++ {
		sides := 0
		if x > from {
			sides |= toLeft
		}
		if x < to {
			sides |= toRight
		}
		d.mark(x, y, sides, dotted, style)
	}
}

func (d *drawing) fall(x, from, to int, dotted bool, style grid.Style) {
	lo, hi := min(from, to), max(from, to)
	for y := lo; y <= hi; y++ {
		sides := 0
		if y > lo {
			sides |= up
		}
		if y < hi {
			sides |= down
		}
		if sides != 0 {
			d.mark(x, y, sides, dotted, style)
		}
	}
}

func (d *drawing) rune(l line) rune {
	shapes := map[int]rune{toLeft: '─', toRight: '─', toLeft | toRight: '─', up: '│', down: '│', up | down: '│', toRight | down: '╭', toLeft | down: '╮',
		toRight | up: '╰', toLeft | up: '╯', toLeft | toRight | down: '┬', toLeft | toRight | up: '┴', up | down | toRight: '├', up | down | toLeft: '┤',
		toLeft | toRight | up | down: '┼'}
	r := shapes[l.sides]
	if d.k.ASCII {
		switch r {
		case '─':
			return '-'
		case '│':
			return '|'
		}
		return '+'
	}
	if l.dotted {
		switch r {
		case '─':
			return '┄'
		case '│':
			return '┆'
		}
	}
	return r
}

// gate ends a wire before its role: a door that is open or shut, or, where nothing is waited for, no door.
func (d *drawing) gate(w wiring.Wire, x, y int, style grid.Style) {
	if w.Back { // who is told stands at its other end
		return
	}
	delete(d.lines, [2]int{x, y})
	door := d.k.Or('▹', '>')
	switch {
	case w.Gate != "" && w.Open:
		door = d.k.Or('▸', '>')
	case w.Gate != "":
		door = d.k.Or('▌', '|')
	}
	d.g.Set(x, y, door, style.Strong())
}

// name writes what a wire waits for, on its last stretch.
func (d *drawing) name(w wiring.Wire, s, i int) {
	if w.Gate == "" {
		return
	}
	text := string(w.Gate)
	if !w.Open && w.Missing != "" {
		text += " " + w.Missing
	}
	if grid.Width(text) > label-1 {
		text = string(w.Gate)
	}
	style := d.k.Quiet()
	if w.Open {
		style = d.k.In(d.k.Lit)
	}
	d.g.Clip(d.left[s+1]-2-grid.Width(text), d.entry(i, s, 0), label, text, style)
}

package board

import (
	"fmt"
	"slices"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/core/state"

	"lanternfield/internal/tui/grid"
)

// size is how large a lantern is drawn: the width and height of its body, whether it has a cap and a foot, and whether
// its name stands below.
type size struct {
	width, height int
	tall          bool
	named         bool
}

// sizes from the largest to the smallest.
var sizes = []size{{9, 3, true, true}, {7, 1, true, true}, {5, 1, true, true}, {3, 1, true, true}, {3, 1, false, true}, {3, 1, true, false},
	{3, 1, false, false}, {1, 1, false, false}}

// rows is how many rows a lantern of that size takes.
func (s size) rows() int {
	n := s.height
	if s.tall {
		n += 2
	}
	if s.named {
		n++
	}
	if s.width > 3 {
		n++ // air around large ones
	}
	return n
}

// step is how far lanterns of that size hang apart.
func (s size) step(here []*Member) int {
	w := s.width
	if s.named {
		for _, m := range here {
			w = max(w, len(m.Member))
		}
	}
	return w + 1
}

// fit chooses the largest size in which all lanterns of a crossing have room; ok is false where none does.
func (l layout) fit(here []*Member, column int, ascii bool) (s size, ok bool) {
	for _, s := range sizes {
		room := column
		if len(here) == 1 && (s.width == 1 || !s.named && s.width < column) {
			room++ // one alone needs no air behind it; of several, the last would touch the first of the next post
		}
		if s.tall && ascii && !s.named || s.rows() > l.row || len(here)*s.step(here) > room {
			continue
		}
		return s, true
	}
	return size{}, false
}

// middle is the column of one of the lanterns of a crossing.
func (l layout) middle(p span, s size, here []*Member, i int) int {
	step := s.step(here)
	return p.x + p.w/2 - (len(here)-1)*step/2 + i*step
}

// drawLanterns hangs the lanterns of one role on one post: tall where there is room, and a count where they are many.
func drawLanterns(g *grid.Grid, k theme.Theme, l layout, p span, y int, here []*Member, chosen int, carried bool) {
	s, ok := l.fit(here, p.w, k.ASCII)
	if !ok {
		drawCount(g, k, p, y, here, chosen >= 0)
		return
	}
	for i, m := range here {
		drawLantern(g, k, l.middle(p, s, here, i), y, s, m, i == chosen, carried)
	}
}

// drawCount draws many lanterns in one place as the worst of them and a number.
func drawCount(g *grid.Grid, k theme.Theme, p span, y int, here []*Member, chosen bool) {
	worst := slices.MaxFunc(here, func(a, b *Member) int { return urgency(a) - urgency(b) })
	lamp := lampOf(k, worst)
	text := fmt.Sprintf("%c%d", lamp.Shape, len(here))
	at := p.x + p.w/2 - grid.Width(text)/2
	g.Text(at, y, text, grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: chosen})
	if chosen {
		brackets(g, k, at-1, at+grid.Width(text), y)
	}
}

func brackets(g *grid.Grid, k theme.Theme, left, right, y int) {
	g.Set(left, y, k.Or('⟦', '['), k.In(k.Act).Strong())
	g.Set(right, y, k.Or('⟧', ']'), k.In(k.Act).Strong())
}

func lampOf(k theme.Theme, m *Member) theme.Lamp {
	lamp := k.LampOf(m.Phase, m.Leads)
	if m.Lost {
		lamp = k.LampOf(state.Failed, false)
		lamp.Glow = k.Ink
	}
	if m.Unsent {
		lamp.Glow = k.Ink
	}
	return lamp
}

// urgency orders lanterns by how much they want to be seen.
func urgency(m *Member) int {
	return slices.Index([]state.Phase{state.Gone, state.Ready, state.Planned, state.Stopped, state.Stopping, state.Draining, state.Joining,
		state.Starting, state.Placing, state.Unknown, state.Unready, state.Failed}, m.Phase)
}

// drawLantern draws one lantern around its middle: a cap that hangs on the post, the light, the glow below, its name.
func drawLantern(g *grid.Grid, k theme.Theme, x, y int, s size, m *Member, chosen, carried bool) {
	lamp := lampOf(k, m)
	body := grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: m.Phase == state.Ready}
	half, up := s.width/2, s.height/2
	for j := -up; j <= up; j++ {
		for i := -half; i <= half; i++ {
			far := max(abs(i)*2/max(1, half), abs(j)*2/max(1, up+1)) // the light is strongest in the middle
			st := body
			if !m.Unsent && s.width > 3 && !k.Flat {
				st.Bg = grid.Mix(lamp.Glow, k.Ink, float64(far)*0.18)
			}
			g.Set(x+i, y+j, ' ', st)
		}
	}
	shape := body
	if s.width > 3 && !m.Unsent && m.Phase == state.Ready && !k.Flat {
		shape.Bg = grid.Mix(lamp.Glow, lamp.Color, 0.16)
		g.Set(x-1, y, ' ', shape)
		g.Set(x+1, y, ' ', shape)
	}
	g.Set(x, y, lamp.Shape, shape)
	if half > 0 {
		switch {
		case m.Removal:
			g.Set(x-half, y, k.Or('╱', '/'), body)
			g.Set(x+half, y, k.Or('╱', '/'), body)
		case m.Unsent:
			g.Set(x-half, y, k.Or('┊', ':'), body)
			g.Set(x+half, y, k.Or('┊', ':'), body)
		}
	}
	below := y + up + 1
	if s.tall {
		below++
		if !k.ASCII && !m.Unsent {
			edge := grid.Style{Fg: lamp.Glow, Bg: grid.None}
			for i := x - half; i <= x+half; i++ {
				g.Set(i, y-up-1, '▄', edge)
				g.Set(i, y+up+1, '▀', edge)
			}
			for i := x - half + 1; i <= x+half-1; i++ {
				g.Set(i, y+up+1, '▀', grid.Style{Fg: lamp.Color, Bg: grid.None})
			}
		}
	}
	name := string(m.Member)
	if s.named {
		style := k.Quiet()
		if m.Concerned {
			style = k.In(k.Warm).Strong()
		}
		if chosen {
			style = k.In(k.Act)
		}
		at := x - len(name)/2
		g.Text(at, below, name, style)
		if m.Pinned {
			g.Set(at+len(name), below, k.Or('⊥', '!'), k.In(k.Act))
		}
	}
	if m.Marked {
		g.Set(x-half, y, k.Or('▐', '#'), k.In(k.Act))
		g.Set(x+half, y, k.Or('▌', '#'), k.In(k.Act))
	}
	if m.Concerned && !chosen {
		g.Set(x-half-1, y, k.Or('▹', '>'), k.In(k.Warm).Strong())
		g.Set(x+half+1, y, k.Or('◃', '<'), k.In(k.Warm).Strong())
	}
	if chosen {
		left, right := k.Or('⟦', '['), k.Or('⟧', ']')
		if carried {
			left, right = k.Or('▸', '>'), k.Or('◂', '<')
		}
		g.Set(x-half-1, y, left, k.In(k.Act).Strong())
		g.Set(x+half+1, y, right, k.In(k.Act).Strong())
	}
}

// drawFolded draws the lanterns of one role in a zone that is folded: each of them as a light of its own, or, where they
// are too many for that, how many burn and how many do not, with a bar of their light.
func drawFolded(g *grid.Grid, k theme.Theme, l layout, p span, y int, here []*Member, chosen bool) {
	wide := p.w - 2
	if chosen {
		brackets(g, k, p.x, p.x+p.w-1, y)
	}
	if len(here) == 0 {
		return
	}
	sorted := slices.Clone(here)
	slices.SortStableFunc(sorted, func(a, b *Member) int { return urgency(b) - urgency(a) })
	rows := max(1, l.row-1)
	if few := len(here)*4 - 1; few <= wide {
		for i, m := range sorted {
			drawLantern(g, k, p.x+1+(wide-few)/2+1+i*4, y, size{3, 1, l.row >= 3 && !k.ASCII, false}, m, false, false)
		}
		return
	}
	if perRow := max(1, wide); len(here) <= perRow*rows {
		need := (len(here) + perRow - 1) / perRow
		for i, m := range sorted {
			lamp := lampOf(k, m)
			lines := min(perRow, len(here)-i/perRow*perRow)
			x := p.x + 1 + (wide-lines)/2 + i%perRow
			g.Set(x, y-(need-1)/2+i/perRow, lamp.Shape, grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: m.Phase == state.Ready})
		}
		return
	}
	x := p.x + 1
	for i := 0; i < len(sorted); {
		j := i
		for j < len(sorted) && lampOf(k, sorted[j]).Shape == lampOf(k, sorted[i]).Shape {
			j++
		}
		lamp := lampOf(k, sorted[i])
		text := fmt.Sprintf("%c%d", lamp.Shape, j-i)
		if x+grid.Width(text) > p.x+p.w-1 {
			break
		}
		x = g.Text(x, y, text, grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: true}) + 1
		i = j
	}
	if l.row < 2 {
		return
	}
	for i := range wide { // each cell is as many lanterns as there are for one
		lamp := lampOf(k, sorted[i*len(sorted)/wide])
		g.Set(p.x+1+i, y+1, k.Or('▀', '='), grid.Style{Fg: lamp.Color, Bg: lamp.Glow})
	}
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

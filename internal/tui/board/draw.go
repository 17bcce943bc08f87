package board

import (
	"fmt"
	"slices"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/look"
)

// Area is a rectangle of the screen.
type Area struct{ X, Y, W, H int }

// layout is how the board fits its area.
type layout struct {
	Area
	margin int // the width of the role names
	column int // the width of a post's column
	first  int // the first node that is shown
	shown  int // how many are
	top    int // the row of the first role, from the area's top
	row    int // the height of a role's row
	from   int // the first role that is shown
	rows   int
	meters bool // CPU and memory are drawn
	grass  bool // the ground is drawn
}

const (
	narrowColumn = 7
	wideColumn   = 30
	zoneGap      = 2
)

func (m *Model) layout(a Area, c Cursor) layout {
	l := layout{Area: a, margin: 20}
	if a.W < 100 {
		l.margin = 17
	}
	if a.W < 50 {
		l.margin = 12
	}
	nodes := m.Nodes()
	room := a.W - l.margin - 1
	if len(nodes) > 0 {
		l.column = min(max((room-zoneGap*(len(m.Zones)-1))/len(nodes), narrowColumn), wideColumn)
		l.shown = min(len(nodes), max(1, (room-zoneGap*(len(m.Zones)-1))/l.column))
		l.first = min(max(0, c.Node-l.shown/2), len(nodes)-l.shown)
	}
	sized := slices.ContainsFunc(nodes, func(n engine.NodeView) bool { return n.Offered.CPU > 0 || n.Offered.Memory > 0 })
	l.meters = a.H >= 14 && sized
	l.top = 2
	if l.meters {
		l.top = 4
	}
	l.grass = a.H >= 10
	height := a.H - l.top
	if l.grass {
		height -= 2
	}
	if len(m.Roles) > 0 {
		l.row = min(max(height/len(m.Roles), 1), 10)
		l.rows = min(len(m.Roles), max(1, height/l.row))
		l.from = min(max(0, c.Role-l.rows/2), len(m.Roles)-l.rows)
	}
	return l
}

// nodeX gives the middle column of each shown node, and the span of each zone among them.
func (m *Model) nodeX(l layout) (middle map[int]int, zones []zoneSpan) {
	middle = map[int]int{}
	x, i := l.X+l.margin, 0
	for _, z := range m.Zones {
		span := zoneSpan{zone: z.Name, from: x}
		for range z.Nodes {
			if i >= l.first && i < l.first+l.shown {
				middle[i] = x + l.column/2
				x += l.column
			}
			i++
		}
		if x > span.from {
			span.to = x - 1
			zones = append(zones, span)
			x += zoneGap
		}
	}
	return middle, zones
}

type zoneSpan struct {
	zone     field.ZoneName
	from, to int
}

// Draw draws the board with its cursor.
func Draw(g *grid.Grid, k look.Look, m *Model, a Area, c Cursor) {
	if len(m.Roles) == 0 || len(m.Nodes()) == 0 {
		g.Clip(a.X, a.Y+1, a.W, "This field has no roles or nodes yet. Write them into its file; the board follows at once.", k.Quiet())
		return
	}
	l := m.layout(a, c)
	middle, zones := m.nodeX(l)
	bottom := l.Y + l.H - 1
	if l.grass {
		bottom--
	}
	m.drawZones(g, k, l, zones, bottom)
	m.drawPosts(g, k, l, middle, bottom, c)
	for i := range l.rows {
		m.drawRole(g, k, l, middle, l.from+i, l.Y+l.top+i*l.row, c)
	}
	if more := len(m.Nodes()) - l.shown; more > 0 {
		g.Clip(l.X, l.Y, l.margin-1, fmt.Sprintf("%c %d more %c", k.Or('‹', '<'), more, k.Or('›', '>')), k.Quiet())
	}
	if more := len(m.Roles) - l.rows; more > 0 {
		g.Clip(l.X, l.Y+1, l.margin-1, fmt.Sprintf("%d more roles", more), k.Quiet())
	}
}

// drawZones names the zones above their posts and lays their ground below.
func (m *Model) drawZones(g *grid.Grid, k look.Look, l layout, zones []zoneSpan, bottom int) {
	for _, z := range zones {
		name := string(z.zone)
		if name == "" {
			name = "no zone"
		}
		g.Clip(z.from+1, l.Y, z.to-z.from, name, k.Text())
		for x := z.from + 2 + grid.Width(name); x <= z.to-1; x++ {
			g.Set(x, l.Y, k.Or('╌', '-'), k.In(k.Faint))
		}
		if l.grass {
			for x := z.from; x <= z.to; x++ {
				g.Set(x, bottom, k.Or('▀', '='), k.In(k.Ground))
			}
		}
	}
}

// drawPosts draws each node: its name, what is kept free on it, and its post down to the ground.
func (m *Model) drawPosts(g *grid.Grid, k look.Look, l layout, middle map[int]int, bottom int, c Cursor) {
	nodes := m.Nodes()
	for i, x := range middle {
		n := nodes[i]
		style := k.Quiet()
		if n.Dark {
			style = k.In(k.Fail)
		}
		if c.Node == i {
			style = k.Text().Strong()
		}
		name := grid.Shorten(string(n.Node), l.column-1)
		at := x - grid.Width(name)/2
		if c.Node == i && c.Role == -1 {
			g.Set(at-1, l.Y+1, k.Or('⟦', '['), k.In(k.Act))
			g.Set(at+grid.Width(name), l.Y+1, k.Or('⟧', ']'), k.In(k.Act))
			style = k.In(k.Act).Strong()
		}
		g.Text(at, l.Y+1, name, style)
		if l.meters {
			w := min(11, l.column-2)
			meter(g, k, x-w/2, l.Y+2, w, n.Used.CPU, n.Offered.CPU)
			meter(g, k, x-w/2, l.Y+3, w, float64(n.Used.Memory), float64(n.Offered.Memory))
		}
		for y := l.Y + l.top; y < bottom; y++ {
			g.Set(x, y, k.Or('│', '|'), k.In(k.Faint))
		}
	}
	if l.meters {
		g.Text(l.X+l.margin-5, l.Y+2, "cpu", k.In(k.Dim))
		g.Text(l.X+l.margin-5, l.Y+3, "mem", k.In(k.Dim))
	}
}

// meter draws how much of something is kept free for members.
func meter(g *grid.Grid, k look.Look, x, y, w int, used, offered float64) {
	if offered <= 0 {
		g.Set(x+w/2, y, k.Or('·', '.'), k.In(k.Faint))
		return
	}
	full := used / offered
	color := k.Plan
	if full > 1 {
		color = k.Fail
	}
	eighths := int(min(full, 1)*float64(w*8) + 0.5)
	for i := range w {
		part := min(max(eighths-i*8, 0), 8)
		switch {
		case k.ASCII && part >= 4:
			g.Set(x+i, y, '=', k.In(color))
		case k.ASCII:
			g.Set(x+i, y, '.', k.In(k.Faint))
		case part == 0:
			g.Set(x+i, y, ' ', grid.Style{Fg: k.Dim, Bg: k.Raise})
		default:
			g.Set(x+i, y, []rune(" ▏▎▍▌▋▊▉█")[part], grid.Style{Fg: color, Bg: k.Raise})
		}
	}
}

func (m *Model) drawRole(g *grid.Grid, k look.Look, l layout, middle map[int]int, index, y int, c Cursor) {
	r := &m.Roles[index]
	lamp := y + (l.row-1)/2
	m.drawRoleName(g, k, l, r, lamp, c.Role == index, c.Role == index && c.Node == -1)
	nodes := m.Nodes()
	for i, x := range middle {
		here := r.At(nodes[i].Node)
		if len(here) == 0 {
			continue
		}
		chosen := -1
		if c.Role == index && c.Node == i {
			chosen = c.Lantern
		}
		drawLanterns(g, k, x, lamp, l, here, chosen)
	}
	if c.Role == index && c.Node >= 0 {
		if x, ok := middle[c.Node]; ok && len(r.At(nodes[c.Node].Node)) == 0 {
			g.Set(x-2, lamp, k.Or('⟦', '['), k.In(k.Act))
			g.Set(x+2, lamp, k.Or('⟧', ']'), k.In(k.Act))
		}
	}
}

func (m *Model) drawRoleName(g *grid.Grid, k look.Look, l layout, r *Role, y int, inRow, chosen bool) {
	style := k.Text()
	if inRow {
		style = style.Strong()
	}
	width := l.margin - 8
	if chosen {
		style = k.In(k.Act).Strong()
		g.Set(l.X, y, k.Or('▸', '>'), style)
	}
	g.Clip(l.X+1, y, width, string(r.Role), style)
	count := fmt.Sprintf("%d/%d", r.Ready, r.Draft)
	color := k.Lit
	switch {
	case len(r.Members) > 0 && allUnsent(r.Members):
		color = k.Plan
	case r.Ready < r.Want && r.Survives < 0 && r.Worked && !r.Halted:
		color = k.Fail
	case r.Ready < r.Want:
		color = k.Warm
	}
	g.Text(l.X+l.margin-7, y, count, k.In(color).Strong())
	if l.row < 2 {
		return
	}
	kind := string(r.Kind)
	if r.Votes && !allUnsent(r.Members) {
		text, color := fmt.Sprintf("survives %d", r.Survives), k.Dim
		switch {
		case r.Halted:
			text = "stopped"
		case r.Survives < 0 && !r.Worked:
			text = "no quorum yet"
		case r.Survives < 0:
			text, color = "no quorum", k.Fail
		case r.Survives == 0:
			color = k.Fail
		}
		switch at := l.X + l.margin - 2 - len(text); {
		case at > l.X+1+len(kind):
			g.Text(at, y+1, text, k.In(color))
		case l.row >= 3:
			g.Clip(l.X+1, y+2, l.margin-2, text, k.In(color))
		default:
			g.Clip(l.X+1, y+1, l.margin-2, text, k.In(color))
			return
		}
	}
	g.Clip(l.X+1, y+1, width, kind, k.Quiet())
}

func allUnsent(members []Member) bool {
	return !slices.ContainsFunc(members, func(m Member) bool { return !m.Unsent })
}

// size is how large a lantern is drawn: the width of its body, whether it has a cap and a foot, and whether its name
// stands below.
type size struct {
	width int
	tall  bool
	named bool
}

// sizes from the largest to the smallest.
var sizes = []size{{7, true, true}, {5, true, true}, {3, true, true}, {3, true, false}, {3, false, false}}

// fit chooses the largest size in which all lanterns of a crossing have room; ok is false where none does.
func (l layout) fit(here []Member, ascii bool) (s size, ok bool) {
	for _, s := range sizes {
		width := s.width
		if s.named {
			for _, m := range here {
				width = max(width, len(m.Member))
			}
		}
		rows := 1
		if s.tall {
			rows = 3
		}
		if s.named {
			rows++
		}
		if s.width > 3 {
			rows++ // air around large ones
		}
		if (s.tall && ascii && !s.named) || rows > l.row || len(here)*(width+1) > l.column {
			continue
		}
		return s, true
	}
	return size{}, false
}

// drawLanterns hangs the lanterns of one role on one post: tall where there is room, and a count where they are many.
func drawLanterns(g *grid.Grid, k look.Look, x, y int, l layout, here []Member, chosen int) {
	s, ok := l.fit(here, k.ASCII)
	if !ok {
		worst := slices.MaxFunc(here, func(a, b Member) int { return urgency(a) - urgency(b) })
		lamp := lampOf(k, worst)
		text := fmt.Sprintf("%c%c%d", lamp.Shape, k.Or('×', 'x'), len(here))
		at := x - grid.Width(text)/2
		g.Text(at, y, text, grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: chosen >= 0})
		if chosen >= 0 {
			brackets(g, k, at-1, at+grid.Width(text), y)
		}
		return
	}
	step := s.width + 1
	if s.named {
		for _, m := range here {
			step = max(step, len(m.Member)+1)
		}
	}
	left := x - (len(here)-1)*step/2
	for i, m := range here {
		drawLantern(g, k, left+i*step, y, s, m, i == chosen)
	}
}

func brackets(g *grid.Grid, k look.Look, left, right, y int) {
	g.Set(left, y, k.Or('⟦', '['), k.In(k.Act).Strong())
	g.Set(right, y, k.Or('⟧', ']'), k.In(k.Act).Strong())
}

func lampOf(k look.Look, m Member) look.Lamp {
	lamp := k.LampOf(m.Phase, m.Leads)
	if m.Unsent {
		lamp.Glow = k.Ink
	}
	return lamp
}

// urgency orders lanterns by how much they want to be seen.
func urgency(m Member) int {
	return slices.Index([]engine.Phase{engine.Ready, engine.Planned, engine.Stopped, engine.Stopping, engine.Joining, engine.Starting,
		engine.Placing, engine.Unknown, engine.Unready, engine.Failed}, m.Phase)
}

// drawLantern draws one lantern around its middle: a cap that hangs on the post, the light, the glow below, its name.
func drawLantern(g *grid.Grid, k look.Look, x, y int, s size, m Member, chosen bool) {
	lamp := lampOf(k, m)
	body := grid.Style{Fg: lamp.Color, Bg: lamp.Glow, Bold: m.Phase == engine.Ready}
	half := s.width / 2
	g.Fill(x-half, y, s.width, 1, ' ', body)
	g.Set(x, y, lamp.Shape, body)
	switch {
	case m.Removal:
		g.Set(x-half, y, k.Or('╱', '/'), body)
		g.Set(x+half, y, k.Or('╱', '/'), body)
	case m.Unsent:
		g.Set(x-half, y, k.Or('┊', ':'), body)
		g.Set(x+half, y, k.Or('┊', ':'), body)
	}
	below := y + 1
	if s.tall {
		below++
		if !k.ASCII && !m.Unsent {
			edge := grid.Style{Fg: lamp.Glow, Bg: grid.None}
			for i := x - half; i <= x+half; i++ {
				g.Set(i, y-1, '▄', edge)
				g.Set(i, y+1, '▀', edge)
			}
			for i := x - half + 1; i <= x+half-1; i++ {
				g.Set(i, y+1, '▀', grid.Style{Fg: lamp.Color, Bg: grid.None})
			}
		}
	}
	if s.named {
		style := k.Quiet()
		if chosen {
			style = k.In(k.Act)
		}
		name := string(m.Member)
		g.Text(x-len(name)/2, below, name, style)
	}
	if chosen {
		brackets(g, k, x-half-1, x+half+1, y)
	}
}

package board

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/tui/grid"
)

// Draw draws the board with its cursor. Carried is true while the cursor carries a member. Fit must have been called.
func Draw(g *grid.Grid, k theme.Theme, m *Model, a Area, c Cursor, carried bool) {
	l := m.layout(a, c)
	bottom := l.Y + l.H - 1
	if l.grass {
		bottom--
	}
	m.drawZones(g, k, l, bottom, c)
	m.drawPosts(g, k, l, bottom, c, carried)
	for i := l.from; i < l.from+l.rows; i++ {
		m.drawRole(g, k, l, i, c, carried)
	}
	if l.hidden > 0 {
		g.Clip(l.X+1, l.Y, l.margin-2, fmt.Sprintf("%c %d more %c", k.Or('‹', '<'), l.hidden, k.Or('›', '>')), k.Quiet())
	}
	if more := len(m.Roles) - l.rows; more > 0 {
		g.Clip(l.X+1, l.Y+1, l.margin-2, counted(more, "more role"), k.Quiet())
	}
}

// drawZones names the zones above their posts and lays their ground below.
func (m *Model) drawZones(g *grid.Grid, k theme.Theme, l layout, bottom int, c Cursor) {
	for _, s := range l.zones {
		z := m.Zones[s.index]
		name := string(z.Name)
		if name == "" {
			name = "no zone"
		}
		style := k.Text()
		here := c.Role == OnZones && c.Post >= 0 && c.Post < len(m.Posts) && m.Posts[c.Post].Zone == s.index
		if here {
			style = k.In(k.Act).Strong()
			g.Set(s.x, l.Y, k.Or('▸', '>'), style)
		}
		end := g.Clip(s.x+1, l.Y, s.w-1, name, style)
		for x := end + 1; x < s.x+s.w-1; x++ {
			g.Set(x, l.Y, k.Or('╌', '-'), k.In(k.Faint))
		}
		if s.partial {
			g.Set(s.x+s.w-1, l.Y, k.Or('›', '>'), k.In(k.Act))
		}
		if l.grass {
			for x := s.x; x < s.x+s.w; x++ {
				g.Set(x, bottom, k.Or('▀', '='), k.In(k.Ground))
			}
		}
	}
}

// drawPosts draws each post: its name, what is kept free on it, and itself down to the ground.
func (m *Model) drawPosts(g *grid.Grid, k theme.Theme, l layout, bottom int, c Cursor, carried bool) {
	for _, s := range l.posts {
		p := m.Posts[s.index]
		x := s.x + s.w/2
		style := k.Quiet()
		dark := 0
		for _, n := range p.Nodes {
			if n.Unreachable || n.Asked && !n.Awaited && n.Why != "" {
				dark++
			}
		}
		if dark > 0 {
			style = k.In(k.Fail)
		}
		stands := c.Post == s.index && c.Role != OnZones
		if stands && dark == 0 {
			style = k.Text().Strong()
		}
		name := p.Name()
		if dark > 0 && p.Folded {
			name = fmt.Sprintf("%d of %d dark", dark, len(p.Nodes))
		}
		switch {
		case s.w >= namedPost:
			name = grid.Shorten(name, s.w-1)
		case stands: // only the one under the cursor has room for its name
		default:
			name = name[strings.LastIndexByte(name, '-')+1:]
			name = name[max(0, len(name)-s.w+1):]
		}
		at := min(max(x-grid.Width(name)/2, l.X+l.margin-2), l.X+l.W-1-grid.Width(name))
		if c.Post == s.index && c.Role == OnPosts {
			style = k.In(k.Act).Strong()
			brackets(g, k, at-1, at+grid.Width(name), l.Y+1)
		}
		if s.w >= namedPost || !m.beside(l, s, c) {
			g.Text(at, l.Y+1, name, style)
		}
		if l.meters {
			m.drawMeters(g, k, l, s, p)
		}
		if p.Folded {
			for y := l.Y + l.postTop; y < bottom; y++ {
				g.Set(s.x, y, k.Or('▏', '|'), k.In(k.Faint))
			}
			continue
		}
		post := k.In(k.Faint)
		if carried && c.Post == s.index {
			post = k.In(k.Act)
		}
		for y := l.Y + l.postTop; y < bottom; y++ {
			g.Set(x, y, k.Or('│', '|'), post)
		}
	}
	if l.meters && len(l.posts) > 0 {
		at := l.posts[0].x - 5
		g.Text(at, l.Y+2, "cpu", k.In(k.Dim))
		g.Text(at, l.Y+3, "mem", k.In(k.Dim))
	}
}

// beside tells whether the name of the post under the cursor covers that of a slim post.
func (m *Model) beside(l layout, s span, c Cursor) bool {
	if s.index == c.Post || c.Role == OnZones || c.Post < 0 {
		return false
	}
	i := slices.IndexFunc(l.posts, func(x span) bool { return x.index == c.Post })
	if i < 0 {
		return false
	}
	reach := len(m.Posts[c.Post].Name())/2 + 2
	return abs(l.posts[i].x+l.posts[i].w/2-(s.x+s.w/2)) <= reach
}

// drawMeters draws what is kept free for members on a post, of its CPU and its memory.
func (m *Model) drawMeters(g *grid.Grid, k theme.Theme, l layout, s span, p Post) {
	var used, offered snapshot.NodeView
	for _, n := range p.Nodes {
		used.Used.CPU += n.Used.CPU
		used.Used.Memory += n.Used.Memory
		offered.Offered.CPU += n.Offered.CPU
		offered.Offered.Memory += n.Offered.Memory
	}
	w := max(1, min(11, s.w-2))
	if p.Folded {
		w = s.w - 2
	}
	if s.w < namedPost {
		w = max(1, s.w-1)
	}
	x := s.x + s.w/2 - w/2
	meter(g, k, x, l.Y+2, w, used.Used.CPU, offered.Offered.CPU)
	meter(g, k, x, l.Y+3, w, float64(used.Used.Memory), float64(offered.Offered.Memory))
}

// meter draws how much of something is kept free for members.
func meter(g *grid.Grid, k theme.Theme, x, y, w int, used, offered float64) {
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
			g.Set(x+i, y, '░', grid.Style{Fg: k.Faint, Bg: k.Shade})
		default:
			g.Set(x+i, y, []rune(" ▏▎▍▌▋▊▉█")[part], grid.Style{Fg: color, Bg: k.Shade})
		}
	}
}

func (m *Model) drawRole(g *grid.Grid, k theme.Theme, l layout, index int, c Cursor, carried bool) {
	r := &m.Roles[index]
	y := l.lamp(index)
	m.drawRoleName(g, k, l, r, y, c.Role == index, c.Role == index && c.Post == -1)
	for _, p := range l.posts {
		chosen := -1
		if c.Role == index && c.Post == p.index {
			chosen = c.Lantern
		}
		here := r.At(p.index)
		switch {
		case m.Posts[p.index].Folded:
			drawFolded(g, k, l, p, y, here, chosen >= 0)
		case len(here) > 0:
			drawLanterns(g, k, l, p, y, here, chosen, carried)
		case chosen >= 0:
			mark := min(2, p.w/2)
			x := p.x + p.w/2
			brackets(g, k, x-mark, x+mark, y)
			if carried {
				g.Set(x-mark, y, k.Or('▸', '>'), k.In(k.Act).Strong())
				g.Set(x, y, k.Or('○', '.'), k.In(k.Act).Strong())
				g.Set(x+mark, y, k.Or('◂', '<'), k.In(k.Act).Strong())
			}
		}
	}
}

func (m *Model) drawRoleName(g *grid.Grid, k theme.Theme, l layout, r *Role, y int, inRow, chosen bool) {
	style := k.Text()
	if inRow {
		style = style.Strong()
	}
	width := l.margin - 8
	if chosen {
		style = k.In(k.Act).Strong()
		g.Set(l.X, y, k.Or('▸', '>'), style)
	}
	count := fmt.Sprintf("%d/%d", r.Ready, r.Draft)
	if len(count) > 6 {
		width -= len(count) - 6
	}
	g.Clip(l.X+1, y, width, string(r.Role), style)
	color := k.Lit
	switch {
	case allUnsent(r.Members):
		color = k.Plan
	case r.Ready < r.Want && r.Survives < 0 && r.Worked && !r.Halted:
		color = k.Fail
	case r.Ready < r.Want:
		color = k.Warm
	}
	g.Text(l.X+l.margin-1-max(6, len(count)), y, count, k.In(color).Strong())
	if l.row < 2 {
		return
	}
	lines := []string{string(r.Kind)}
	if r.IsOutside() {
		lines[0] = "outside"
	}
	colors := []grid.Color{k.Dim}
	if text := r.supposed(); text != "" {
		lines, colors = []string{text}, []grid.Color{k.Fail}
	} else if (r.Votes || r.Leased) && !allUnsent(r.Members) {
		text, color := fmt.Sprintf("survives %d", r.Survives), k.Dim
		switch {
		case r.Halted:
			text = "stopped"
		case r.Leased && r.Survives < 0 && !r.Worked:
			text = "not up yet"
		case r.Leased && r.Survives < 0:
			text, color = "writes wait", k.Fail
		case r.Survives < 0 && !r.Worked:
			text = "no quorum yet"
		case r.Survives < 0:
			text, color = "no quorum", k.Fail
		case r.Survives == 0:
			color = k.Fail
		}
		if len(lines[0])+len(text)+4 <= l.margin {
			g.Text(l.X+l.margin-2-len(text), y+1, text, k.In(color))
		} else if l.row >= 3 {
			lines, colors = append(lines, text), append(colors, color)
		} else {
			lines[0], colors[0] = text, color
		}
	}
	if r.Link != nil && r.Link.Why != "" {
		lines, colors = append(lines, "not handed over"), append(colors, k.Warm)
	}
	if r.waits != "" {
		lines, colors = append(lines, r.waits), append(colors, k.Warm)
	}
	for i, text := range lines {
		if i+1 < l.row-(l.row-1)/2 {
			g.Clip(l.X+1, y+1+i, l.margin-2, text, k.In(colors[i]))
		}
	}
}

// supposed words what the failure that is supposed would cost the role, where it would stop.
func (r *Role) supposed() string {
	switch l := r.lost; {
	case l == nil || l.Already:
		return ""
	case l.Stopped && l.Votes:
		return "writes would stop"
	case l.Stopped:
		return "would stop"
	case l.Through != "":
		return "stops: no " + string(l.Through)
	}
	return ""
}

// waiting words the first gate that keeps members of the role from being started.
func (r *Role) waiting() string {
	if !slices.ContainsFunc(r.Members, func(m Member) bool { return m.Phase == state.Planned && !m.Unsent }) {
		return ""
	}
	for _, g := range r.Gates {
		if !g.Open {
			return fmt.Sprintf("waits: %s %d/%d", g.On, min(g.Have, g.Need), g.Need)
		}
	}
	return ""
}

func allUnsent(members []Member) bool {
	return len(members) > 0 && !slices.ContainsFunc(members, func(m Member) bool { return !m.Unsent })
}

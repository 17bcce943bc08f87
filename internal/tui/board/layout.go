package board

import (
	"slices"

	"lanternfield/internal/core/snapshot"

	"lanternfield/internal/core/field"
)

// Area is a rectangle of the screen.
type Area struct{ X, Y, W, H int }

// span is where a post, or a zone, stands across.
type span struct {
	index   int // of the post or the zone
	x, w    int
	partial bool // a zone some of whose posts are not shown
}

// layout is how the board fits its area.
type layout struct {
	Area
	margin  int    // the width of the role names
	posts   []span // those that are shown
	zones   []span
	hidden  int // posts that are not shown
	postTop int // the row at which posts begin, from the area's top
	top     int // the row of the first role
	row     int // the height of a role's row
	from    int // the first role that is shown
	rows    int
	meters  bool // CPU and memory are drawn
	grass   bool // the ground is drawn
}

const (
	namedPost = 7 // from that width on, posts have their names
	widePost  = 26
	wideFold  = 36
	tallRow   = 9
)

// margin is the width of the role names on a board of that width.
func margin(w int) int {
	switch {
	case w < 50:
		return 12
	case w < 90:
		return 17
	}
	return 20
}

// Room is how many cells posts have on a board of that width.
func Room(w int) int { return w - margin(w) - 1 }

func (m *Model) layout(a Area, c Cursor) layout {
	l := layout{Area: a, margin: margin(a.W)}
	l.spread(m, c)
	sized := slices.ContainsFunc(m.Zones, func(z Zone) bool {
		return slices.ContainsFunc(z.Nodes, func(n snapshot.NodeView) bool { return n.Offered.CPU > 0 || n.Offered.Memory > 0 })
	})
	l.meters = a.H >= 13 && sized
	l.top = 2
	if l.meters {
		l.top = 4
	}
	l.grass = a.H >= 10
	need := 2 * len(m.Roles) // what makes each role readable is worth more than ground and meters
	if l.grass && need > a.H-l.top-2 && need <= a.H-2 {
		l.grass = false
	}
	if l.meters && need > a.H-l.top && need <= a.H-2 {
		l.meters, l.top = false, 2
	}
	l.postTop = l.top
	height := a.H - l.top
	if l.grass {
		height -= 2
	}
	if len(m.Roles) > 0 {
		l.row = min(max(height/len(m.Roles), 1), tallRow)
		if l.row < 3 && a.H >= 12 && len(m.Roles) <= 12 { // rather fewer roles with names than all of them without
			l.row = max(l.row, min(2, height))
		}
		l.rows = min(len(m.Roles), max(1, height/l.row))
		l.from = min(max(0, c.Role-l.rows/2), len(m.Roles)-l.rows)
		l.top += max(0, height-l.rows*l.row) / 2 // few lanterns hang half-way down
	}
	return l
}

// widths are how many cells posts take.
type widths struct{ post, fold int }

// widthsIn divides a room among the posts: those that are folded take least.
func widthsIn(room int, m *Model) widths {
	folds, open := 0, 0
	for _, p := range m.Posts {
		if p.Folded {
			folds++
		} else {
			open++
		}
	}
	gaps := zoneGap * (len(m.Zones) - 1)
	w := widths{leastPost, leastFold}
	if open > 0 {
		w.post = min(max((room-gaps-folds*leastFold)/open, leastPost), widePost)
		if folds > 0 {
			w.post = min(w.post, namedPost+4)
		}
	}
	if folds > 0 {
		w.fold = min(max((room-gaps-open*w.post)/folds, leastFold), wideFold)
	}
	return w
}

// of is the width of a post by itself, and taken that with the gap before it.
func (w widths) of(m *Model, i int) int {
	if m.Posts[i].Folded {
		return w.fold
	}
	return w.post
}

func (w widths) taken(m *Model, i int) int {
	if i > 0 && m.Posts[i-1].Zone != m.Posts[i].Zone {
		return w.of(m, i) + zoneGap
	}
	return w.of(m, i)
}

// firstShown is the post to begin with, so that the cursor stands in the middle where not all of them fit.
func (w widths) firstShown(m *Model, c Cursor, room int) int {
	first := 0
	for left := room / 2; first < len(m.Posts)-1; first++ {
		rest := 0
		for i := first; i <= max(c.Post, 0); i++ {
			rest += w.taken(m, i)
		}
		tail := 0
		for i := first; i < len(m.Posts) && tail <= room; i++ {
			tail += w.taken(m, i)
		}
		if rest <= left || tail <= room {
			break
		}
	}
	return first
}

// spread gives every post its place, from the one that keeps the cursor in the middle where not all of them fit.
func (l *layout) spread(m *Model, c Cursor) {
	if len(m.Posts) == 0 {
		return
	}
	room := Room(l.W)
	w := widthsIn(room, m)
	total := 0
	for i := range m.Posts {
		total += w.taken(m, i)
	}
	first := 0
	if total > room {
		first = w.firstShown(m, c, room)
	}
	x := l.X + l.margin
	end := x + room
	x += max(0, room-total) / 2
	for i := first; i < len(m.Posts); i++ {
		p, width := m.Posts[i], w.of(m, i)
		if n := len(l.posts); n > 0 && m.Posts[i-1].Zone != p.Zone {
			x += zoneGap
		}
		if x+width > end && len(l.posts) > 0 {
			break
		}
		l.posts = append(l.posts, span{index: i, x: x, w: min(width, max(1, end-x))})
		x += width
		if n := len(l.zones); n > 0 && l.zones[n-1].index == p.Zone {
			l.zones[n-1].w = x - l.zones[n-1].x
		} else {
			l.zones = append(l.zones, span{index: p.Zone, x: x - width, w: width})
		}
	}
	l.hidden = len(m.Posts) - len(l.posts)
	l.markPartial(m)
}

// markPartial notes of which zones not all nodes are shown.
func (l *layout) markPartial(m *Model) {
	for i := range l.zones {
		z := &l.zones[i]
		shown := 0
		for _, p := range l.posts {
			if m.Posts[p.index].Zone == z.index {
				shown += len(m.Posts[p.index].Nodes)
			}
		}
		z.partial = shown < len(m.Zones[z.index].Nodes)
	}
}

// lamp is the row, on the screen, of the lanterns of a role that is shown.
func (l layout) lamp(role int) int { return l.Y + l.top + (role-l.from)*l.row + (l.row-1)/2 }

// Hit gives the cursor that stands where somebody points.
func Hit(m *Model, a Area, c Cursor, x, y int) (Cursor, bool) {
	if x < a.X || y < a.Y || x >= a.X+a.W || y >= a.Y+a.H || len(m.Posts) == 0 {
		return c, false
	}
	l := m.layout(a, c)
	at := Cursor{Role: OnPosts, Post: -1}
	switch {
	case y == l.Y:
		at.Role = OnZones
	case y >= l.Y+l.postTop && y < l.Y+l.top:
		return c, false
	case y >= l.Y+l.top:
		at.Role = l.from + (y-l.Y-l.top)/max(1, l.row)
		if at.Role >= l.from+l.rows {
			return c, false
		}
	}
	for _, p := range l.posts {
		if x >= p.x && x < p.x+p.w {
			at.Post = p.index
			if at.Role >= 0 && !m.Posts[p.index].Folded {
				at.Lantern = l.lanternAt(p, len(m.Roles[at.Role].at[p.index]), x)
			}
		}
	}
	if at.Post < 0 && (at.Role < 0 || x >= l.X+l.margin) {
		return c, false
	}
	return m.Keep(at), true
}

// lanternAt gives which of the lanterns of a crossing hangs nearest to a column.
func (l layout) lanternAt(p span, here, x int) int {
	if here < 2 {
		return 0
	}
	return min(max((x-p.x)*here/p.w, 0), here-1)
}

// AtMember tells where on the screen a member's lantern is drawn; ok is false where it is not shown by itself.
func AtMember(m *Model, a Area, c Cursor, name field.MemberName) (x, y int, ok bool) {
	l := m.layout(a, c)
	for i := l.from; i < l.from+l.rows; i++ {
		for _, p := range l.posts {
			if m.Posts[p.index].Folded {
				continue
			}
			here := m.Roles[i].At(p.index)
			for j, x := range here {
				if x.Member == name {
					s, ok := l.fit(here, p.w, false)
					return l.middle(p, s, here, j), l.lamp(i), ok
				}
			}
		}
	}
	return 0, 0, false
}

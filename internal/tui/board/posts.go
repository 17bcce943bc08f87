package board

import (
	"slices"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

// Post is a column: a node, or a zone that is folded into one.
type Post struct {
	Zone   int // which of the model's zones it stands in
	Nodes  []snapshot.NodeView
	Folded bool
}

// Name is what stands on a post.
func (p Post) Name() string {
	if p.Folded {
		return counted(len(p.Nodes), "node")
	}
	return string(p.Nodes[0].Node)
}

// Folds is what a person has said about zones; the others fold when there is no room for their posts.
type Folds map[field.ZoneName]bool // true: folded, false: open

// fitted is what posts were made for.
type fitted struct {
	room  int
	zones string
}

// The least widths of a post and of a folded zone, and the air between zones.
const (
	leastPost = 3
	leastFold = 12
	zoneGap   = 2
)

// Fit makes the posts that go into that many cells: zones that a person has folded are one post each, and so are, the
// largest first, those that would not fit, unless a person has opened them.
func (m *Model) Fit(room int, folds Folds) {
	now := fitted{room, ""}
	for _, z := range m.Zones {
		switch closed, said := folds[z.Name]; {
		case !said:
			now.zones += "."
		case closed:
			now.zones += "z"
		default:
			now.zones += "o"
		}
	}
	if m.fit == now && m.Posts != nil {
		return
	}
	m.fit = now
	folded := m.folded(now)
	m.Posts = m.Posts[:0:0]
	first := make([]int, len(m.Zones)) // the first post of each zone
	for i, z := range m.Zones {
		first[i] = len(m.Posts)
		if folded[i] {
			m.Posts = append(m.Posts, Post{Zone: i, Nodes: z.Nodes, Folded: true})
			continue
		}
		for j := range z.Nodes {
			m.Posts = append(m.Posts, Post{Zone: i, Nodes: z.Nodes[j : j+1]})
		}
	}
	for i := range m.Roles {
		m.post(&m.Roles[i], first, folded)
	}
}

// folded tells of each zone whether it is one post.
func (m *Model) folded(now fitted) []bool {
	folded := make([]bool, len(m.Zones))
	width := zoneGap * max(0, len(m.Zones)-1)
	for i, z := range m.Zones {
		if folded[i] = now.zones[i] == 'z'; folded[i] {
			width += leastFold
		} else {
			width += leastPost * len(z.Nodes)
		}
	}
	for width > now.room {
		largest := -1
		for i, z := range m.Zones {
			if !folded[i] && now.zones[i] == '.' && len(z.Nodes)*leastPost > leastFold && (largest < 0 || len(z.Nodes) > len(m.Zones[largest].Nodes)) {
				largest = i
			}
		}
		if largest < 0 {
			break
		}
		folded[largest] = true
		width += leastFold - leastPost*len(m.Zones[largest].Nodes)
	}
	return folded
}

// post notes which members of a role stand at which post.
func (m *Model) post(r *Role, first []int, folded []bool) {
	r.at = make(map[int][]int, min(len(m.Posts), len(r.Members)))
	posts, counts := make([]int, len(r.Members)), make([]int, len(m.Posts))
	for j := range r.Members {
		at, ok := m.node[r.Members[j].Node]
		if !ok {
			posts[j] = -1
			continue
		}
		if posts[j] = first[at[0]]; !folded[at[0]] {
			posts[j] += at[1]
		}
		counts[posts[j]]++
	}
	all := make([]int, 0, len(r.Members)) // one piece of memory for all of them
	for post, n := range counts {
		if n > 0 {
			r.at[post] = all[len(all) : len(all) : len(all)+n]
			all = all[:len(all)+n]
		}
	}
	for j, post := range posts {
		if post >= 0 {
			r.at[post] = append(r.at[post], j)
		}
	}
}

// At gives the lanterns where a post and a role cross.
func (r *Role) At(post int) []*Member {
	which := r.at[post]
	at := make([]*Member, len(which))
	for i, j := range which {
		at[i] = &r.Members[j]
	}
	return at
}

// Cursor is where the person stands: on a role's row and a post, both counted from 0, and on which of the lanterns
// there. A Post of -1 means the role itself, a Role of -1 the post itself, a Role of -2 its zone.
type Cursor struct{ Role, Post, Lantern int }

// The rows above the roles.
const (
	OnPosts = -1
	OnZones = -2
)

// Move takes a step and stays on the board.
func (m *Model) Move(c Cursor, dx, dy int) Cursor {
	switch {
	case dx != 0 && c.Role == OnZones:
		c.Post = m.nextZone(c.Post, dx)
	case dx != 0:
		here := m.lanternsAt(c)
		switch {
		case dx > 0 && c.Lantern+1 < here:
			c.Lantern++
			return c
		case dx < 0 && c.Lantern > 0:
			c.Lantern--
			return c
		}
		c.Post = min(max(c.Post+dx, -1), len(m.Posts)-1)
		c.Lantern = 0
		if dx < 0 {
			c.Lantern = max(0, m.lanternsAt(c)-1)
		}
	}
	if dy != 0 {
		c.Role = min(max(c.Role+dy, OnZones), len(m.Roles)-1)
		c.Lantern = 0
	}
	return m.Keep(c)
}

// nextZone gives the first post of the zone beside the one that a post stands in.
func (m *Model) nextZone(post, dx int) int {
	if post < 0 || post >= len(m.Posts) {
		return 0
	}
	zone := min(max(m.Posts[post].Zone+dx, 0), len(m.Zones)-1)
	return slices.IndexFunc(m.Posts, func(p Post) bool { return p.Zone == zone })
}

// Keep brings a cursor back onto a board that has changed.
func (m *Model) Keep(c Cursor) Cursor {
	c.Role = min(max(c.Role, OnZones), len(m.Roles)-1)
	c.Post = min(max(c.Post, -1), len(m.Posts)-1)
	if c.Role < 0 && c.Post == -1 {
		c.Post = min(0, len(m.Posts)-1)
	}
	c.Lantern = min(max(c.Lantern, 0), max(0, m.lanternsAt(c)-1))
	return c
}

// lanternsAt counts the lanterns that the cursor can stand on; a crossing with a folded zone is one place.
func (m *Model) lanternsAt(c Cursor) int {
	if c.Role < 0 || c.Post < 0 || c.Role >= len(m.Roles) || c.Post >= len(m.Posts) || m.Posts[c.Post].Folded {
		return 0
	}
	return len(m.Roles[c.Role].at[c.Post])
}

// Place is what a cursor stands on, by its names. It finds the same thing again on a board that has changed.
type Place struct {
	Role   field.RoleName
	Member field.MemberName
	Node   field.NodeName
	Zone   field.ZoneName
	row    int
	none   bool
}

// Under gives what the cursor stands on, as far as there is something: a role in each row of one, a member where a lantern
// hangs, a node and a zone on each post. On the zones' row there is no node, on a folded zone neither.
func (m *Model) Under(c Cursor) Place {
	p := Place{row: c.Role}
	if c.Role >= len(m.Roles) || c.Post >= len(m.Posts) || c.Role < 0 && c.Post < 0 {
		return Place{none: true}
	}
	if c.Role >= 0 {
		p.Role = m.Roles[c.Role].Role
	}
	if c.Post < 0 {
		return p
	}
	post := m.Posts[c.Post]
	p.Zone = m.Zones[post.Zone].Name
	if post.Folded || c.Role == OnZones {
		return p
	}
	p.Node = post.Nodes[0].Node
	if c.Role >= 0 {
		if here := m.Roles[c.Role].At(c.Post); len(here) > 0 {
			p.Member = here[min(c.Lantern, len(here)-1)].Member
		}
	}
	return p
}

// Find gives the cursor that stands on that place, or the nearest to the cursor that once did.
func (m *Model) Find(p Place, was Cursor) Cursor {
	if len(m.Roles) == 0 || len(m.Posts) == 0 {
		return was // it is still being read
	}
	if p.none {
		return m.Keep(was)
	}
	c := Cursor{Role: p.row, Post: -1}
	if p.Role != "" {
		if c.Role = slices.IndexFunc(m.Roles, func(r Role) bool { return r.Role == p.Role }); c.Role < 0 {
			return m.Keep(was)
		}
	}
	if p.Member != "" {
		if i := slices.IndexFunc(m.Roles[c.Role].Members, func(x Member) bool { return x.Member == p.Member }); i >= 0 {
			p.Node = m.Roles[c.Role].Members[i].Node
		}
	}
	if was.Post >= 0 {
		c.Post = m.PostOf(p.Node)
		if c.Post < 0 {
			c.Post = slices.IndexFunc(m.Posts, func(x Post) bool { return m.Zones[x.Zone].Name == p.Zone })
		}
		if c.Post < 0 {
			return m.Keep(was)
		}
		if p.Member != "" {
			for i, x := range m.Roles[c.Role].At(c.Post) {
				if x.Member == p.Member {
					c.Lantern = i
				}
			}
		}
	}
	return m.Keep(c)
}

// PostOf gives the post on which a node stands, alone or with its zone; -1 when there is none.
func (m *Model) PostOf(n field.NodeName) int {
	at, ok := m.node[n]
	if !ok {
		return -1
	}
	for i, p := range m.Posts {
		if p.Zone == at[0] && (p.Folded || p.Nodes[0].Node == n) {
			return i
		}
	}
	return -1
}

// NextDark gives the cursor on the next lantern after it that should burn and does not; ok is false where all do.
func (m *Model) NextDark(c Cursor) (next Cursor, ok bool) {
	at := m.Under(c).Member
	passed := at == ""
	next, ok = c, false
	for i := range m.Roles {
		for j := range m.Roles[i].Members {
			x := &m.Roles[i].Members[j]
			if x.Phase == state.Failed || x.Phase == state.Unready || x.Phase == state.Unknown {
				switch {
				case passed:
					return m.on(i, x), true
				case !ok: // the first of all, after the last
					next, ok = m.on(i, x), true
				}
			}
			passed = passed || x.Member == at
		}
	}
	return next, ok
}

// on is the cursor that stands on a member.
func (m *Model) on(role int, x *Member) Cursor {
	c := Cursor{Role: role, Post: m.PostOf(x.Node)}
	for i, other := range m.Roles[role].At(c.Post) {
		if other.Member == x.Member {
			c.Lantern = i
		}
	}
	return m.Keep(c)
}

// Newcomer gives the cursor on the newest member of a role that only the draft has and that an earlier board had not; ok
// is false where there is none.
func (m *Model) Newcomer(role field.RoleName, before *Model) (Cursor, bool) {
	for i := range m.Roles {
		r := &m.Roles[i]
		for j := len(r.Members) - 1; j >= 0 && r.Role == role; j-- {
			if _, old := before.Member(r.Members[j].Member); old == nil && r.Members[j].Unsent {
				return m.on(i, &r.Members[j]), true
			}
		}
	}
	return Cursor{}, false
}

// Latest gives the cursor on the lantern of its crossing that only the draft has, if there is one.
func (m *Model) Latest(c Cursor) Cursor {
	for i := range m.lanternsAt(c) {
		if m.Roles[c.Role].At(c.Post)[i].Unsent {
			c.Lantern = i
		}
	}
	return c
}

// Member finds a member and its role; nil when there is none.
func (m *Model) Member(name field.MemberName) (*Role, *Member) {
	for i := range m.Roles {
		for j := range m.Roles[i].Members {
			if m.Roles[i].Members[j].Member == name {
				return &m.Roles[i], &m.Roles[i].Members[j]
			}
		}
	}
	return nil, nil
}

// Role finds a role; nil when there is none.
func (m *Model) Role(name field.RoleName) *Role {
	for i := range m.Roles {
		if m.Roles[i].Role == name {
			return &m.Roles[i]
		}
	}
	return nil
}

// NodeView finds a node; nil when there is none.
func (m *Model) NodeView(name field.NodeName) *snapshot.NodeView {
	if at, ok := m.node[name]; ok {
		return &m.Zones[at[0]].Nodes[at[1]]
	}
	return nil
}

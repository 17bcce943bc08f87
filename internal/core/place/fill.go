package place

import (
	"math"
	"slices"

	"lanternfield/internal/core/field"
)

// Want is members of a role that are to get nodes. Pins go to the first of them; the others stand where it is best.
type Want struct {
	Role  field.RoleName
	Names []field.MemberName
	Pins  []field.NodeName
}

// Fill gives nodes and ports to all wanted members and reserves both. Placed members come role by role in the order of
// wants, and so do those that fit nowhere.
//
// The members are first laid out greedily, which takes time in proportion to their number. Only where that leaves
// somebody without a node, or a zone with more than its share, is there a search; it is exact for small fields and
// bounded for large ones.
func (s *Site) Fill(wants []Want) ([]Member, []Unplaced) {
	f := &filling{Site: s}
	for i, w := range wants {
		r := s.roles[w.Role]
		if r == nil {
			continue
		}
		f.groups = append(f.groups, &group{roleSite: r, names: w.Names, pins: w.Pins, at: make([]int, len(w.Names)), order: i})
	}
	f.run()
	var placed []Member
	var not []Unplaced
	total := 0
	for _, g := range f.groups {
		total += len(g.names)
	}
	placed = make([]Member, 0, total)
	for _, g := range f.groups {
		failed := 0
		for i, name := range g.names {
			if g.at[i] != nowhere {
				m := Member{Name: name, Role: g.role.Name, Node: s.nodes[g.at[i]].node.Name}
				if g.given != nil {
					m.Ports = g.given[i]
				}
				placed = append(placed, m)
				continue
			}
			if failed++; failed > 1 && g.pin(i) == "" { // the same as for the one before
				u := not[len(not)-1]
				u.Member = name
				not = append(not, u)
				continue
			}
			not = append(not, s.nowhere(g.roleSite, name, g.pin(i)))
		}
	}
	if len(placed) == 0 {
		placed = nil
	}
	return placed, not
}

// Place gives one member a node and ports and reserves both. A pinned member goes to that node or nowhere.
func (s *Site) Place(role field.RoleName, name field.MemberName, pin field.NodeName) (Member, *Unplaced) {
	w := Want{Role: role, Names: []field.MemberName{name}}
	if pin != "" {
		w.Pins = []field.NodeName{pin}
	}
	placed, not := s.Fill([]Want{w})
	if len(not) > 0 {
		return Member{}, &not[0]
	}
	return placed[0], nil
}

const nowhere = -1

// group is the wanted members of one role while they are being placed.
type group struct {
	*roleSite
	names []field.MemberName
	pins  []field.NodeName
	at    []int // the node of each; nowhere
	given []map[string]int
	order int // in which it was asked for
}

func (g *group) pin(i int) field.NodeName {
	if i < len(g.pins) {
		return g.pins[i]
	}
	return ""
}

type filling struct {
	*Site
	groups []*group // in the order in which they were asked for
	turn   []*group // in the order in which they are placed
}

func (f *filling) run() {
	f.turn = f.inTurn(f.groups)
	f.greedy()
	if f.missing() > 0 {
		f.constrainedFirst()
	}
	if f.missing() > 0 {
		f.makeRoom()
	}
	if f.missing() > 0 {
		f.search()
	}
	f.improve()
	f.polish()
}

// inTurn puts the roles that others must stand beside before those, and companions right after whom they accompany.
func (f *filling) inTurn(groups []*group) []*group {
	byRole := map[*roleSite]*group{}
	for _, g := range groups {
		byRole[g.roleSite] = g
	}
	var turn []*group
	done := map[*group]bool{}
	var visit func(g *group, depth int)
	visit = func(g *group, depth int) {
		if done[g] || depth > len(groups) {
			return
		}
		for _, other := range g.beside {
			if o := byRole[other]; o != nil {
				visit(o, depth+1)
			}
		}
		if done[g] {
			return
		}
		done[g] = true
		turn = append(turn, g)
		for _, o := range groups {
			if o.host == g.roleSite {
				visit(o, depth+1)
			}
		}
	}
	for _, g := range groups {
		visit(g, 0)
	}
	return turn
}

func (f *filling) missing() int {
	n := 0
	for _, g := range f.groups {
		for _, at := range g.at {
			if at == nowhere {
				n++
			}
		}
	}
	return n
}

// put gives the i-th member of a group its node.
func (f *filling) put(g *group, i, node int) {
	g.at[i] = node
	m := Member{Name: g.names[i], Role: g.role.Name}
	if len(g.ports) > 0 {
		if g.given == nil {
			g.given = make([]map[string]int, len(g.names))
		}
		m.Ports = f.choosePorts(g.roleSite, node, m.Name)
		g.given[i] = m.Ports
	}
	f.take(g.roleSite, node, m)
}

// lift takes it off again.
func (f *filling) lift(g *group, i int) {
	f.give(g.roleSite, g.at[i], Member{Name: g.names[i]})
	g.at[i] = nowhere
}

// greedy places the pinned members of all roles, then role after role on the best nodes.
func (f *filling) greedy() {
	for _, g := range f.turn {
		if g.given == nil && len(g.ports) > 0 {
			g.given = make([]map[string]int, len(g.names))
		}
		for i := range g.at {
			g.at[i] = nowhere
			if pin := g.pin(i); pin != "" {
				if node, ok := f.byName[pin]; ok && f.refuses(g.roleSite, node)&^badBeside == 0 {
					f.put(g, i, node)
				}
			}
		}
	}
	for _, g := range f.turn {
		f.spread(g)
	}
	for again := true; again; { // who was pinned beside somebody that did not come, and who came beside those
		again = false
		for _, g := range f.turn {
			for i, at := range g.at {
				if at != nowhere && f.alone(g.roleSite, at) {
					f.lift(g, i)
					again = true
				}
			}
		}
	}
}

// alone tells that a member on the node lacks somebody that it must be beside.
func (s *Site) alone(r *roleSite, node int) bool {
	for _, other := range r.beside {
		if other.perNode[node] == 0 {
			return true
		}
	}
	return r.host != nil && r.perNode[node] > r.host.perNode[node]
}

// spread places the members of one role that have no pin and no node.
func (f *filling) spread(g *group) {
	var homes *homes
	for i := range g.at {
		if g.at[i] != nowhere || g.pin(i) != "" {
			continue
		}
		if homes == nil {
			homes = f.homes(g.roleSite)
		}
		node := homes.best()
		if node == nowhere {
			return
		}
		f.put(g, i, node)
		homes.taken()
	}
}

// layout is where all members of all groups stand, and with which ports.
type layout []stand

type stand struct {
	at    []int
	given []map[string]int
}

func (f *filling) save() layout {
	l := make(layout, len(f.groups))
	for i, g := range f.groups {
		l[i] = stand{slices.Clone(g.at), slices.Clone(g.given)}
	}
	return l
}

// clear takes everybody off.
func (f *filling) clear() {
	for _, g := range f.groups {
		for i, at := range g.at {
			if at != nowhere {
				f.lift(g, i)
			}
		}
	}
}

// restore puts everybody where a layout has them.
func (f *filling) restore(l layout) {
	f.clear()
	for k, g := range f.groups {
		for i, at := range l[k].at {
			g.at[i] = at
			if at == nowhere {
				continue
			}
			m := Member{Name: g.names[i]}
			if l[k].given != nil {
				m.Ports = l[k].given[i]
				g.given[i] = m.Ports
			}
			f.take(g.roleSite, at, m)
		}
	}
}

// constrainedFirst tries again with the roles that have the fewest nodes, or take the most, before the others.
func (f *filling) constrainedFirst() {
	before, was := f.save(), f.missing()
	turn := f.turn
	f.clear()
	tight := map[*group]float64{}
	for _, g := range f.groups {
		homes := 0
		for i := range f.nodes {
			if f.refuses(g.roleSite, i)&^badBeside == 0 {
				homes++
			}
		}
		tight[g] = float64(homes) / math.Max(1, float64(len(g.names)))
		if homes > 0 {
			tight[g] -= f.weight(g.taken) // of those with as many homes, the larger first
		}
	}
	byTight := slices.Clone(f.groups)
	slices.SortStableFunc(byTight, func(a, b *group) int {
		switch {
		case tight[a] < tight[b]:
			return -1
		case tight[a] > tight[b]:
			return 1
		}
		return a.order - b.order
	})
	f.turn = f.inTurn(byTight)
	f.greedy()
	if f.missing() >= was {
		f.turn = turn
		f.restore(before)
	}
}

// weight is what share of an average node a size is, in its largest dimension; at most one.
func (f *filling) weight(size field.Size) float64 {
	var all field.Size
	for i := range f.nodes {
		all.CPU += f.nodes[i].offered.CPU
		all.Memory += f.nodes[i].offered.Memory
		all.Disk += f.nodes[i].offered.Disk
	}
	n := float64(len(f.nodes))
	w := 0.0
	if all.CPU > 0 {
		w = max(w, size.CPU*n/all.CPU)
	}
	if all.Memory > 0 {
		w = max(w, float64(size.Memory)*n/float64(all.Memory))
	}
	if all.Disk > 0 {
		w = max(w, float64(size.Disk)*n/float64(all.Disk))
	}
	return min(w, 1) / 2
}

package place

import (
	"slices"

	"lanternfield/internal/core/field"
)

// What a search may cost, so that a large field is answered within a frame or two.
const (
	mostTries  = 60_000    // placements tried in an exact search
	mostLooks  = 6_000_000 // nodes looked at while room is made
	mostPasses = 8         // rounds of improving
)

// leans tells whether somebody on the node needs one of the role beside it, and without so many of them none is left.
func (f *filling) leans(g *group, node, without int) bool {
	if g.perNode[node] > without {
		return false
	}
	return slices.ContainsFunc(g.leaning, func(r *roleSite) bool { return r.perNode[node] > 0 })
}

// search looks for a layout with a node for everybody, the hardest role first at every step. Members of one role are
// alike: a node that has been tried for one of them is not tried for the next.
func (f *filling) search() {
	before, best := f.save(), f.missing()
	f.clear()
	d := &deep{filling: f, left: mostTries, banned: make([][]bool, len(f.groups))}
	for k := range f.groups {
		d.banned[k] = make([]bool, len(f.nodes))
	}
	if d.hopeless(20_000) || !d.descend() || f.missing() > best {
		f.restore(before)
	}
}

// polish looks, in a small field, for the layout that is spread best over zones of all that there are.
func (f *filling) polish() {
	if f.missing() > 0 {
		return
	}
	uneven := false
	for _, g := range f.turn {
		uneven = uneven || g.role.Spread == field.SpreadZone && f.uneven(g)
	}
	d := &deep{filling: f, left: mostTries, banned: make([][]bool, len(f.groups)), polish: true}
	if !uneven || d.hopeless(400) {
		return
	}
	best := f.save()
	d.least, d.best = d.cost(), best
	f.clear()
	for k := range f.groups {
		d.banned[k] = make([]bool, len(f.nodes))
	}
	d.descend()
	f.restore(d.best)
}

type deep struct {
	*filling
	left   int
	banned [][]bool // by group and node: tried already for one like it

	polish bool // look for the best, not for the first
	least  int  // cost of the best so far
	best   layout
}

// cost is the imbalance of all roles over zones. It never falls as members are added.
func (d *deep) cost() int {
	sum := 0
	for _, g := range d.groups {
		if g.host == nil {
			sum += g.imbalance()[0]
		}
	}
	return sum
}

// hopeless tells that a search of this size could not end in time.
func (d *deep) hopeless(most int) bool {
	members := 0
	for _, g := range d.groups {
		members += len(g.names)
	}
	return members > 400 || members*len(d.nodes) > most
}

// slot is a member that is to be put somewhere next, with the nodes that it could stand on.
type slot struct {
	group *group
	which int // of the groups
	index int // of the member in it
	nodes []int
}

// descend puts the member with the fewest choices on each of its nodes in turn, and goes on from there.
func (d *deep) descend() bool {
	if d.left--; d.left < 0 || d.polish && d.cost() >= d.least {
		return false
	}
	next := d.tightest()
	switch {
	case next == nil && d.missing() > 0:
		return false
	case next == nil && d.polish:
		d.least, d.best = d.cost(), d.save()
		return false
	case next == nil:
		return true
	}
	slices.SortFunc(next.nodes, func(a, b int) int {
		if d.better(next.group.roleSite, a, b) {
			return -1
		}
		return 1
	})
	tried := 0
	for _, node := range next.nodes {
		d.put(next.group, next.index, node)
		if d.descend() {
			return true
		}
		d.lift(next.group, next.index)
		d.banned[next.which][node] = true
		if tried++; d.left < 0 {
			break
		}
	}
	for _, node := range next.nodes[:tried] {
		d.banned[next.which][node] = false
	}
	return false
}

// tightest finds the member that has the fewest nodes to stand on; nil where nobody is left who could be put anywhere now.
func (d *deep) tightest() *slot {
	var tight *slot
	for k, g := range d.groups {
		i := g.unplaced()
		if i < 0 {
			continue
		}
		nodes, waits := d.open(k, i)
		if waits && d.unfinished(g.beside) {
			continue // whom it must be beside may still come
		}
		if tight == nil || len(nodes) < len(tight.nodes) {
			tight = &slot{g, k, i, nodes}
		}
		if len(nodes) == 0 {
			break
		}
	}
	return tight
}

// unplaced is the first member of a group that stands nowhere, those that are pinned before the others; -1 where all stand.
func (g *group) unplaced() int {
	i := slices.Index(g.at, nowhere)
	if i < 0 || g.pin(i) == "" {
		return i
	}
	for j := range g.at {
		if g.at[j] == nowhere && g.pin(j) != "" {
			return j
		}
	}
	return i
}

// open lists the nodes that a member may be put on. Waits says that more may follow once others stand.
func (d *deep) open(which, index int) (nodes []int, waits bool) {
	g := d.groups[which]
	for n := range d.nodes {
		if pin := g.pin(index); pin != "" && d.nodes[n].node.Name != pin {
			continue
		}
		switch b := d.refuses(g.roleSite, n); {
		case b == 0 && !d.banned[which][n]:
			nodes = append(nodes, n)
		case b == badBeside:
			waits = true
		}
	}
	return nodes, waits
}

func (d *deep) unfinished(roles []*roleSite) bool {
	for _, g := range d.groups {
		if slices.Contains(roles, g.roleSite) && slices.Contains(g.at, nowhere) {
			return true
		}
	}
	return false
}

// imbalance is how unevenly a role stands: the sum of squares over zones, then over nodes. Less is better, and the best
// there can be is even.
func (r *roleSite) imbalance() [2]int {
	var sum [2]int
	if r.role.Spread == field.SpreadZone {
		sum[0] = r.squares[0]
	}
	if r.role.Spread != field.SpreadNone {
		sum[1] = r.squares[1]
	}
	return sum
}

// improve moves members out of zones, and off nodes, that have more than their share, and exchanges members of two roles
// where neither could move alone.
func (f *filling) improve() {
	for range mostPasses {
		moved := false
		for _, g := range f.turn {
			if g.role.Spread == field.SpreadNone || g.companion || g.host != nil || !f.uneven(g) {
				continue
			}
			moved = f.smooth(g) || moved
		}
		if !moved {
			return
		}
	}
}

// uneven tells whether a role might stand better than it does: some zone has two more of it than another that may hold it,
// or some node two more than another of the same zone.
func (f *filling) uneven(g *group) bool {
	const none = 1 << 30
	least, most := make([]int, len(f.zones)), make([]int, len(f.zones)) // on one node of each zone
	for z := range least {
		least[z] = none
	}
	for i := range f.nodes {
		z := f.nodes[i].zone
		if g.role.Spread != field.SpreadZone {
			z = 0
		}
		c := g.perNode[i]
		most[z] = max(most[z], c)
		if g.may == nil || g.may[i] == 0 {
			least[z] = min(least[z], c)
		}
	}
	fewest, many := none, 0
	for z := range least {
		if most[z] > least[z]+1 && least[z] != none {
			return true
		}
		if least[z] != none {
			fewest = min(fewest, g.perZone[z])
		}
		many = max(many, g.perZone[z])
	}
	return g.role.Spread == field.SpreadZone && fewest != none && many > fewest+1
}

// smooth makes the moves and exchanges that lessen a role's imbalance without raising anybody else's.
func (f *filling) smooth(g *group) bool {
	moved := false
	work := mostTries
	for i := range g.at {
		if g.at[i] == nowhere || g.pin(i) != "" {
			continue
		}
		if work -= len(f.nodes); work < 0 {
			break
		}
		from := g.at[i]
		if f.leans(g, from, 1) {
			continue
		}
		was := g.imbalance()
		f.lift(g, i)
		h := f.homes(g.roleSite)
		to := h.best()
		if to == nowhere {
			to = from
		}
		f.put(g, i, to)
		if less(g.imbalance(), was) {
			moved = true
			continue
		}
		f.lift(g, i)
		f.put(g, i, from)
		moved = f.exchange(g, i, was, &work) || moved
	}
	return moved
}

// exchange lets a member change places with one of another role.
func (f *filling) exchange(g *group, i int, was [2]int, work *int) bool {
	from := g.at[i]
	for _, o := range f.turn {
		if o == g || o.companion || o.host != nil {
			continue
		}
		for j, to := range o.at {
			if to == nowhere || to == from || o.pin(j) != "" || g.may != nil && g.may[to] != 0 || o.may != nil && o.may[from] != 0 {
				continue
			}
			if g.perNode[to] >= g.perNode[from] && g.perZone[f.nodes[to].zone] >= g.perZone[f.nodes[from].zone] {
				continue
			}
			if *work--; *work < 0 {
				return false
			}
			if f.leans(o, to, 1) {
				continue
			}
			theirs := o.imbalance()
			f.lift(g, i)
			f.lift(o, j)
			if f.refuses(g.roleSite, to) == 0 {
				f.put(g, i, to)
				if f.refuses(o.roleSite, from) == 0 {
					f.put(o, j, from)
					if less(g.imbalance(), was) && !less(theirs, o.imbalance()) {
						return true
					}
					f.lift(o, j)
				}
				f.lift(g, i)
			}
			f.put(g, i, from)
			f.put(o, j, to)
		}
	}
	return false
}

func less(a, b [2]int) bool { return slices.Compare(a[:], b[:]) < 0 }

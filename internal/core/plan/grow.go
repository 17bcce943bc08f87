package plan

import (
	"cmp"
	"slices"
	"sort"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

// Grow gives the field with as many nodes of its sets as its members want, and no more: those that hold members which
// stay, and the fewest others without which somebody would fit nowhere, or stand where its spread says it should not.
// Cheap ones come first, then the order of the file. It is deterministic; a field without sets comes back as it is.
func Grow(f *field.Field, live Live) *field.Field {
	f = asSecured(f, live)
	if len(f.Extras) == 0 || f.Cycle() != nil {
		return f
	}
	g := &growing{whole: f, live: live, held: map[field.NodeName]bool{}, measures: map[int]crowding{}}
	extra := map[field.NodeName]*field.Node{}
	for i := range f.Extras {
		extra[f.Extras[i].Name] = &f.Extras[i]
	}
	hold := func(n field.NodeName) {
		if extra[n] != nil {
			g.held[n] = true
		}
	}
	for _, m := range live.Members {
		hold(m.Node)
	}
	for _, m := range live.Leaving {
		hold(m.Node)
	}
	for _, pins := range f.Place {
		for _, n := range pins {
			hold(n)
		}
	}
	for _, n := range f.Extras {
		if !g.held[n.Name] && !slices.Contains(live.Freeing, n.Name) {
			g.more = append(g.more, n)
		}
	}
	slices.SortStableFunc(g.more, func(a, b field.Node) int { return cmp.Compare(a.Price, b.Price) })
	g.ideal = g.spread(g.open(g.more))

	n := 0
	if g.measure(n) != g.measure(len(g.more)) { // nodes are added in their order until it helps no more
		best := g.measure(len(g.more))
		n = sort.Search(len(g.more), func(n int) bool { return !best.less(g.measure(n)) })
	}
	g.more = slices.Clone(g.more[:n])
	g.dropUnused()
	return g.swept()
}

// growing is a field of which it is being found out how many nodes it needs.
type growing struct {
	whole    *field.Field
	live     Live
	held     map[field.NodeName]bool // extras that are there whatever is decided
	more     []field.Node            // the others, in the order in which they are made
	ideal    map[field.RoleName]int  // at most so many of a role in one zone or on one node, if all nodes were there
	measures map[int]crowding        // with the first so many of more
}

// crowding is how badly members stand: how many fit nowhere, and how many are too many in their zone or on their node.
type crowding struct{ unplaced, crowded int }

func (c crowding) less(than crowding) bool {
	return cmp.Or(cmp.Compare(c.unplaced, than.unplaced), cmp.Compare(c.crowded, than.crowded)) < 0
}

// open gives the field with what is held and some more nodes.
func (g *growing) open(more []field.Node) *field.Field {
	names := make(map[field.NodeName]bool, len(g.held)+len(more))
	for n := range g.held {
		names[n] = true
	}
	for _, n := range more {
		names[n.Name] = true
	}
	return g.whole.With(names)
}

// spread gives, for each role that is to be spread, how many of it may stand together at most: by zones, its even share
// of them; by nodes, one, where there could be a node for each.
func (g *growing) spread(all *field.Field) map[field.RoleName]int {
	most := map[field.RoleName]int{}
	nodes := all.NodesByName()
	for i := range all.Roles {
		r := &all.Roles[i]
		may := all.May(r)
		switch {
		case r.Members == 0 || len(may) == 0 || r.Each.Node:
		case r.Spread == field.SpreadZone:
			zones := map[field.ZoneName]bool{}
			for _, n := range may {
				zones[nodes[n].Zone] = true
			}
			most[r.Name] = (r.Members + len(zones) - 1) / len(zones)
		case r.Spread == field.SpreadNode && r.Members <= len(may):
			most[r.Name] = 1
		}
	}
	return most
}

func (g *growing) measure(n int) crowding {
	c, known := g.measures[n]
	if !known {
		c = g.crowding(g.open(g.more[:n]))
		g.measures[n] = c
	}
	return c
}

func (g *growing) crowding(f *field.Field) crowding {
	p := Make(f, g.live)
	c := crowding{unplaced: len(p.Unplaced)}
	nodes := f.NodesByName()
	type spot struct {
		role field.RoleName
		node field.NodeName
		zone field.ZoneName
	}
	counts := map[spot]int{}
	for _, m := range g.standing(p) {
		most, r := g.ideal[m.Role], f.Role(m.Role)
		if most == 0 || nodes[m.Node] == nil {
			continue
		}
		at := spot{role: m.Role, zone: nodes[m.Node].Zone}
		if r.Spread == field.SpreadNode {
			at = spot{role: m.Role, node: m.Node}
		}
		if counts[at]++; counts[at] > most {
			c.crowded++
		}
	}
	return c
}

// standing are the members that stay and those that come.
func (g *growing) standing(p Plan) []place.Member {
	leaves := map[field.MemberName]bool{}
	for _, r := range p.Removes {
		leaves[r.Member] = true
	}
	stand := slices.Clone(p.Adds)
	for _, m := range g.live.Members {
		if !leaves[m.Name] {
			stand = append(stand, m.Member)
		}
	}
	return stand
}

// dropUnused takes nodes out again as long as that harms nothing: those of one set may have been there only because others came
// after them.
func (g *growing) dropUnused() {
	best := g.crowding(g.open(g.more))
	var sets []string
	for _, n := range g.more {
		if !slices.Contains(sets, n.Set) {
			sets = append(sets, n.Set)
		}
	}
	if len(sets) == 1 {
		sets = nil
	}
	for _, set := range sets {
		of := 0
		for _, n := range g.more {
			if n.Set == set {
				of++
			}
		}
		first := func(n int) []field.Node { // all of the others, and so many of this one
			left := n
			return slices.DeleteFunc(slices.Clone(g.more), func(x field.Node) bool {
				if x.Set == set {
					left--
				}
				return x.Set == set && left < 0
			})
		}
		n := sort.Search(of, func(n int) bool { return !best.less(g.crowding(g.open(first(n)))) })
		g.more = first(n)
	}
	for i := len(g.more) - 1; i >= 0 && len(g.more) <= mostPruned; i-- {
		if fewer := slices.Delete(slices.Clone(g.more), i, i+1); !best.less(g.crowding(g.open(fewer))) {
			g.more = fewer
		}
	}
}

// mostPruned is up to how many nodes it is looked at each whether it is missed.
const mostPruned = 64

// swept gives the field without the extras that nobody stands on in the end.
func (g *growing) swept() *field.Field {
	f := g.open(g.more)
	p := Make(f, g.live)
	wanted := map[field.NodeName]bool{}
	each := map[field.RoleName]bool{} // stand on every node there is: no reason for a node to be
	for i := range f.Roles {
		each[f.Roles[i].Name] = f.Roles[i].Each.Node
	}
	for _, m := range g.standing(p) {
		if !each[m.Role] {
			wanted[m.Node] = true
		}
	}
	for _, pins := range f.Place {
		for _, n := range pins {
			wanted[n] = true
		}
	}
	out := g.whole.With(wanted)
	if len(out.Nodes) < len(f.Nodes) && g.crowding(f).less(g.crowding(out)) {
		return f
	}
	return out
}

// asSecured has roles that are deployed go on to speak TLS, or not to, where the field leaves that open: a further node does not change how members speak.
func asSecured(f *field.Field, live Live) *field.Field {
	out := f
	for i := range f.Roles {
		r := &f.Roles[i]
		was, deployed := live.Secured[r.Name]
		if !deployed || r.TLS != "" || f.Trust.TLS != "" || f.Secure(r) == was || !r.Program.CanSecure() {
			continue
		}
		if out == f {
			copied := *f
			copied.Roles = slices.Clone(f.Roles)
			out = &copied
		}
		out.Roles[i].TLS = field.Off
		if was {
			out.Roles[i].TLS = field.On
		}
	}
	return out
}

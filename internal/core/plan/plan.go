// Package plan finds what leads from the live members to the draft: which members are added, on which nodes, and which
// ones leave.
package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

// Member is a live member: planned or further, and neither gone nor leaving already.
type Member struct {
	place.Member
	Number int // counts within the role; a larger one is newer
	Ready  bool
	Leads  bool
}

// Live is what there is now.
type Live struct {
	Members []Member
	Leaving []place.Member          // still take room
	Highest map[field.RoleName]int  // the highest number that a member of the role ever had
	Kept    []Kept                  // by number
	Freeing []field.NodeName        // being given up: they can hold nobody before they are free
	Secured map[field.RoleName]bool // of roles that are deployed: whether they speak TLS
}

// Kept is a member that is gone and whose data is still on its node.
type Kept struct {
	place.Member
	Number int
}

// Remove is a member that leaves, with the reason.
type Remove struct {
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
	Why    string
	Moves  bool // it may not stay where it is, and another takes its place
}

// Plan is the difference between live and draft. Adds stand in the order of deployment, Removes in the reverse order.
type Plan struct {
	Adds     []place.Member
	Removes  []Remove
	Unplaced []place.Unplaced
}

// Make compares the live members with the draft. It is deterministic, keeps members where they are unless a pin, a
// missing node or a smaller count says otherwise, and never gives out a number twice.
func Make(f *field.Field, live Live) Plan {
	p := compare(f, live)
	if len(live.Kept) > 0 && len(p.Unplaced) > 0 { // those who come back are in the way
		live.Kept = nil
		p = compare(f, live)
	}
	return p
}

// compare is Make for one choice of who may come back.
func compare(f *field.Field, live Live) Plan {
	m := &making{live: live, field: f, nodes: f.NodesByName(), byRole: map[field.RoleName][]Member{}, kept: map[field.RoleName][]Member{},
		used: map[field.NodeName]field.Size{}}
	standing := slices.Clone(live.Leaving)
	for _, l := range live.Members {
		m.byRole[l.Role] = append(m.byRole[l.Role], l)
		standing = append(standing, l.Member)
	}
	site := place.NewSite(f, standing)
	var wants []place.Want
	for _, stage := range f.Stages() {
		for _, name := range stage {
			wants = append(wants, m.role(f.Role(name), live.Highest[name]))
		}
	}
	m.Adds, m.Unplaced = site.Fill(wants)
	for _, name := range slices.Sorted(maps.Keys(m.byRole)) {
		if f.Role(name) == nil {
			for _, l := range m.byRole[name] {
				m.remove(l, "the draft has no role "+string(name))
			}
		}
	}
	slices.Reverse(m.Removes)
	return m.Plan
}

// making is a plan while it is made.
type making struct {
	Plan
	live   Live
	field  *field.Field
	nodes  map[field.NodeName]*field.Node
	byRole map[field.RoleName][]Member   // live ones
	kept   map[field.RoleName][]Member   // of the roles seen so far
	used   map[field.NodeName]field.Size // by those
}

func (m *making) remove(l Member, why string) {
	m.Removes = append(m.Removes, Remove{Member: l.Name, Role: l.Role, Node: l.Node, Why: why})
}

// move removes a member that may not stay where it is.
func (m *making) move(l Member, why string, args ...any) {
	m.remove(l, fmt.Sprintf(why, args...))
	m.Removes[len(m.Removes)-1].Moves = true
}

// role decides who of a role leaves, and gives who is wanted besides those that stay.
func (m *making) role(role *field.Role, highest int) place.Want {
	keep := m.stay(role)
	pins := m.pins(role)
	pinned, unmet := matchPins(keep, pins[:min(len(pins), role.Members)])
	surplus := len(keep) + len(unmet) - role.Members
	for range surplus {
		if len(keep) == 0 {
			break
		}
		victim := chooseLeaver(role, keep, pinned, m.misfits(role), m.nodes)
		why := fmt.Sprintf("the draft wants %d of %s", role.Members, role.Name)
		if len(unmet) > 0 {
			why = "a pin puts a member elsewhere"
		}
		m.remove(keep[victim], why)
		keep = slices.Delete(keep, victim, victim+1)
	}
	m.kept[role.Name] = keep
	want := m.back(role, role.Members-len(keep), unmet)
	for range role.Members - len(keep) - len(want.Names) {
		highest++
		want.Names = append(want.Names, role.Name.Member(highest))
	}
	return want
}

// back wants those of a role again, at most so many, whose data was kept, each on the node where that is.
func (m *making) back(role *field.Role, most int, pins []field.NodeName) place.Want {
	want := place.Want{Role: role.Name, Pins: pins}
	if !role.Returns() {
		return want
	}
	misfits := m.misfits(role)
	var nodes, rest []field.NodeName
	rest = slices.Clone(pins)
	for _, k := range m.live.Kept {
		n := m.nodes[k.Node]
		if k.Role != role.Name || n == nil || n.Out != "" || misfits[k.Node] || len(want.Names) == most {
			continue
		}
		i := slices.Index(rest, k.Node)
		if i < 0 && len(nodes)+len(rest) >= most {
			continue // pins have taken every place
		}
		if i >= 0 {
			rest = slices.Delete(rest, i, i+1)
		}
		nodes, want.Names = append(nodes, k.Node), append(want.Names, k.Name)
	}
	want.Pins = append(nodes, rest...)
	return want
}

// stay removes those of a role whose node can hold them no more, and gives the others.
func (m *making) stay(role *field.Role) []Member {
	var may map[field.NodeName]bool
	if role.Each.Node {
		may = map[field.NodeName]bool{}
		for _, n := range m.field.May(role) {
			may[n] = true
		}
	}
	hosts := map[field.NodeName]int{}
	misfits, zones := m.misfits(role), map[field.ZoneName]int{}
	_, before := m.kept[role.Each.Beside]
	for _, h := range m.kept[role.Each.Beside] {
		hosts[h.Node]++
	}
	var keep []Member
	for _, l := range m.byRole[role.Name] {
		node := m.nodes[l.Node]
		switch {
		case node == nil && slices.ContainsFunc(m.field.Extras, func(n field.Node) bool { return n.Name == l.Node }):
			m.remove(l, fmt.Sprintf("the draft no longer needs %s", l.Node))
		case node == nil:
			m.remove(l, fmt.Sprintf("the draft has no node %s", l.Node))
		case node.Out != "":
			m.move(l, "%s is taken out", l.Node)
		case may != nil && !may[l.Node]:
			m.remove(l, fmt.Sprintf("%s may not hold %s any more", l.Node, role.Name))
		case before && hosts[l.Node] == 0:
			m.remove(l, fmt.Sprintf("nobody of %s is left on %s", role.Each.Beside, l.Node))
		case !node.Runs(role.Platforms):
			m.move(l, "%s is %s, and %s runs on %s only", l.Node, node.Platform, role.Name, strings.Join(role.Platforms, ", "))
		case misfits[l.Node]:
			m.move(l, "where of %s does not allow %s any more", role.Name, l.Node)
		case m.foe(role, l.Node) != "":
			m.move(l, "%s must be apart from %s, of which %s holds one", role.Name, m.foe(role, l.Node), l.Node)
		case m.alone(role, l.Node) != "":
			m.move(l, "%s must be beside %s, and none of that stays on %s", role.Name, m.alone(role, l.Node), l.Node)
		case role.Each.Zone > 0 && zones[node.Zone] >= role.Each.Zone:
			m.move(l, "%s holds %d of %s already", node.Zone, role.Each.Zone, role.Name)
		case m.lacks(role, node) != "":
			m.move(l, "%s offers too little %s for all that it holds", l.Node, m.lacks(role, node))
		default:
			hosts[l.Node]--
			zones[node.Zone]++
			if role.Each.Beside == "" {
				m.used[l.Node] = m.used[l.Node].Plus(m.room(role, 0))
			}
			keep = append(keep, l)
		}
	}
	return keep
}

// foe is a role that must be apart from this one and of which a member stays on the node.
func (m *making) foe(role *field.Role, node field.NodeName) field.RoleName {
	for i := range m.field.Roles {
		other := &m.field.Roles[i]
		if m.field.Apart(role, other) && slices.ContainsFunc(m.kept[other.Name], func(x Member) bool { return x.Node == node }) {
			return other.Name
		}
	}
	return ""
}

// alone is a role that this one must be beside and of which nobody stays on the node.
func (m *making) alone(role *field.Role, node field.NodeName) field.RoleName {
	for _, name := range role.Beside {
		if kept, seen := m.kept[name]; seen && len(kept) > 0 && !slices.ContainsFunc(kept, func(x Member) bool { return x.Node == node }) {
			return name
		}
	}
	return ""
}

// lacks says of what a node offers too little for one more of a role beside those that stay there; "" where there is room.
// A companion's room is part of its host's.
func (m *making) lacks(role *field.Role, node *field.Node) string {
	if role.Each.Beside != "" {
		return ""
	}
	offered, want := node.Offered(), m.used[node.Name].Plus(m.room(role, 0))
	switch {
	case offered.CPU > 0 && want.CPU > offered.CPU+1e-9:
		return "CPU"
	case offered.Memory > 0 && want.Memory > offered.Memory:
		return "memory"
	case offered.Disk > 0 && want.Disk > offered.Disk:
		return "disk"
	}
	return ""
}

// room is what one member takes, with its companions.
func (m *making) room(role *field.Role, depth int) field.Size {
	size := role.Taken()
	if depth < len(m.field.Roles) {
		for _, c := range m.field.Companions(role.Name) {
			size = size.Plus(m.room(c, depth+1))
		}
	}
	return size
}

// pins are the nodes that must hold a member of the role: as the draft pins them, or each that may where it is to be on
// every node.
func (m *making) pins(role *field.Role) []field.NodeName {
	if role.Each.Node {
		return m.field.May(role)
	}
	return m.field.Place[role.Name]
}

// matchPins pairs members with pins on their nodes, oldest first, and gives the pins that nobody meets.
func matchPins(members []Member, pins []field.NodeName) (pinned map[field.MemberName]bool, unmet []field.NodeName) {
	pinned = map[field.MemberName]bool{}
	for _, pin := range pins {
		i := slices.IndexFunc(members, func(m Member) bool { return m.Node == pin && !pinned[m.Name] })
		if i < 0 {
			unmet = append(unmet, pin)
			continue
		}
		pinned[members[i].Name] = true
	}
	return pinned, unmet
}

// misfits tells which nodes may not hold the role any more, as its where and platforms are now; nil when all may.
func (m *making) misfits(role *field.Role) map[field.NodeName]bool {
	if role.Where == "" && len(role.Platforms) == 0 {
		return nil
	}
	may := m.field.May(role)
	out := make(map[field.NodeName]bool, len(m.nodes)-len(may))
	for name := range m.nodes {
		out[name] = true
	}
	for _, name := range may {
		delete(out, name)
	}
	return out
}

// chooseLeaver gives the index of the member that leaves first: not pinned, on a node that may not hold it any more, not
// ready, in the fullest zone, on a node that is there only while it is wanted, on the fullest node, newest; the leader last of those that nobody has pinned.
func chooseLeaver(role *field.Role, members []Member, pinned map[field.MemberName]bool, misfits map[field.NodeName]bool, nodes map[field.NodeName]*field.Node) int {
	perZone, perNode := map[field.ZoneName]int{}, map[field.NodeName]int{}
	for _, m := range members {
		perZone[nodes[m.Node].Zone]++
		perNode[m.Node]++
	}
	rank := func(m Member) [8]int {
		zone := 0
		if role.Spread == field.SpreadZone {
			zone = -perZone[nodes[m.Node].Zone]
		}
		return [8]int{truth(pinned[m.Name]), truth(m.Leads), truth(!misfits[m.Node]), truth(m.Ready), zone, truth(!nodes[m.Node].Extra), -perNode[m.Node], -m.Number}
	}
	best := 0
	for i := range members {
		a, b := rank(members[i]), rank(members[best])
		if slices.Compare(a[:], b[:]) < 0 {
			best = i
		}
	}
	return best
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

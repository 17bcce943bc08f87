// Package place decides which member goes on which node: deterministic, never beyond what a node has, keeping members of
// a role apart, and able to say why a member stands where it does, or fits nowhere.
//
// What must hold: a node's CPU, memory and disk, `where` and platform, taken-out nodes, pins, ports, beside, apart, and
// what `members: each-node` and its like say. What is striven for, in this order: an even spread over zones, then over
// nodes, then even use of the nodes. Who runs already is not moved; see Propose for that.
package place

import (
	"cmp"
	"math"
	"slices"

	"lanternfield/internal/core/field"
)

// Member is a member that has, or is to get, a node. Its ports are shared with others and never changed.
type Member struct {
	Name  field.MemberName
	Role  field.RoleName
	Node  field.NodeName
	Ports map[string]int
}

// Site is the nodes of a field with what is in use on each. Placing on it reserves. It is not for several goroutines.
type Site struct {
	field  *field.Field
	nodes  []nodeUse
	byName map[field.NodeName]int
	zones  []field.ZoneName
	roles  map[field.RoleName]*roleSite
	match  *field.Matcher
	slab   []portUse
	fixed  map[int]bool // ports that some role has for good: ranges leave them alone as long as they can
}

// nodeUse is a node with what is in use on it.
type nodeUse struct {
	node    *field.Node
	offered field.Size
	used    field.Size
	zone    int
	class   int // of nodes that look the same to `where`
	total   int // members
	ports   []portUse
}

// portsAtFirst is how many ports a node has room for before it takes more.
const portsAtFirst = 12

type portUse struct {
	port int
	by   field.MemberName
}

// roleSite is a role as placement sees it, with where its members are.
type roleSite struct {
	role      *field.Role
	taken     field.Size // by one member, its companions' room included
	free      bool       // it takes nothing itself: its host's room includes it
	apart     []*roleSite
	beside    []*roleSite
	host      *roleSite // whose companion it is
	ports     []namedPort
	fixed     bool  // two of them cannot share a node, for it or a companion has a port with one number
	may       []bad // by node, what no other member has a part in: taken out, platform, where; nil when all may
	whereErr  error
	perNode   []int
	perZone   []int
	squares   [2]int      // of perZone and of perNode, summed
	leaning   []*roleSite // those that must be beside it
	companion bool        // some role is its companion
	eligible  []*field.Node
	shared    map[int]map[string]int // the ports of a program that has one, by its number: members share them
}

type namedPort struct {
	name string
	field.Port
}

// NewSite makes a site with the members that stay where they are. Members on nodes that the field no longer has take
// no room.
func NewSite(f *field.Field, standing []Member) *Site {
	s := &Site{field: f, match: field.NewMatcher(), fixed: map[int]bool{}, byName: make(map[field.NodeName]int, len(f.Nodes)), roles: map[field.RoleName]*roleSite{}}
	s.nodes = make([]nodeUse, len(f.Nodes))
	zones := map[field.ZoneName]int{}
	for i := range f.Nodes {
		n := &f.Nodes[i]
		zone, known := zones[n.Zone]
		if !known {
			zone = len(s.zones)
			zones[n.Zone] = zone
			s.zones = append(s.zones, n.Zone)
		}
		s.nodes[i] = nodeUse{node: n, offered: n.Offered(), zone: zone, class: s.match.Class(n)}
		s.byName[n.Name] = i
	}
	for i := range f.Roles {
		s.roles[f.Roles[i].Name] = &roleSite{role: &f.Roles[i]}
	}
	for i := range f.Roles {
		s.prepare(s.roles[f.Roles[i].Name])
	}
	for _, m := range standing {
		if i, ok := s.byName[m.Node]; ok {
			s.take(s.roles[m.Role], i, m)
		}
	}
	return s
}

func (s *Site) prepare(r *roleSite) {
	r.perNode, r.perZone = make([]int, len(s.nodes)), make([]int, len(s.zones))
	r.taken = s.room(r.role, 0)
	for i := range s.field.Roles {
		if other := &s.field.Roles[i]; s.field.Apart(r.role, other) {
			r.apart = append(r.apart, s.roles[other.Name])
		}
	}
	for _, name := range r.role.Neighbours() {
		if other := s.roles[name]; other != nil {
			r.beside = append(r.beside, other)
			other.leaning = append(other.leaning, r)
		}
	}
	if host := s.roles[r.role.Each.Beside]; host != nil {
		r.host, r.free = host, true
	}
	if p := r.role.Program; p != nil {
		for _, name := range p.PortNames() {
			r.ports = append(r.ports, namedPort{name, p.Ports[name]})
			if port := p.Ports[name]; port.Fixed() {
				r.fixed, s.fixed[port.Port] = true, true
			}
		}
	}
	for _, c := range s.field.Companions(r.role.Name) {
		r.companion = true
		if c.Program != nil {
			for _, p := range c.Program.Ports {
				r.fixed = r.fixed || p.Fixed()
			}
		}
	}
	for i := range s.nodes {
		b := s.never(r, &s.nodes[i])
		if b != 0 && r.may == nil {
			r.may = make([]bad, len(s.nodes))
		}
		if b != 0 {
			r.may[i] = b
		}
	}
}

// room is what a member of the role takes together with its companions.
func (s *Site) room(r *field.Role, depth int) field.Size {
	size := r.Taken()
	if depth < len(s.field.Roles) {
		for _, c := range s.field.Companions(r.Name) {
			more := s.room(c, depth+1)
			size.CPU += more.CPU
			size.Memory += more.Memory
			size.Disk += more.Disk
		}
	}
	return size
}

// never says what keeps the role off a node whoever else is there.
func (s *Site) never(r *roleSite, n *nodeUse) bad {
	var b bad
	if n.node.Out != "" {
		b |= badOut
	}
	if !n.node.Runs(r.role.Platforms) {
		b |= badPlatform
	}
	fits, err := s.match.FitsClass(r.role.Where, n.node, n.class)
	if err != nil {
		r.whereErr = err
	}
	if !fits {
		b |= badWhere
	}
	return b
}

func (s *Site) take(r *roleSite, node int, m Member) {
	n := &s.nodes[node]
	n.total++
	for _, port := range m.Ports {
		if n.ports == nil { // a little room from one piece for all
			if len(s.slab) < portsAtFirst {
				s.slab = make([]portUse, 256*portsAtFirst)
			}
			n.ports, s.slab = s.slab[:0:portsAtFirst], s.slab[portsAtFirst:]
		}
		n.ports = append(n.ports, portUse{port, m.Name})
	}
	if r == nil {
		return
	}
	r.squares[0] += 2*r.perZone[n.zone] + 1
	r.squares[1] += 2*r.perNode[node] + 1
	r.perNode[node]++
	r.perZone[n.zone]++
	if !r.free {
		n.used.CPU += r.taken.CPU
		n.used.Memory += r.taken.Memory
		n.used.Disk += r.taken.Disk
	}
}

// give takes a member off again.
func (s *Site) give(r *roleSite, node int, m Member) {
	n := &s.nodes[node]
	n.total--
	n.ports = slices.DeleteFunc(n.ports, func(p portUse) bool { return p.by == m.Name })
	r.perNode[node]--
	r.perZone[n.zone]--
	r.squares[0] -= 2*r.perZone[n.zone] + 1
	r.squares[1] -= 2*r.perNode[node] + 1
	if !r.free {
		n.used.CPU -= r.taken.CPU
		n.used.Memory -= r.taken.Memory
		n.used.Disk -= r.taken.Disk
	}
}

// Use is what is kept free for members on a node, and what the node offers them.
type Use struct{ Used, Offered field.Size }

// Uses gives the use of every node.
func (s *Site) Uses() map[field.NodeName]Use {
	uses := make(map[field.NodeName]Use, len(s.nodes))
	for i := range s.nodes {
		uses[s.nodes[i].node.Name] = Use{Used: s.nodes[i].used, Offered: s.nodes[i].offered}
	}
	return uses
}

// Eligible lists the nodes that may hold a role whoever else is there.
func (s *Site) Eligible(role *field.Role) []*field.Node {
	r := s.roles[role.Name]
	if r == nil {
		return nil
	}
	if r.eligible == nil {
		for i := range s.nodes {
			if r.may == nil || r.may[i] == 0 {
				r.eligible = append(r.eligible, s.nodes[i].node)
			}
		}
	}
	return r.eligible
}

// share is how full the node is in its fullest dimension, in steps of a hundredth so that rounding decides nothing.
func (n *nodeUse) share() int {
	part := func(used, offered float64) int {
		if offered == 0 {
			return 0
		}
		return int(100 * used / offered)
	}
	return max(part(n.used.CPU, n.offered.CPU), part(float64(n.used.Memory), float64(n.offered.Memory)),
		part(float64(n.used.Disk), float64(n.offered.Disk)))
}

// key orders nodes as homes for one more of the role, the best first: few of the role, little use, few members, and the
// order of the file.
func (s *Site) key(r *roleSite, node int) uint64 {
	n := &s.nodes[node]
	mine := 0
	if r.role.Spread != field.SpreadNone {
		mine = min(r.perNode[node], math.MaxUint16)
	}
	return uint64(mine)<<48 | uint64(min(n.share(), 1023))<<38 | uint64(min(n.total, math.MaxUint16))<<22 | uint64(node)
}

// better tells whether node a is a better home than b: first by the zones' counts, then by key.
func (s *Site) better(r *roleSite, a, b int) bool {
	zone := 0
	if r.role.Spread == field.SpreadZone {
		zone = cmp.Compare(r.perZone[s.nodes[a].zone], r.perZone[s.nodes[b].zone])
	}
	return cmp.Or(zone, cmp.Compare(s.key(r, a), s.key(r, b))) < 0
}

// choosePorts gives the member its ports on a node that has them.
func (s *Site) choosePorts(r *roleSite, node int, name field.MemberName) map[string]int {
	if len(r.ports) == 0 {
		return nil
	}
	if len(r.ports) == 1 {
		port := r.ports[0].Of(name.Number())
		if port == 0 {
			port = s.firstFree(node, r.ports[0].Port, nil)
		}
		if r.shared[port] == nil {
			if r.shared == nil {
				r.shared = map[int]map[string]int{}
			}
			r.shared[port] = map[string]int{r.ports[0].name: port}
		}
		return r.shared[port]
	}
	chosen := make(map[string]int, len(r.ports))
	var own [8]int
	mine := own[:0]
	for _, p := range r.ports {
		port := p.Of(name.Number())
		if port == 0 {
			port = s.firstFree(node, p.Port, mine)
		}
		chosen[p.name] = port
		mine = append(mine, port)
	}
	return chosen
}

// firstFree gives a number of a range that nobody on the node has; 0 when there is none.
func (s *Site) firstFree(node int, p field.Port, besides []int) int {
	n, spare := &s.nodes[node], 0
	for port := p.From; port <= p.To; port++ {
		switch {
		case n.uses(port) || slices.Contains(besides, port):
		case !s.fixed[port]:
			return port
		case spare == 0:
			spare = port
		}
	}
	return spare
}

func (n *nodeUse) uses(port int) bool {
	for i := range n.ports {
		if n.ports[i].port == port {
			return true
		}
	}
	return false
}

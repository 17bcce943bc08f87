package place

import (
	"cmp"
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// bad is a set of constraints that a node does not meet for a member of a role.
type bad uint16

// The constraints.
const (
	badOut bad = 1 << iota
	badPlatform
	badWhere
	badPin
	badCPU
	badMemory
	badDisk
	badApart
	badBeside
	badPort
	badRange
	badEach
)

const everyBad = badEach<<1 - 1

// refuses gives the first few constraints that the node does not meet; zero when it can hold one more.
func (s *Site) refuses(r *roleSite, node int) bad {
	if r.may != nil && r.may[node] != 0 {
		return r.may[node]
	}
	n := &s.nodes[node]
	if !r.free {
		if n.offered.CPU > 0 && n.used.CPU+r.taken.CPU > n.offered.CPU+1e-9 {
			return badCPU
		}
		if n.offered.Memory > 0 && n.used.Memory+r.taken.Memory > n.offered.Memory {
			return badMemory
		}
		if n.offered.Disk > 0 && n.used.Disk+r.taken.Disk > n.offered.Disk {
			return badDisk
		}
	}
	return s.refusesForOthers(r, node)
}

// refusesForOthers is what other members on the node, not its size, stand in the way with.
func (s *Site) refusesForOthers(r *roleSite, node int) bad {
	n := &s.nodes[node]
	var b bad
	for _, other := range r.apart {
		if other.perNode[node] > 0 {
			b |= badApart
		}
	}
	for _, other := range r.beside {
		if other.perNode[node] == 0 {
			b |= badBeside
		}
	}
	if r.host != nil && r.perNode[node] >= r.host.perNode[node] {
		b |= badBeside
	}
	if e := r.role.Each; e.Node && r.perNode[node] > 0 || e.Zone > 0 && r.perZone[n.zone] >= e.Zone {
		b |= badEach
	}
	if r.fixed && r.perNode[node] > 0 {
		return b | badPort
	}
	if len(r.ports) == 1 && !r.fixed && len(n.ports) <= r.ports[0].To-r.ports[0].From {
		return b // more numbers than are taken altogether
	}
	var own [8]int
	mine := own[:0]
	for _, p := range r.ports {
		port := p.Port.Port
		switch {
		case p.Each != 0: // each member has a number of its own
			continue
		case p.Fixed() && n.uses(port):
			b |= badPort
		case !p.Fixed():
			if port = s.firstFree(node, p.Port, mine); port == 0 {
				b |= badRange
			}
		}
		mine = append(mine, port)
	}
	return b
}

// allBad gives all constraints that the node does not meet, a pin among them.
func (s *Site) allBad(r *roleSite, node int, pin field.NodeName) bad {
	n := &s.nodes[node]
	b := s.refusesForOthers(r, node)
	if r.may != nil {
		b |= r.may[node]
	}
	if pin != "" && n.node.Name != pin {
		b |= badPin
	}
	if !r.free {
		if n.offered.CPU > 0 && n.used.CPU+r.taken.CPU > n.offered.CPU+1e-9 {
			b |= badCPU
		}
		if n.offered.Memory > 0 && n.used.Memory+r.taken.Memory > n.offered.Memory {
			b |= badMemory
		}
		if n.offered.Disk > 0 && n.used.Disk+r.taken.Disk > n.offered.Disk {
			b |= badDisk
		}
	}
	return b
}

// word says one constraint in general and, for one node, in particular.
func (s *Site) word(r *roleSite, b bad, node int) (reason, detail string) {
	n := &s.nodes[node]
	switch b {
	case badOut:
		if n.node.Out != "true" {
			return "taken out", " (" + string(n.node.Out) + ")"
		}
		return "taken out", ""
	case badPlatform:
		return "of another platform than " + strings.Join(r.role.Platforms, ", "), " (" + n.node.Platform + ")"
	case badWhere:
		if r.whereErr != nil {
			return "where cannot be evaluated on: " + firstLine(r.whereErr), ""
		}
		return fmt.Sprintf("excluded by where (%s)", r.role.Where), ""
	case badCPU:
		return "too little CPU", fmt.Sprintf(" (%s of %s free, %s wanted)", cores(max(0, n.offered.CPU-n.used.CPU)), cores(n.offered.CPU), cores(r.taken.CPU))
	case badMemory:
		return "too little memory", fmt.Sprintf(" (%s of %s free, %s wanted)", max(0, n.offered.Memory-n.used.Memory), n.offered.Memory, r.taken.Memory)
	case badDisk:
		return "too little disk", fmt.Sprintf(" (%s of %s free, %s wanted)", max(0, n.offered.Disk-n.used.Disk), n.offered.Disk, r.taken.Disk)
	case badApart:
		for _, other := range r.apart {
			if other.perNode[node] > 0 {
				return "apart from " + string(other.role.Name), ""
			}
		}
	case badBeside:
		for _, other := range r.beside {
			if other.perNode[node] == 0 {
				return "nothing of " + string(other.role.Name) + " to be beside", ""
			}
		}
		if r.host != nil {
			return "a companion for each of " + string(r.host.role.Name) + " there already", ""
		}
	case badPort:
		for _, p := range r.ports {
			for _, u := range n.ports {
				if p.Fixed() && u.port == p.Port.Port {
					return "port taken", fmt.Sprintf(" (%d is %s's)", u.port, u.by)
				}
			}
		}
		return "port taken", " (one of the role, or of its companions, is there)"
	case badRange:
		for _, p := range r.ports {
			if p.Port.Port == 0 {
				return "no port left", fmt.Sprintf(" (%d to %d are all in use)", p.From, p.To)
			}
		}
	case badEach:
		if r.role.Each.Node {
			return "one on every node, and there is one", ""
		}
		return fmt.Sprintf("%d in every zone, and there are", r.role.Each.Zone), ""
	case badPin:
		return "pinned elsewhere", ""
	}
	return "", ""
}

func cores(n float64) string { return fmt.Sprintf("%.4g", n) }

// Unplaced is a member that fits nowhere.
type Unplaced struct {
	Member field.MemberName
	Role   field.RoleName
	Why    string // the reasons with the nodes that they hold for

	Conflict []string `json:",omitempty"` // the fewest constraints that together leave no node
	Frees    []Free   `json:",omitempty"` // what would make room, the smallest step first
}

// Free is one way of making room for a member that fits nowhere: on that node, were it not for these constraints.
type Free struct {
	Node  field.NodeName
	Drops []Constraint
}

// Constraint names what can stand in a member's way.
type Constraint string

// What can stand in the way.
const (
	ByOut      Constraint = "taken out"
	ByPlatform Constraint = "platform"
	ByWhere    Constraint = "where"
	ByPin      Constraint = "pin"
	ByCPU      Constraint = "CPU"
	ByMemory   Constraint = "memory"
	ByDisk     Constraint = "disk"
	ByApart    Constraint = "apart"
	ByBeside   Constraint = "beside"
	ByPort     Constraint = "port"
	ByRange    Constraint = "port range"
	ByEach     Constraint = "members"
)

var constraints = []Constraint{ByOut, ByPlatform, ByWhere, ByPin, ByCPU, ByMemory, ByDisk, ByApart, ByBeside, ByPort, ByRange, ByEach}

func (b bad) list() []Constraint {
	var out []Constraint
	for ; b != 0; b &= b - 1 {
		out = append(out, constraints[bits.TrailingZeros16(uint16(b))])
	}
	return out
}

// nowhere says why a member fits nowhere.
func (s *Site) nowhere(r *roleSite, name field.MemberName, pin field.NodeName) Unplaced {
	u := Unplaced{Member: name, Role: r.role.Name}
	if len(s.nodes) == 0 {
		u.Why = "the field has no nodes"
		return u
	}
	if _, known := s.byName[pin]; pin != "" && !known {
		u.Why = fmt.Sprintf("it is pinned to %s, which the field does not have", pin)
		return u
	}
	refused := map[string][]string{}
	masks := map[bad]int{} // with the first node of each
	for i := range s.nodes {
		all := s.allBad(r, i, pin)
		if at, seen := masks[all]; !seen || i < at {
			masks[all] = i
		}
		first := s.refuses(r, i)
		if pin != "" && s.nodes[i].node.Name != pin || first == 0 {
			continue
		}
		reason, detail := s.word(r, first&-first, i)
		refused[reason] = append(refused[reason], string(s.nodes[i].node.Name)+detail)
	}
	u.Why = wordRefused(refused)
	if pin != "" {
		u.Why = fmt.Sprintf("it is pinned to %s: %s", pin, u.Why)
	}
	u.Conflict = s.conflict(r, masks, pin)
	for _, b := range slices.SortedFunc(maps.Keys(masks), func(a, b bad) int {
		return cmp.Or(cmp.Compare(bits.OnesCount16(uint16(a)), bits.OnesCount16(uint16(b))), cmp.Compare(masks[a], masks[b]))
	}) {
		if len(u.Frees) < 3 && b != 0 {
			u.Frees = append(u.Frees, Free{Node: s.nodes[masks[b]].node.Name, Drops: b.list()})
		}
	}
	return u
}

func wordRefused(refused map[string][]string) string {
	reasons := slices.SortedFunc(maps.Keys(refused), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(refused[b]), len(refused[a])), cmp.Compare(a, b))
	})
	var parts []string
	for _, reason := range reasons {
		nodes := refused[reason]
		shown := strings.Join(nodes[:min(3, len(nodes))], ", ")
		if len(nodes) > 3 {
			shown += fmt.Sprintf(" and %d more", len(nodes)-3)
		}
		parts = append(parts, reason+": "+shown)
	}
	return strings.Join(parts, "; ")
}

// conflict finds the fewest constraints that leave no node: every node must fail one of them. There are at most twelve,
// so all sets can be tried, small ones first.
func (s *Site) conflict(r *roleSite, masks map[bad]int, pin field.NodeName) []string {
	best := bad(0)
	var in bad
	for m := range masks {
		if m == 0 {
			return nil
		}
		in |= m
	}
	for set := bad(1); set <= everyBad; set++ {
		if set&^in != 0 || best != 0 && bits.OnesCount16(uint16(set)) >= bits.OnesCount16(uint16(best)) {
			continue
		}
		all := true
		for m := range masks {
			if m&set == 0 {
				all = false
				break
			}
		}
		if all {
			best = set
		}
	}
	var words []string
	for _, c := range best.list() {
		words = append(words, s.constraintWords(r, c, pin))
	}
	return words
}

// constraintWords says a constraint as the file does.
func (s *Site) constraintWords(r *roleSite, c Constraint, pin field.NodeName) string {
	name := string(r.role.Name)
	list := func(roles []*roleSite) string {
		var names []string
		for _, o := range roles {
			names = append(names, string(o.role.Name))
		}
		return strings.Join(names, ", ")
	}
	switch c {
	case ByOut:
		return "nodes that are taken out"
	case ByPlatform:
		return name + " runs on " + strings.Join(r.role.Platforms, ", ")
	case ByWhere:
		return "where: " + r.role.Where
	case ByPin:
		return "the pin to " + string(pin)
	case ByCPU:
		return fmt.Sprintf("room for %s cores", cores(r.taken.CPU))
	case ByMemory:
		return fmt.Sprintf("room for %s of memory", r.taken.Memory)
	case ByDisk:
		return fmt.Sprintf("room for %s of disk", r.taken.Disk)
	case ByApart:
		return "apart from " + list(r.apart)
	case ByBeside:
		return "beside " + list(r.beside)
	case ByPort, ByRange:
		return "the ports of " + name
	}
	return "members: " + r.role.Each.String()
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

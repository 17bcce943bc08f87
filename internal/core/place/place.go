// Package place decides which member goes on which node: deterministic, within capacity, keeping members of a role
// apart, and able to say why a member fits nowhere.
package place

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"

	"lanternfield/internal/core/field"
)

// Member is a member that has, or is to get, a node.
type Member struct {
	Name  field.MemberName
	Role  field.RoleName
	Node  field.NodeName
	Ports map[string]int
}

// Unplaced is a member that fits nowhere, with the reason in words.
type Unplaced struct {
	Member field.MemberName
	Role   field.RoleName
	Why    string
}

// Site is the nodes of a field with what is in use on each. Placing on it reserves.
type Site struct {
	field *field.Field
	nodes []*nodeUse
	where map[string]*vm.Program
}

type nodeUse struct {
	node   *field.Node
	used   field.Size
	byRole map[field.RoleName]int
	ports  map[int]field.MemberName
}

// NewSite makes a site with the members that stay where they are. Members on nodes that the field no longer has take
// no room.
func NewSite(f *field.Field, standing []Member) *Site {
	s := &Site{field: f, where: map[string]*vm.Program{}}
	byName := map[field.NodeName]*nodeUse{}
	for i := range f.Nodes {
		n := &nodeUse{node: &f.Nodes[i], byRole: map[field.RoleName]int{}, ports: map[int]field.MemberName{}}
		s.nodes = append(s.nodes, n)
		byName[n.node.Name] = n
	}
	for _, m := range standing {
		if n := byName[m.Node]; n != nil {
			n.take(f.Role(m.Role), m)
		}
	}
	return s
}

func (n *nodeUse) take(role *field.Role, m Member) {
	n.byRole[m.Role]++
	for _, port := range m.Ports {
		n.ports[port] = m.Name
	}
	if role != nil {
		n.used.CPU += role.Room.CPU
		n.used.Memory += role.Room.Memory
		n.used.Disk += role.Room.Disk
	}
}

// Use is what is kept free for members on a node, and what the node offers.
type Use struct{ Used, Offered field.Size }

// Uses gives the use of every node.
func (s *Site) Uses() map[field.NodeName]Use {
	uses := make(map[field.NodeName]Use, len(s.nodes))
	for _, n := range s.nodes {
		uses[n.node.Name] = Use{Used: n.used, Offered: n.node.Size}
	}
	return uses
}

// refusal is why one node cannot hold one member; detail tells the node apart from others refused for the same reason.
type refusal struct{ reason, detail string }

// Place gives the member a node and ports and reserves both. A pinned member goes to that node or nowhere.
func (s *Site) Place(role *field.Role, name field.MemberName, pin field.NodeName) (Member, *Unplaced) {
	refused := map[string][]string{}
	var best *nodeUse
	perZone := map[field.ZoneName]int{}
	for _, n := range s.nodes {
		perZone[n.node.Zone] += n.byRole[role.Name]
	}
	for _, n := range s.nodes {
		if pin != "" && n.node.Name != pin {
			continue
		}
		if r := s.refuse(n, role); r != nil {
			refused[r.reason] = append(refused[r.reason], string(n.node.Name)+r.detail)
			continue
		}
		if best == nil || better(role, perZone, n, best) {
			best = n
		}
	}
	if best == nil {
		return Member{}, &Unplaced{Member: name, Role: role.Name, Why: s.explain(role, pin, refused)}
	}
	m := Member{Name: name, Role: role.Name, Node: best.node.Name, Ports: best.choosePorts(role)}
	best.take(role, m)
	return m, nil
}

// better tells whether a is a better home than b: first by spread, then by the share in use, then by the order of the
// file, which the caller's loop gives.
func better(role *field.Role, perZone map[field.ZoneName]int, a, b *nodeUse) bool {
	zone := 0
	if role.Spread == field.SpreadZone {
		zone = cmp.Compare(perZone[a.node.Zone], perZone[b.node.Zone])
	}
	node := 0
	if role.Spread != field.SpreadNone {
		node = cmp.Compare(a.byRole[role.Name], b.byRole[role.Name])
	}
	return cmp.Or(zone, node, cmp.Compare(a.share(), b.share()), cmp.Compare(a.count(), b.count())) < 0
}

// share is how full the node is in its fullest dimension, in steps of a hundredth so that rounding decides nothing.
func (n *nodeUse) share() int {
	part := func(used, offered float64) int {
		if offered == 0 {
			return 0
		}
		return int(100 * used / offered)
	}
	return max(part(n.used.CPU, n.node.Size.CPU), part(float64(n.used.Memory), float64(n.node.Size.Memory)),
		part(float64(n.used.Disk), float64(n.node.Size.Disk)))
}

func (n *nodeUse) count() int {
	total := 0
	for _, c := range n.byRole {
		total += c
	}
	return total
}

func (s *Site) refuse(n *nodeUse, role *field.Role) *refusal {
	fits, err := s.matches(role.Where, n.node)
	if err != nil {
		return &refusal{reason: "where cannot be evaluated on: " + firstLine(err)}
	}
	if !fits {
		return &refusal{reason: fmt.Sprintf("excluded by where (%s)", role.Where)}
	}
	offered, room := n.node.Size, role.Room
	if offered.CPU > 0 && n.used.CPU+room.CPU > offered.CPU+1e-9 {
		return &refusal{"too little CPU", fmt.Sprintf(" (%g of %g free, %g wanted)", max(0, offered.CPU-n.used.CPU), offered.CPU, room.CPU)}
	}
	if offered.Memory > 0 && n.used.Memory+room.Memory > offered.Memory {
		return &refusal{"too little memory", fmt.Sprintf(" (%s of %s free, %s wanted)", max(0, offered.Memory-n.used.Memory), offered.Memory, room.Memory)}
	}
	if offered.Disk > 0 && n.used.Disk+room.Disk > offered.Disk {
		return &refusal{"too little disk", fmt.Sprintf(" (%s of %s free, %s wanted)", max(0, offered.Disk-n.used.Disk), offered.Disk, room.Disk)}
	}
	if role.Program == nil {
		return nil
	}
	for _, name := range role.Program.PortNames() {
		p := role.Program.Ports[name]
		if p.Fixed() {
			if holder, taken := n.ports[p.Port]; taken {
				return &refusal{"port taken", fmt.Sprintf(" (%d is %s's)", p.Port, holder)}
			}
		} else if firstFree(p, n.ports) == 0 {
			return &refusal{"no port left", fmt.Sprintf(" (%d to %d are all in use)", p.From, p.To)}
		}
	}
	return nil
}

func firstFree(p field.Port, taken map[int]field.MemberName) int {
	for port := p.From; port <= p.To; port++ {
		if _, used := taken[port]; !used {
			return port
		}
	}
	return 0
}

func (n *nodeUse) choosePorts(role *field.Role) map[string]int {
	if role.Program == nil || len(role.Program.Ports) == 0 {
		return nil
	}
	chosen := map[string]int{}
	taken := maps.Clone(n.ports)
	for _, name := range role.Program.PortNames() {
		p := role.Program.Ports[name]
		port := p.Port
		if !p.Fixed() {
			port = firstFree(p, taken)
		}
		chosen[name], taken[port] = port, ""
	}
	return chosen
}

func (s *Site) matches(where string, n *field.Node) (bool, error) {
	if where == "" {
		return true, nil
	}
	program, ok := s.where[where]
	if !ok {
		var err error
		if program, err = field.CompileWhere(where); err != nil {
			return false, err
		}
		s.where[where] = program
	}
	out, err := expr.Run(program, n.WhereEnv())
	if err != nil {
		return false, err
	}
	return out.(bool), nil
}

// Eligible lists the nodes that `where` leaves to a role.
func (s *Site) Eligible(role *field.Role) []field.Node {
	var nodes []field.Node
	for _, n := range s.nodes {
		if fits, err := s.matches(role.Where, n.node); err == nil && fits {
			nodes = append(nodes, *n.node)
		}
	}
	return nodes
}

func (s *Site) explain(role *field.Role, pin field.NodeName, refused map[string][]string) string {
	if len(s.nodes) == 0 {
		return "the field has no nodes"
	}
	if pin != "" && len(refused) == 0 {
		return fmt.Sprintf("it is pinned to %s, which the field does not have", pin)
	}
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
	text := strings.Join(parts, "; ")
	if pin != "" {
		text = fmt.Sprintf("it is pinned to %s: %s", pin, text)
	}
	return text
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

package review

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/state"
)

// Needs is what the members of a draft want of the machines on which they are to run.
type Needs struct {
	Nodes []NodeNeeds
	Paths []Path
	Ways  []Way // by which clients get in

	Listens   []Listen                    // all ports of all members
	Addresses map[field.NodeName][]string // of nodes on which members are, or may be, where they are known
}

// Listen is a port of a member.
type Listen struct {
	Node   field.NodeName
	Member field.MemberName
	Role   field.RoleName
	Port   string // its name
	At     Endpoint
}

// Way is a port at which clients get in, of one member.
type Way struct {
	Path           // To alone
	Purpose string // what for, in words
}

// NodeNeeds is what is wanted of one node.
type NodeNeeds struct {
	Node    field.NodeName
	Lookups []order.Lookup
	Ports   []PortNeed // of members that come; those that run have theirs

	Floating []FloatingNeed
	Outside  []OutsideNeed
}

// OutsideNeed is something outside the field that a member calls: so many of its addresses have to be reached.
type OutsideNeed struct {
	Member field.MemberName // one of those that call it
	Role   field.RoleName   // as which the field knows it
	At     []string         // HOST:PORT
	Need   int
}

// FloatingNeed is an address that the node may have, as one of those on which members of a role are.
type FloatingNeed struct {
	Role    field.RoleName
	Address string
	Free    bool // no member has it, so that nobody may answer at it
}

// PortNeed is a port that is to be free.
type PortNeed struct {
	Member field.MemberName
	Name   string // of the port
	At     Endpoint
}

// Endpoint is an address with a port.
type Endpoint struct {
	Address string
	Port    int
}

// Path is a connection that members have to be able to open.
type Path struct {
	From, To field.NodeName
	Members  [2]field.MemberName // one that opens it, and the one it is opened to
	Roles    [2]field.RoleName   // theirs
	Port     string              // its name
	At       Endpoint
	Comes    bool // whoever listens there comes with the draft, so that nobody does yet
}

// NeedsOf finds out what a draft wants of machines: programs, ports, and the paths between members, as their own configuration names them. Where
// none is named, all ports count at which the program itself listens: of a role that is called, and among those who vote.
func NeedsOf(s *state.State, draft *field.Field) (*Needs, error) {
	resolved := resolve.Of(s, draft)
	draft = resolved.Field
	scene := finalSceneOf(s, draft, resolved.Plan)
	comes := map[field.MemberName]bool{}
	for _, a := range resolved.Plan.Adds {
		comes[a.Name] = true
	}
	leaves := map[field.MemberName]bool{}
	for _, x := range resolved.Plan.Removes {
		leaves[x.Member] = true
	}
	for name, m := range scene.Members { // addresses that the file gives are known before the node is there
		if n, at := draft.Node(m.Node), s.Nodes[m.Node]; n != nil && (at == nil || at.Released || !at.There()) {
			m.Address = cmp.Or(draft.Given(n), m.Address)
			for network, address := range n.Addresses {
				m.Addresses[network] = address
			}
			scene.Members[name] = m
		}
	}
	nodes := map[field.NodeName]*NodeNeeds{}
	for i := range draft.Nodes {
		nodes[draft.Nodes[i].Name] = &NodeNeeds{Node: draft.Nodes[i].Name}
	}
	endpoint := func(name field.MemberName, port string) Endpoint {
		m := scene.Members[name]
		at := Endpoint{m.Address, m.Ports[port]}
		if network := draft.Role(m.Role).Program.Ports[port].Network; network != "" {
			at.Address = cmp.Or(m.Addresses[network], at.Address)
		}
		return at
	}
	out := &Needs{Addresses: map[field.NodeName][]string{}}
	for i := range draft.Nodes {
		n := &draft.Nodes[i]
		addresses := append([]string{draft.Given(n)}, slices.Sorted(maps.Values(n.Addresses))...)
		if at := s.Nodes[n.Name]; at != nil && !at.Released {
			addresses = append(append(addresses, at.Address), slices.Sorted(maps.Values(at.Addresses))...)
		}
		out.Addresses[n.Name] = slices.DeleteFunc(addresses, func(a string) bool { return a == "" })
	}
	paths := map[string]Path{}
	add := func(from, to field.MemberName, port string) {
		a, b := scene.Members[from], scene.Members[to]
		p := Path{From: a.Node, To: b.Node, Members: [2]field.MemberName{from, to}, Roles: [2]field.RoleName{a.Role, b.Role}, Port: port, At: endpoint(to, port), Comes: comes[to]}
		if key := fmt.Sprint(p.From, p.At); a.Node != b.Node && p.At.Port > 0 {
			if _, known := paths[key]; !known {
				paths[key] = p
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(scene.Members)) {
		m := scene.Members[name]
		role, at := draft.Role(m.Role), nodes[m.Node]
		if role == nil || role.Program == nil || at == nil || leaves[name] || m.Leaving {
			continue
		}
		l, err := scene.Lookup(name)
		if err != nil {
			return nil, err
		}
		if l.Program != "" {
			at.Lookups = append(at.Lookups, l)
		}
		for _, port := range slices.Sorted(maps.Keys(m.Ports)) {
			out.Listens = append(out.Listens, Listen{m.Node, name, m.Role, port, endpoint(name, port)})
			if comes[name] {
				at.Ports = append(at.Ports, PortNeed{name, port, endpoint(name, port)})
			}
		}
		if address := draft.FloatingOf(role.Name); address != "" && !slices.ContainsFunc(at.Floating, func(f FloatingNeed) bool { return f.Address == address }) {
			at.Floating = append(at.Floating, FloatingNeed{role.Name, address, s.RoleOf(role.Name).Leader == ""})
		}
		for _, called := range role.Called() {
			if need := outsideNeed(s, draft, name, called); need != nil && !slices.ContainsFunc(at.Outside, func(o OutsideNeed) bool { return o.Role == called }) {
				at.Outside = append(at.Outside, *need)
			}
		}
		ways := waysIn(role)
		for _, port := range slices.Sorted(maps.Keys(ways)) {
			if at := endpoint(name, port); at.Port > 0 {
				out.Ways = append(out.Ways, Way{Path{To: m.Node, Members: [2]field.MemberName{"", name}, Roles: [2]field.RoleName{"", m.Role}, Port: port, At: at, Comes: comes[name]}, ways[port]})
			}
		}
		named := map[field.MemberName]map[string]bool{}
		scene.Noted = func(of field.MemberName, port string) {
			if named[of] == nil {
				named[of] = map[string]bool{}
			}
			named[of][port] = true
		}
		_, err = scene.Spec(name)
		scene.Noted = nil
		if err != nil {
			return nil, err
		}
		for other, ports := range named {
			if o := draft.Role(scene.Members[other].Role); other != name && o != nil && o.Program != nil {
				for port := range ports {
					add(name, other, port)
				}
			}
		}
		for other, o := range scene.Members {
			target := draft.Role(o.Role)
			if other == name || target == nil || target.Program == nil || leaves[other] || o.Leaving {
				continue
			}
			own := o.Role == m.Role
			for port, declared := range target.Program.Ports {
				switch {
				case own && declared.By == field.ByGuard && role.Guarded(): // guards speak with each other
				case own && role.Votes && len(named[other]) == 0 && declared.By != field.ByAgent:
				case !own && slices.Contains(role.Called(), o.Role) && len(named[other]) == 0 && declared.By == "":
				default:
					continue
				}
				add(name, other, port)
			}
		}
	}
	for i := range draft.Nodes {
		n, g := nodes[draft.Nodes[i].Name], draft.GroundOf(&draft.Nodes[i])
		if draft.Rules == field.RulesManaged && len(n.Lookups) > 0 && (g == field.GroundSSH || g == field.GroundJoin) {
			n.Lookups = append(n.Lookups, order.Lookup{Member: "rules", Program: "nft", LookIn: []string{"/usr/sbin", "/sbin"}, Packages: []string{"nftables"}})
		}
		out.Nodes = append(out.Nodes, *nodes[draft.Nodes[i].Name])
	}
	for _, key := range slices.Sorted(maps.Keys(paths)) {
		out.Paths = append(out.Paths, paths[key])
	}
	return out, nil
}

// outsideNeed is what a member needs of a role that it calls, where that is outside the field and it is known where.
func outsideNeed(s *state.State, draft *field.Field, member field.MemberName, called field.RoleName) *OutsideNeed {
	role := draft.Role(called)
	if role == nil || role.External == nil {
		return nil
	}
	at := role.External.Addresses
	if has := s.Has(role); has != nil {
		at = has.Content.At()
	}
	if len(at) == 0 {
		return nil
	}
	return &OutsideNeed{member, called, at, max(1, role.External.Need)}
}

// waysIn are the ports of a role at which clients get in, with what for: those that it says, or, of an entry that says none, all at which it listens itself.
func waysIn(role *field.Role) map[string]string {
	ways := map[string]string{}
	access := role.Program.Access
	switch {
	case access != nil && len(access.Passes) > 0:
		for purpose, port := range access.Passes {
			ways[port] = purpose
		}
	case access != nil:
		ways[cmp.Or(access.Port, "client")] = access.Purpose
	case role.Kind == field.Entry:
		for port, declared := range role.Program.Ports {
			if declared.By == "" {
				ways[port] = ""
			}
		}
	}
	return ways
}

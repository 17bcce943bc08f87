package review

import (
	"cmp"
	"fmt"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
)

// RulesOf gives the rules of the packet filter of each node. A port is reached from the machines of those roles that call its role, whichever of its ports they call, and from those of the role itself; ports at
// which clients get in are left open.
func RulesOf(name string, needs *Needs) map[field.NodeName]filter.Rules {
	callers := map[field.RoleName]map[field.NodeName]bool{}
	add := func(role field.RoleName, node field.NodeName) {
		if callers[role] == nil {
			callers[role] = map[field.NodeName]bool{}
		}
		callers[role][node] = true
	}
	for _, p := range needs.Paths {
		add(p.Roles[1], p.From)
	}
	for _, l := range needs.Listens {
		add(l.Role, l.Node)
	}
	open := map[string]bool{}
	for _, w := range needs.Ways {
		open[fmt.Sprint(w.To, w.At.Port)] = true
	}
	out := map[field.NodeName]filter.Rules{}
	for _, n := range needs.Nodes {
		r := filter.Rules{Table: filter.TableOf(name, n.Node), Ports: []filter.Port{}}
		for _, l := range needs.Listens {
			if l.Node != n.Node || open[fmt.Sprint(l.Node, l.At.Port)] || l.At.Port == 0 {
				continue
			}
			p := filter.Port{Port: l.At.Port, At: filter.Plain(needs.Addresses[n.Node]), Member: l.Member, Name: l.Port}
			var from []string
			for node := range callers[l.Role] {
				if node != n.Node {
					from = append(from, needs.Addresses[node]...)
				}
			}
			p.From = filter.Plain(from)
			if len(p.At) > 0 {
				r.Ports = append(r.Ports, p)
			}
		}
		slices.SortFunc(r.Ports, func(a, b filter.Port) int {
			return cmp.Or(cmp.Compare(a.Port, b.Port), cmp.Compare(a.Member, b.Member))
		})
		out[n.Node] = r
	}
	return out
}

// Package wiring is the roles of a field with what runs between them: who waits for whom, and who is told of whom.
package wiring

import (
	"cmp"
	"fmt"
	"slices"

	"lanternfield/internal/core/snapshot"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/layered"
)

// Wire leads from a role to one that depends on it, or is told its addresses.
type Wire struct {
	From, To field.RoleName
	Gate     field.Gate // what To waits for; empty where it waits for nobody
	Open     bool       // the gate lets To through now
	Back     bool       // it leads against the order: who is told of the other stands before it
	Entry    int        // which of the wires it is that reach the same role from before, from above; counted from 0
	Entries  int        // how many those are
	Missing  string     // what it has of what it needs, such as 1 of 2
}

// Graph is roles in the order of deployment, from left to right: each stands in the stage in which it is started.
type Graph struct {
	Roles  []snapshot.RoleView
	Stages [][]int // the roles of each stage, by their places in Roles, as they are to be drawn
	Wires  []Wire
	Lay    layered.Layout // breadth counts in roles: one and a gap of a half take two units
}

// Of lays out the wiring of roles.
func Of(roles []snapshot.RoleView) *Graph {
	g := &Graph{Roles: roles}
	at := map[field.RoleName]int{}
	var nodes []layered.Node
	stages := map[int]int{}
	var seen []int
	for i, r := range roles {
		at[r.Role] = i
		seen = append(seen, r.Stage)
	}
	slices.Sort(seen)
	for i, s := range slices.Compact(seen) {
		stages[s] = i
	}
	for _, r := range roles {
		nodes = append(nodes, layered.Node{Layer: stages[r.Stage], Size: 1})
	}
	var edges []layered.Edge
	add := func(w Wire) {
		from, known := at[w.From]
		if known && nodes[from].Layer != nodes[at[w.To]].Layer {
			g.Wires = append(g.Wires, w)
			edges = append(edges, layered.Edge{From: from, To: at[w.To]})
		}
	}
	for _, r := range roles {
		waits := map[field.RoleName]bool{}
		for _, gate := range r.Gates {
			waits[gate.On] = true
			add(Wire{From: gate.On, To: r.Role, Gate: gate.Gate, Open: gate.Open, Missing: fmt.Sprintf("%d of %d", min(gate.Have, gate.Need), gate.Need)})
		}
		for _, k := range r.Knows {
			if !waits[k] {
				add(Wire{From: k, To: r.Role})
			}
		}
	}
	g.Lay = layered.Lay(nodes, edges)
	g.enter(nodes, edges)
	g.Stages = g.Lay.Order
	return g
}

// enter says which wires reach a role in which order, so that they can end beside each other.
func (g *Graph) enter(nodes []layered.Node, edges []layered.Edge) {
	into := map[int][]int{}
	for i, e := range edges {
		last := e.To
		if g.Wires[i].Back = nodes[e.From].Layer > nodes[e.To].Layer; g.Wires[i].Back {
			last = e.From
		}
		into[last] = append(into[last], i)
	}
	for _, wires := range into {
		slices.SortStableFunc(wires, func(a, b int) int {
			from := func(i int) float64 { r := g.Lay.Routes[i]; return r[len(r)-2].At }
			return cmp.Compare(from(a), from(b))
		})
		for n, i := range wires {
			g.Wires[i].Entry, g.Wires[i].Entries = n, len(wires)
		}
	}
}

package layered

import (
	"math/rand/v2"
	"testing"
)

// fewestByTrying tries every order of every layer.
func fewestByTrying(g *graph) int {
	best := 1 << 30
	var try func(l int)
	try = func(l int) {
		if l == len(g.order) {
			best = min(best, g.crossings(g.order))
			return
		}
		layer := g.order[l]
		var permute func(i int)
		permute = func(i int) {
			if i >= len(layer)-1 {
				try(l + 1)
				return
			}
			for j := i; j < len(layer); j++ {
				layer[i], layer[j] = layer[j], layer[i]
				permute(i + 1)
				layer[i], layer[j] = layer[j], layer[i]
			}
		}
		permute(0)
	}
	try(0)
	return best
}

func random(rng *rand.Rand, n, layers, edges int) ([]Node, []Edge) {
	var nodes []Node
	for range n {
		nodes = append(nodes, Node{Layer: rng.IntN(layers), Size: 1 + float64(rng.IntN(3))})
	}
	var out []Edge
	for range edges {
		a, b := rng.IntN(n), rng.IntN(n)
		if nodes[a].Layer != nodes[b].Layer {
			out = append(out, Edge{a, b})
		}
	}
	return nodes, out
}

func TestFewEdgesCross(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	worse, extra, least := 0, 0, 0
	for range 300 {
		nodes, edges := random(rng, 3+rng.IntN(5), 3, rng.IntN(9))
		got := Lay(nodes, edges)
		g := &graph{real: len(nodes)}
		for _, n := range nodes {
			g.add(n.Layer, n.Size)
		}
		for _, e := range edges {
			a, b := e.From, e.To
			if nodes[a].Layer > nodes[b].Layer {
				a, b = b, a
			}
			last := a
			for l := nodes[a].Layer + 1; l < nodes[b].Layer; l++ {
				n := g.add(l, bend)
				g.join(last, n)
				last = n
			}
			g.join(last, b)
		}
		large := false
		for _, layer := range g.order {
			large = large || len(layer) > 6
		}
		if large {
			continue
		}
		best := fewestByTrying(g)
		least += best
		if got.Crossings > best {
			worse++
			extra += got.Crossings - best
		}
	}
	if worse > 6 || extra > 8 {
		t.Errorf("%d layouts have more crossings than they need, %d more than %d altogether", worse, extra, least)
	}
}

func TestNothingOverlapsAndEveryEdgeArrives(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	for range 200 {
		nodes, edges := random(rng, 2+rng.IntN(30), 1+rng.IntN(6), rng.IntN(40))
		l := Lay(nodes, edges)
		for _, layer := range l.Order {
			for i := 1; i < len(layer); i++ {
				a, b := layer[i-1], layer[i]
				if l.At[b]-l.At[a] < nodes[a].Size/2+nodes[b].Size/2+gap-1e-9 {
					t.Fatalf("nodes %d and %d overlap: %v %v", a, b, l.At[a], l.At[b])
				}
			}
		}
		for i, e := range edges {
			route := l.Routes[i]
			a, b := e.From, e.To
			if nodes[a].Layer > nodes[b].Layer {
				a, b = b, a
			}
			if route[0] != (Point{nodes[a].Layer, l.At[a]}) || route[len(route)-1] != (Point{nodes[b].Layer, l.At[b]}) || len(route) != nodes[b].Layer-nodes[a].Layer+1 {
				t.Fatalf("the edge %v runs %v", e, route)
			}
		}
		for n := range nodes {
			if l.At[n]-nodes[n].Size/2 < -1e-9 || l.At[n]+nodes[n].Size/2 > l.Breadth+1e-9 {
				t.Fatalf("node %d stands outside", n)
			}
		}
	}
}

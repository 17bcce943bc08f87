// Package layered lays a graph out in layers, so that few of its edges cross: each node keeps its layer, edges that span
// several layers bend through the ones between, and nodes stand near those that they are joined to.
//
// The method is that of Sugiyama, Tagawa and Toda (1981): order within layers by barycentres, swept up and down, then by
// exchanging neighbours; places by least squares under the order, with pooled adjacent violators.
package layered

import (
	"slices"
	"sort"
)

// Node is something to be laid out. Size is how much room it takes across its layer.
type Node struct {
	Layer int
	Size  float64
}

// Edge joins two nodes of different layers, by their indices.
type Edge struct{ From, To int }

// Point is a place: the layer, and how far across it.
type Point struct {
	Layer int
	At    float64
}

// Layout is where everything stands. Edges that joined nodes of one layer have no route.
type Layout struct {
	At        []float64 // the middle of each node, across its layer
	Order     [][]int   // the nodes of each layer, first to last; without bends
	Routes    [][]Point // of each edge, from its lower to its higher layer, ends included
	Crossings int
	Breadth   float64 // of the whole
}

const (
	sweeps = 24
	gap    = 1.0 // between nodes
	bend   = 0.6 // the room of an edge that passes through a layer
)

// Lay lays a graph out. It is deterministic: nodes that nothing tells apart keep their order.
func Lay(nodes []Node, edges []Edge) Layout {
	g := &graph{real: len(nodes)}
	for _, n := range nodes {
		g.add(n.Layer, n.Size)
	}
	chains := make([][]int, len(edges))
	for i, e := range edges {
		a, b := e.From, e.To
		if nodes[a].Layer > nodes[b].Layer {
			a, b = b, a
		}
		if nodes[a].Layer == nodes[b].Layer {
			continue
		}
		chain := []int{a}
		for l := nodes[a].Layer + 1; l < nodes[b].Layer; l++ {
			chain = append(chain, g.add(l, bend))
		}
		chain = append(chain, b)
		for j := 1; j < len(chain); j++ {
			g.join(chain[j-1], chain[j])
		}
		chains[i] = chain
	}
	g.arrange()
	g.place()
	out := Layout{At: g.at[:len(nodes)], Crossings: g.crossings(g.order)}
	for _, layer := range g.order {
		var real []int
		for _, n := range layer {
			if n < len(nodes) {
				real = append(real, n)
			}
			out.Breadth = max(out.Breadth, g.at[n]+g.size[n]/2)
		}
		out.Order = append(out.Order, real)
	}
	for _, chain := range chains {
		var route []Point
		for _, n := range chain {
			route = append(route, Point{g.layer[n], g.at[n]})
		}
		out.Routes = append(out.Routes, route)
	}
	return out
}

// graph is the nodes, bends among them, with their neighbours in the layers before and after.
type graph struct {
	real          int
	layer         []int
	size          []float64
	before, after [][]int
	order         [][]int // by layer
	at            []float64
}

func (g *graph) add(layer int, size float64) int {
	for len(g.order) <= layer {
		g.order = append(g.order, nil)
	}
	n := len(g.layer)
	g.layer, g.size = append(g.layer, layer), append(g.size, size)
	g.before, g.after = append(g.before, nil), append(g.after, nil)
	g.order[layer] = append(g.order[layer], n)
	return n
}

func (g *graph) join(a, b int) {
	g.after[a], g.before[b] = append(g.after[a], b), append(g.before[b], a)
}

// arrange finds an order with few crossings and keeps the best that it meets.
func (g *graph) arrange() {
	best, fewest := copied(g.order), g.crossings(g.order)
	for i := range sweeps {
		if i%2 == 0 {
			for l := 1; l < len(g.order); l++ {
				g.byBarycentre(l, g.before)
			}
		} else {
			for l := len(g.order) - 2; l >= 0; l-- {
				g.byBarycentre(l, g.after)
			}
		}
		g.exchange()
		if c := g.crossings(g.order); c < fewest {
			best, fewest = copied(g.order), c
		}
	}
	g.order = best
}

func copied(order [][]int) [][]int {
	out := make([][]int, len(order))
	for i := range order {
		out[i] = slices.Clone(order[i])
	}
	return out
}

func (g *graph) positions() []int {
	pos := make([]int, len(g.layer))
	for _, layer := range g.order {
		for i, n := range layer {
			pos[n] = i
		}
	}
	return pos
}

// byBarycentre orders a layer by the mean place of each node's neighbours; who has none keeps its place.
func (g *graph) byBarycentre(l int, neighbours [][]int) {
	pos := g.positions()
	weight := map[int]float64{}
	for i, n := range g.order[l] {
		weight[n] = float64(i)
		if len(neighbours[n]) > 0 {
			sum := 0
			for _, m := range neighbours[n] {
				sum += pos[m]
			}
			weight[n] = float64(sum) / float64(len(neighbours[n]))
		}
	}
	sort.SliceStable(g.order[l], func(i, j int) bool { return weight[g.order[l][i]] < weight[g.order[l][j]] })
}

// exchange lets nodes move one place, or several, within their layer as long as that lessens the crossings.
func (g *graph) exchange() {
	for better := true; better; {
		better = false
		for _, layer := range g.order {
			for i := range layer {
				was := g.crossings(g.order)
				for j := i + 1; j < len(layer); j++ {
					layer[i], layer[j] = layer[j], layer[i]
					if g.crossings(g.order) < was {
						better, was = true, g.crossings(g.order)
						continue
					}
					layer[i], layer[j] = layer[j], layer[i]
				}
			}
		}
		if len(g.layer) > 60 { // one round is enough for a large graph
			return
		}
	}
}

// crossings counts the pairs of edges that cross, layer by layer.
func (g *graph) crossings(order [][]int) int {
	pos := make([]int, len(g.layer))
	for _, layer := range order {
		for i, n := range layer {
			pos[n] = i
		}
	}
	total := 0
	for _, layer := range order {
		var ends []int // of the edges to the next layer, by where they begin
		for _, n := range layer {
			var to []int
			for _, m := range g.after[n] {
				to = append(to, pos[m])
			}
			slices.Sort(to)
			ends = append(ends, to...)
		}
		for i := range ends {
			for j := i + 1; j < len(ends); j++ {
				if ends[j] < ends[i] {
					total++
				}
			}
		}
	}
	return total
}

// place gives every node its place across its layer: in the order found, near its neighbours, and none over another.
func (g *graph) place() {
	g.at = make([]float64, len(g.layer))
	for _, layer := range g.order {
		at := 0.0
		for _, n := range layer {
			g.at[n] = at + g.size[n]/2
			at += g.size[n] + gap
		}
	}
	for i := range 12 {
		for l := range g.order {
			if i%2 == 1 {
				l = len(g.order) - 1 - l
			}
			g.settle(g.order[l])
		}
	}
	least := 0.0
	for n := range g.at {
		least = min(least, g.at[n]-g.size[n]/2)
	}
	for n := range g.at {
		g.at[n] -= least
	}
}

// settle moves the nodes of a layer as near to the mean of their neighbours as their order and sizes allow.
func (g *graph) settle(layer []int) {
	type block struct {
		sum, weight, offset float64 // the block's first node stands at sum/weight
		nodes               []int
	}
	var blocks []block
	for i, n := range layer {
		want, weight := g.at[n], 0.2
		if near := append(slices.Clone(g.before[n]), g.after[n]...); len(near) > 0 {
			sum := 0.0
			for _, m := range near {
				sum += g.at[m]
			}
			want, weight = sum/float64(len(near)), float64(len(near))
		}
		b := block{want * weight, weight, 0, []int{n}}
		if i > 0 {
			b.offset = g.size[layer[i-1]]/2 + gap + g.size[n]/2
		}
		blocks = append(blocks, b)
		for len(blocks) > 1 {
			last, prev := &blocks[len(blocks)-1], &blocks[len(blocks)-2]
			length := last.offset // from the first node of prev to the first of last
			for k := 1; k < len(prev.nodes); k++ {
				length += g.size[prev.nodes[k-1]]/2 + gap + g.size[prev.nodes[k]]/2
			}
			if last.sum/last.weight >= prev.sum/prev.weight+length {
				break
			}
			prev.sum += last.sum - length*last.weight
			prev.weight += last.weight
			prev.nodes = append(prev.nodes, last.nodes...)
			blocks = blocks[:len(blocks)-1]
		}
	}
	for _, b := range blocks {
		at := b.sum / b.weight
		for k, n := range b.nodes {
			if k > 0 {
				at += g.size[b.nodes[k-1]]/2 + gap + g.size[n]/2
			}
			g.at[n] = at
		}
	}
}

// Package graph writes the topology of a field for programs that draw and examine graphs: DOT and GraphML.
package graph

import (
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

// node and edge are what both forms are written from.
type node struct {
	id, label, what string // what: role, node or zone
	in              string // the zone of a node
	data            map[string]string
}

type edge struct {
	from, to, what, label string // what: calls, knows, after or on
}

// of lists roles with their wires, nodes by zone, and how many of each role a node would hold.
func of(f *field.Field) (nodes []node, edges []edge) {
	for i := range f.Roles {
		r := &f.Roles[i]
		nodes = append(nodes, node{id: "role/" + string(r.Name), label: fmt.Sprintf("%s (%d)", r.Name, r.Members), what: "role",
			data: map[string]string{"kind": string(r.Kind), "members": strconv.Itoa(r.Members), "votes": strconv.FormatBool(r.Votes), "kit": r.Kit}})
		for _, w := range []struct {
			what  string
			wires map[string]field.RoleName
		}{{"calls", r.Calls}, {"knows", r.Knows}} {
			for _, name := range slices.Sorted(maps.Keys(w.wires)) {
				edges = append(edges, edge{"role/" + string(r.Name), "role/" + string(w.wires[name]), w.what, name})
			}
		}
		for _, on := range slices.Sorted(maps.Keys(r.After)) {
			edges = append(edges, edge{"role/" + string(r.Name), "role/" + string(on), "after", string(r.After[on])})
		}
	}
	for i := range f.Nodes {
		n := &f.Nodes[i]
		nodes = append(nodes, node{id: "node/" + string(n.Name), label: string(n.Name), what: "node", in: string(n.Zone),
			data: map[string]string{"zone": string(n.Zone), "cpu": strconv.FormatFloat(n.Size.CPU, 'f', -1, 64), "memory": strconv.FormatInt(int64(n.Size.Memory), 10)}})
	}
	if f.Cycle() != nil {
		return nodes, edges
	}
	type spot struct {
		role field.RoleName
		node field.NodeName
	}
	held := map[spot]int{}
	var order []spot
	for _, a := range plan.Make(f, plan.Live{}).Adds {
		s := spot{a.Role, a.Node}
		if held[s]++; held[s] == 1 {
			order = append(order, s)
		}
	}
	for _, s := range order {
		edges = append(edges, edge{"role/" + string(s.role), "node/" + string(s.node), "on", strconv.Itoa(held[s])})
	}
	return nodes, edges
}

// DOT writes the topology in the DOT language: roles with their wires, nodes boxed by zone, and where members would stand.
func DOT(w io.Writer, f *field.Field) error {
	nodes, edges := of(f)
	var b strings.Builder
	fmt.Fprintf(&b, "digraph %s {\n  rankdir=LR;\n  node [fontname=\"sans-serif\", fontsize=11];\n  edge [fontname=\"sans-serif\", fontsize=9];\n", quote(f.Name))
	for _, n := range nodes {
		if n.what == "role" {
			fmt.Fprintf(&b, "  %s [label=%s, shape=box, style=\"rounded,filled\", fillcolor=\"#ffdc9c\"];\n", quote(n.id), quote(n.label))
		}
	}
	for i, zone := range f.Zones() {
		name := string(zone)
		if name == "" {
			name = "no zone"
		}
		fmt.Fprintf(&b, "  subgraph cluster_%d {\n    label=%s;\n", i, quote(name))
		for _, n := range nodes {
			if n.what == "node" && n.in == string(zone) {
				fmt.Fprintf(&b, "    %s [label=%s, shape=box];\n", quote(n.id), quote(n.label))
			}
		}
		b.WriteString("  }\n")
	}
	style := map[string]string{"calls": "solid", "knows": "dashed", "after": "bold", "on": "dotted"}
	for _, e := range edges {
		label := e.what + " " + e.label
		if e.what == "on" {
			if label = ""; e.label != "1" {
				label = e.label
			}
		}
		fmt.Fprintf(&b, "  %s -> %s [label=%s, style=%s];\n", quote(e.from), quote(e.to), quote(label), style[e.what])
	}
	b.WriteString("}\n")
	_, err := io.WriteString(w, b.String())
	return err
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

type graphML struct {
	XMLName xml.Name `xml:"http://graphml.graphdrafting.org/xmlns graphml"`
	Keys    []mlKey  `xml:"key"`
	Graph   mlGraph  `xml:"graph"`
}

type mlKey struct {
	ID   string `xml:"id,attr"`
	For  string `xml:"for,attr"`
	Name string `xml:"attr.name,attr"`
	Type string `xml:"attr.type,attr"`
}

type mlGraph struct {
	ID      string   `xml:"id,attr"`
	Default string   `xml:"edgedefault,attr"`
	Nodes   []mlNode `xml:"node"`
	Edges   []mlEdge `xml:"edge"`
}

type mlNode struct {
	ID   string   `xml:"id,attr"`
	Data []mlData `xml:"data"`
}

type mlEdge struct {
	ID     string   `xml:"id,attr"`
	Source string   `xml:"source,attr"`
	Target string   `xml:"target,attr"`
	Data   []mlData `xml:"data"`
}

type mlData struct {
	Key   string `xml:"key,attr"`
	Value string `xml:",chardata"`
}

// GraphML writes the topology as GraphML (http://graphml.graphdrafting.org), with what is known of each node and edge as
// attributes.
func GraphML(w io.Writer, f *field.Field) error {
	nodes, edges := of(f)
	g := graphML{Graph: mlGraph{ID: f.Name, Default: "directed"}}
	key := func(of, name, typ string) { g.Keys = append(g.Keys, mlKey{of + "-" + name, of, name, typ}) }
	for _, k := range []string{"label", "what", "zone", "kind", "kit"} {
		key("node", k, "string")
	}
	key("node", "members", "int")
	key("node", "votes", "boolean")
	key("node", "cpu", "double")
	key("node", "memory", "long")
	key("edge", "what", "string")
	key("edge", "label", "string")
	for _, n := range nodes {
		x := mlNode{ID: n.id, Data: []mlData{{"node-label", n.label}, {"node-what", n.what}}}
		for _, k := range slices.Sorted(maps.Keys(n.data)) {
			if n.data[k] != "" {
				x.Data = append(x.Data, mlData{"node-" + k, n.data[k]})
			}
		}
		g.Graph.Nodes = append(g.Graph.Nodes, x)
	}
	for i, e := range edges {
		g.Graph.Edges = append(g.Graph.Edges, mlEdge{fmt.Sprintf("e%d", i), e.from, e.to, []mlData{{"edge-what", e.what}, {"edge-label", e.label}}})
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", "  ")
	if err := enc.Encode(g); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

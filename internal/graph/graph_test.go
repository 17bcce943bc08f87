package graph

import (
	"encoding/xml"
	"strings"
	"testing"

	"lanternfield/internal/fieldfile"
)

func TestTheTopologyIsWrittenForOtherPrograms(t *testing.T) {
	file, err := fieldfile.Load("../../examples/saltmarsh-ferries.field.yaml", "")
	if err != nil {
		t.Fatal(err)
	}
	var dot, ml strings.Builder
	if err := DOT(&dot, file.Field); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`digraph "saltmarsh-ferries" {`, `"role/wardens" [label="wardens (3)"`, `label="north-quay";`, `"role/crews" -> "role/wardens" [label="calls store", style=solid];`,
		`"role/relays" -> "role/wardens" [label="after quorum", style=bold];`, `"role/wardens" -> "node/gull-1" [label="", style=dotted];`} {
		if !strings.Contains(dot.String(), want) {
			t.Errorf("there is no %s in\n%s", want, dot.String())
		}
	}
	if strings.Count(dot.String(), "{") != strings.Count(dot.String(), "}") {
		t.Error("braces do not match")
	}
	if err := GraphML(&ml, file.Field); err != nil {
		t.Fatal(err)
	}
	var back graphML
	if err := xml.Unmarshal([]byte(ml.String()), &back); err != nil {
		t.Fatal(err)
	}
	ids, keys := map[string]bool{}, map[string]bool{}
	for _, k := range back.Keys {
		keys[k.ID] = true
	}
	for _, n := range back.Graph.Nodes {
		ids[n.ID] = true
		for _, d := range n.Data {
			if !keys[d.Key] {
				t.Errorf("%s has data %s, which is declared nowhere", n.ID, d.Key)
			}
		}
	}
	for _, e := range back.Graph.Edges {
		if !ids[e.Source] || !ids[e.Target] {
			t.Errorf("the edge %s leads from %s to %s", e.ID, e.Source, e.Target)
		}
	}
	if len(back.Graph.Nodes) != 14 || len(back.Graph.Edges) < 20 {
		t.Errorf("%d nodes, %d edges", len(back.Graph.Nodes), len(back.Graph.Edges))
	}
	if quote("a\"b\\\n") != `"a\"b\\\n"` {
		t.Errorf("got %s", quote("a\"b\\\n"))
	}
}

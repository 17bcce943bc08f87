package wiring

import (
	"testing"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

func TestRolesStandInTheirStagesWithGatesBetweenThem(t *testing.T) {
	g := Of([]snapshot.RoleView{
		{Role: "wardens", Stage: 1},
		{Role: "lookout", Stage: 1, Knows: []field.RoleName{"relays", "nobody"}},
		{Role: "relays", Stage: 2, Gates: []state.Gate{{On: "wardens", Gate: "quorum", Have: 2, Need: 2, Open: true}}},
		{Role: "crews", Stage: 5, Gates: []state.Gate{{On: "relays", Gate: "first", Need: 1}, {On: "wardens", Gate: "quorum", Have: 2, Need: 2, Open: true}}, Knows: []field.RoleName{"relays"}},
	})
	if len(g.Stages) != 3 || len(g.Stages[0]) != 2 || len(g.Stages[2]) != 1 {
		t.Fatalf("got %v", g.Stages)
	}
	if len(g.Wires) != 4 {
		t.Fatalf("got %+v", g.Wires)
	}
	byEnds := map[string]Wire{}
	for _, w := range g.Wires {
		byEnds[string(w.From)+" "+string(w.To)] = w
	}
	if w := byEnds["relays lookout"]; !w.Back || w.Gate != "" {
		t.Errorf("who is told stands before whom it is told of: %+v", w)
	}
	if w := byEnds["relays crews"]; w.Gate != "first" || w.Open || w.Missing != "0 of 1" || w.Entries != 2 {
		t.Errorf("got %+v", w)
	}
	if w := byEnds["wardens crews"]; !w.Open || w.Entry == byEnds["relays crews"].Entry {
		t.Errorf("two wires end on one spot: %+v", w)
	}
	if empty := Of(nil); len(empty.Stages) != 0 || len(empty.Wires) != 0 {
		t.Errorf("got %+v", empty)
	}
}

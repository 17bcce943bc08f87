package tui

import (
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/tui/sheet"
)

// TestMarkedMachinesAreChangedTogether marks two machines in the view of nodes, and changes what the file says of both; then takes them out.
func TestMarkedMachinesAreChangedTogether(t *testing.T) {
	a := onFile(t)
	m := &preflight.Matrix{}
	for i := range a.draft.Nodes {
		m.Nodes = append(m.Nodes, preflight.Node{Name: a.draft.Nodes[i].Name, Zone: a.draft.Nodes[i].Zone, Cells: map[preflight.Check]preflight.Cell{preflight.Reachable: {Verdict: preflight.Good}}})
	}
	a.takeMachines(machinesMsg{matrix: m})
	a.view = nodesView
	a.machines.Node = "gull-1"
	keys(t, a, "m right right m")
	if text := a.draw().Plain(); !strings.Contains(text, "2 machines marked: c changes all of them") || !strings.Contains(text, "change the 2 that are marked") {
		t.Errorf("they are not marked:\n%s", text)
	}
	keys(t, a, "c")
	row := func(label string) {
		t.Helper()
		if a.sheets.row = slices.IndexFunc(a.rows(), func(r sheet.Row) bool { return r.Label == label }); a.sheets.row < 0 {
			t.Fatalf("no row %q in %+v", label, a.rows())
		}
	}
	row("zone")
	if text := a.draw().Plain(); !strings.Contains(text, "2 nodes") {
		t.Errorf("the sheet:\n%s", text)
	}
	keys(t, a, "enter")
	for _, c := range "tide" {
		keys(t, a, string(c))
	}
	keys(t, a, "enter")
	for name, zone := range map[string]string{"gull-1": "north-quaytide", "gull-2": "north-quay", "gull-3": "north-quaytide", "tern-1": "south-quay"} {
		if n := a.draft.Nodes[slices.IndexFunc(a.draft.Nodes, func(n field.Node) bool { return string(n.Name) == name })]; string(n.Zone) != zone {
			t.Errorf("%s is in %s, want %s:\n%s", name, n.Zone, zone, content(t, a))
		}
	}
	row("take the 2 nodes out of the file")
	keys(t, a, "enter")
	if len(a.draft.Nodes) != 2 {
		t.Errorf("%d nodes are left:\n%s", len(a.draft.Nodes), content(t, a))
	}
	keys(t, a, "esc")
	if a.view != nodesView || len(a.machines.Marked) > 0 {
		t.Errorf("view %s, marked %v", a.view.name, a.machines.Marked)
	}
}

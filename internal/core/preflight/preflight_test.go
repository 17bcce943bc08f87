package preflight

import (
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
)

func TestAMachineIsComparedWithWhatIsDeclared(t *testing.T) {
	m := &machine.Machine{CPUs: 4, Memory: 7900 << 20, Disk: 40 << 30, DiskFree: 10 << 30}
	for name, x := range map[string]struct {
		declared    field.Size
		clock, took time.Duration
		full        bool
		check       Check
		want        Verdict
	}{
		"nothing declared":       {check: Size, want: None},
		"as declared":            {declared: field.Size{CPU: 4, Memory: 8 << 30, Disk: 40 << 30}, check: Size, want: Good}, // the system keeps some for itself
		"less memory":            {declared: field.Size{Memory: 16 << 30}, check: Size, want: Bad},
		"fewer cores":            {declared: field.Size{CPU: 4.5}, check: Size, want: Bad},
		"a smaller disk":         {declared: field.Size{Disk: 50 << 30}, check: Size, want: Bad},
		"the clock is right":     {clock: 900 * time.Millisecond, check: Clock, want: Good},
		"the clock is behind":    {clock: -2 * time.Second, check: Clock, want: Bad},
		"asking took that long":  {clock: -2 * time.Second, took: 3 * time.Second, check: Clock, want: Good},
		"there is room":          {check: Disk, want: Good},
		"there is no room to go": {full: true, check: Disk, want: Bad},
	} {
		n, on := Node{}, *m
		if x.full {
			on.DiskFree = 1 << 20
		}
		n.Judge(&on, x.declared, x.clock, x.took)
		if got := n.Cells[x.check]; got.Verdict != x.want {
			t.Errorf("%s: %s is %s, want %s: %v", name, x.check, got.Verdict, x.want, got.Problems)
		}
	}
}

// TestUnknownIsNeverTakenForWell has a check that could not be made.
func TestUnknownIsNeverTakenForWell(t *testing.T) {
	n := Node{Name: "gull-1"}
	for _, c := range Checks {
		if c != Paths {
			n.Pass(c)
		}
	}
	n.Complete()
	m := Matrix{Nodes: []Node{n}}
	if c, cell := n.Worst(); m.OK() || c != Paths || cell.Verdict != Open || len(m.Failures()) != 0 {
		t.Errorf("%s is %s, all is well: %t", c, cell.Verdict, m.OK())
	}
	n.Fail(Ports, "taken", "end it")
	n.Fail(Ports, "taken too", "end that")
	n.Pass(Ports)
	if cell := n.Cells[Ports]; cell.Verdict != Bad || len(cell.Problems) != 2 || n.Failing() != 2 {
		t.Errorf("what failed has passed: %+v", cell)
	}
}

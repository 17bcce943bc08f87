// Package preflight judges what machines have answered: checks against nodes, with the reason and the remedy for each that fails. It asks nobody itself.
package preflight

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/mending"
)

// Check is one thing that is looked at on every node.
type Check string

// The checks, in the order in which they are made: one that fails leaves those open that need it.
const (
	Reachable Check = "reachable" // something answers at the address
	HostKey   Check = "host key"  // it is the host that it should be
	Login     Check = "login"     // it lets us in, with the rights that are asked for
	Host      Check = "host"      // its system, architecture, address, tools
	Agent     Check = "agent"     // an agent that runs obeys us
	Clock     Check = "clock"
	Size      Check = "size" // it has what the file says it offers
	Disk      Check = "disk"
	Programs  Check = "programs"
	Users     Check = "users"
	Limits    Check = "limits"
	Kernel    Check = "kernel"
	Ports     Check = "ports"
	Paths     Check = "paths" // to those whom its members call
)

// Checks are all of them.
var Checks = []Check{Reachable, HostKey, Login, Host, Agent, Clock, Size, Disk, Programs, Users, Limits, Kernel, Ports, Paths}

// Verdict is what came of a check of one node.
type Verdict string

// What may come of a check.
const (
	Good Verdict = "good"
	Bad  Verdict = "bad"
	Open Verdict = "open" // it could not be looked at
	None Verdict = "none" // nothing of that kind is wanted of the node
)

// Problem is why a check fails, and what to do.
type Problem struct {
	Why string `json:"why"`
	Do  string `json:"do,omitempty"`

	Step *mending.Step `json:"step,omitempty"` // by which it can be mended from here
}

// Cell is a check of one node.
type Cell struct {
	Verdict  Verdict   `json:"verdict"`
	Problems []Problem `json:"problems,omitempty"`
}

// Node is a node with what came of its checks.
type Node struct {
	Name    field.NodeName   `json:"node"`
	Zone    field.ZoneName   `json:"zone"`
	Ground  string           `json:"ground"`
	Address string           `json:"address"`
	Found   *machine.Machine `json:"found,omitempty"`
	Cells   map[Check]Cell   `json:"checks"`
}

// Matrix is the checks of all nodes.
type Matrix struct {
	Nodes []Node        `json:"nodes"`
	Paths int           `json:"paths"` // that were tried
	Took  time.Duration `json:"took"`
}

// OK tells whether nothing fails. What could not be looked at counts as failing: unknown is never taken for well.
func (m *Matrix) OK() bool {
	return !slices.ContainsFunc(m.Nodes, func(n Node) bool { return n.Failing() > 0 })
}

// Failing is how many checks of a node fail or could not be made.
func (n *Node) Failing() (count int) {
	for _, c := range n.Cells {
		if c.Verdict == Bad || c.Verdict == Open {
			count++
		}
	}
	return count
}

// Fail notes that a check fails.
func (n *Node) Fail(c Check, why, do string) {
	cell := n.Cells[c]
	n.set(c, Cell{Bad, append(cell.Problems, Problem{Why: why, Do: do})})
}

// FailMendable notes that a check fails, and what would mend it from here; nil where nothing would.
func (n *Node) FailMendable(c Check, why, do string, step *mending.Step) {
	n.Fail(c, why, do)
	if problems := n.Cells[c].Problems; step != nil {
		problems[len(problems)-1].Step = step
	}
}

// Mendable lists what would mend what fails, for the nodes that are named; for all where none is.
func (m *Matrix) Mendable(only ...field.NodeName) []Mending {
	var out []Mending
	for _, n := range m.Nodes {
		if len(only) > 0 && !slices.Contains(only, n.Name) {
			continue
		}
		var steps []mending.Step
		for _, c := range Checks {
			for _, p := range n.Cells[c].Problems {
				if p.Step != nil {
					steps = append(steps, *p.Step)
				}
			}
		}
		for _, s := range mending.Merge(steps) {
			out = append(out, Mending{n.Name, s})
		}
	}
	return out
}

// Mending is a step that is to be done on a node.
type Mending struct {
	Node field.NodeName `json:"node"`
	mending.Step
}

// Pass notes that a check was made; it stays failed where it has failed.
func (n *Node) Pass(checks ...Check) {
	for _, c := range checks {
		if n.Cells[c].Verdict != Bad {
			n.set(c, Cell{Verdict: Good})
		}
	}
}

// Skip notes that nothing is wanted of the node there.
func (n *Node) Skip(checks ...Check) {
	for _, c := range checks {
		n.set(c, Cell{Verdict: None})
	}
}

func (n *Node) set(c Check, cell Cell) {
	if n.Cells == nil {
		n.Cells = map[Check]Cell{}
	}
	n.Cells[c] = cell
}

// Complete notes of every check that was not made that it is open.
func (n *Node) Complete() {
	for _, c := range Checks {
		if _, made := n.Cells[c]; !made {
			n.set(c, Cell{Verdict: Open})
		}
	}
}

// What a machine's clock may be off, and how much of its memory and disk may be missing of what the file says: systems keep some for themselves.
const (
	MostClock    = time.Second
	tolerated    = 0.93
	leastDisk    = field.Bytes(256 << 20)
	coresMissing = 0.01
)

// Judge compares a machine with what is declared of its node. Clock is by how much its clock is ahead, give or take what the asking took.
func (n *Node) Judge(m *machine.Machine, declared field.Size, clock, took time.Duration) {
	n.Found = m
	if off := clock.Abs(); off > MostClock+took {
		way := "ahead"
		if clock < 0 {
			way = "behind"
		}
		n.Fail(Clock, fmt.Sprintf("its clock is %s %s", off.Round(100*time.Millisecond), way), "have it follow a time server: `timedatectl set-ntp true`, or install chrony")
	}
	n.Pass(Clock)
	if declared == (field.Size{}) {
		n.Skip(Size)
	} else {
		n.judgeSize(m, declared)
	}
	if m.Disk > 0 && m.DiskFree < leastDisk {
		n.Fail(Disk, fmt.Sprintf("%s are free of %s", m.DiskFree, m.Disk), "free some, or say another `folder:`")
	}
	n.Pass(Disk)
}

func (n *Node) judgeSize(m *machine.Machine, declared field.Size) {
	const do = "correct `size:` in the file, or leave it out"
	if declared.CPU > float64(m.CPUs)+coresMissing {
		n.Fail(Size, fmt.Sprintf("the file says %v cores, and it has %d", declared.CPU, m.CPUs), do)
	}
	if float64(declared.Memory)*tolerated > float64(m.Memory) {
		n.Fail(Size, fmt.Sprintf("the file says %s of memory, and it has %s", declared.Memory, m.Memory), do)
	}
	if m.Disk > 0 && float64(declared.Disk)*tolerated > float64(m.Disk) {
		n.Fail(Size, fmt.Sprintf("the file says %s of disk, and it has %s", declared.Disk, m.Disk), do)
	}
	n.Pass(Size)
}

// Failure is one check of one node that fails.
type Failure struct {
	Node  field.NodeName
	Check Check
	Problem
}

// Failures lists what fails, node by node, in the order of the checks.
func (m *Matrix) Failures() []Failure {
	var out []Failure
	for _, n := range m.Nodes {
		for _, c := range Checks {
			for _, p := range n.Cells[c].Problems {
				out = append(out, Failure{n.Name, c, p})
			}
		}
	}
	return out
}

// Worst is the first check of a node that fails or is open, and how it stands.
func (n *Node) Worst() (Check, Cell) {
	for _, want := range []Verdict{Bad, Open} {
		for _, c := range Checks {
			if n.Cells[c].Verdict == want {
				return c, n.Cells[c]
			}
		}
	}
	return "", Cell{Verdict: Good}
}

// ByZone puts the nodes of a zone beside each other; zones and nodes stay in the order of the file.
func ByZone(nodes []Node) []Node {
	var zones []field.ZoneName
	for _, n := range nodes {
		if !slices.Contains(zones, n.Zone) {
			zones = append(zones, n.Zone)
		}
	}
	out := slices.Clone(nodes)
	slices.SortStableFunc(out, func(a, b Node) int { return cmp.Compare(slices.Index(zones, a.Zone), slices.Index(zones, b.Zone)) })
	return out
}

// Count counts the nodes of which something fails, and those of which something could not be looked at and nothing fails.
func (m *Matrix) Count() (failing, unsure int) {
	for i := range m.Nodes {
		switch _, cell := m.Nodes[i].Worst(); cell.Verdict {
		case Bad:
			failing++
		case Open:
			unsure++
		}
	}
	return failing, unsure
}

// Outcome sums it up in words.
func (m *Matrix) Outcome() string {
	failing, unsure := m.Count()
	all := fmt.Sprintf("%d nodes", len(m.Nodes))
	if len(m.Nodes) == 1 {
		all = "1 node"
	}
	switch {
	case failing+unsure == 0:
		return "nothing stands in the way of deploying"
	case failing == 0:
		return fmt.Sprintf("%d of %s could not be looked at wholly", unsure, all)
	case unsure == 0:
		return fmt.Sprintf("%d of %s not ready", failing, all)
	}
	return fmt.Sprintf("%d of %s not ready, and %d could not be looked at wholly", failing, all, unsure)
}

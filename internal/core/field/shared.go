package field

import (
	"slices"
	"strconv"
	"strings"
)

// Others is what other fields keep free for their members on a node that they share.
type Others struct {
	Take   Size     `json:"take,omitzero"`
	Fields []string `json:"fields"` // by name
}

// Kept words an amount that is kept free, e.g. "keeps 1.5 cores and 256 MiB of memory".
func (s Size) Kept() string {
	var parts []string
	if s.CPU > 0 {
		parts = append(parts, strconv.FormatFloat(s.CPU, 'f', -1, 64)+" cores")
	}
	if s.Memory > 0 {
		parts = append(parts, s.Memory.String()+" of memory")
	}
	if s.Disk > 0 {
		parts = append(parts, s.Disk.String()+" of disk")
	}
	if len(parts) == 0 {
		return "keeps nothing"
	}
	if n := len(parts); n > 1 {
		return "keeps " + strings.Join(parts[:n-1], ", ") + " and " + parts[n-1]
	}
	return "keeps " + parts[0]
}

// Surround says of every shared node what other fields keep of it, and forgets what was said before.
func (f *Field) Surround(others map[NodeName]*Others) {
	for _, nodes := range [][]Node{f.Nodes, f.Extras} {
		for i := range nodes {
			nodes[i].Others = nil
			if nodes[i].Shared {
				nodes[i].Others = others[nodes[i].Name]
			}
		}
	}
}

// Shares tells whether some node is shared with other fields.
func (f *Field) Shares() bool {
	return slices.ContainsFunc(f.Possible(), func(n Node) bool { return n.Shared })
}

// Plus adds two amounts.
func (s Size) Plus(t Size) Size {
	return Size{CPU: s.CPU + t.CPU, Memory: s.Memory + t.Memory, Disk: s.Disk + t.Disk}
}

// Offered is what a node has for members: its size without what is reserved for the system, and without what other fields
// keep of it. A dimension of which nothing is said stays zero.
func (n *Node) Offered() Size {
	taken := n.Reserved
	if n.Others != nil {
		taken = taken.Plus(n.Others.Take)
	}
	minus := func(a, b float64) float64 {
		if a == 0 {
			return 0
		}
		return max(a-b, 1e-9) // nothing left is not the same as nothing said
	}
	s := n.Size
	s.CPU = minus(s.CPU, taken.CPU)
	s.Memory = Bytes(minus(float64(s.Memory), float64(taken.Memory)) + 0.5)
	s.Disk = Bytes(minus(float64(s.Disk), float64(taken.Disk)) + 0.5)
	if n.Size.Memory > 0 {
		s.Memory = max(1, s.Memory)
	}
	if n.Size.Disk > 0 {
		s.Disk = max(1, s.Disk)
	}
	return s
}

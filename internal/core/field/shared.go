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

// Around is what is not declared of nodes, and has to be found out.
type Around struct {
	Others map[NodeName]*Others // what other fields keep of shared ones
	Found  map[NodeName]Size    // what machines have
}

// Surround says of every node what was found out, and forgets what was said before.
func (f *Field) Surround(a Around) {
	for _, nodes := range [][]Node{f.Nodes, f.Extras} {
		for i := range nodes {
			n := &nodes[i]
			n.Others, n.Found = nil, Size{}
			if n.Shared {
				n.Others = a.Others[n.Name]
			}
			if f.Machine(n) {
				n.Found = a.Found[n.Name]
			}
		}
	}
}

// Machine tells whether a node is a machine of its own, of which can be found what it has.
func (f *Field) Machine(n *Node) bool {
	kind := f.GroundOf(n)
	return kind == GroundSSH || kind == GroundJoin
}

// Machines tells whether any node is.
func (f *Field) Machines() bool {
	return slices.ContainsFunc(f.Possible(), func(n Node) bool { return f.Machine(&n) })
}

// Has is what a node has: what the file says of it, and what was found where it says nothing.
func (n *Node) Has() Size {
	s := n.Size
	if s.CPU == 0 {
		s.CPU = n.Found.CPU
	}
	if s.Memory == 0 {
		s.Memory = n.Found.Memory
	}
	if s.Disk == 0 {
		s.Disk = n.Found.Disk
	}
	return s
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
// keep of it. A dimension of which nothing is known stays zero.
func (n *Node) Offered() Size { return n.offered(n.Has()) }

// Said is Offered, of what the file says alone: settings follow from it, so that they do not change because somebody has looked at a machine.
func (n *Node) Said() Size { return n.offered(n.Size) }

func (n *Node) offered(size Size) Size {
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
	s := size
	s.CPU = minus(s.CPU, taken.CPU)
	s.Memory = Bytes(minus(float64(s.Memory), float64(taken.Memory)) + 0.5)
	s.Disk = Bytes(minus(float64(s.Disk), float64(taken.Disk)) + 0.5)
	if size.Memory > 0 {
		s.Memory = max(1, s.Memory)
	}
	if size.Disk > 0 {
		s.Disk = max(1, s.Disk)
	}
	return s
}

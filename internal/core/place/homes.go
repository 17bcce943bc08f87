package place

import (
	"container/heap"

	"lanternfield/internal/core/field"
)

// homes hands out the best node for one more of a role, again and again, in logarithmic time. It rests on this: what
// makes a node refuse one of the role makes it refuse all further ones.
type homes struct {
	site  *Site
	role  *roleSite
	zones []zoneHeap
}

type zoneHeap struct {
	zone  int // or -1, where zones do not matter
	count int
	keys  []uint64 // a heap; the node is in the low bits
}

const nodeBits = 1<<22 - 1

func (s *Site) homes(r *roleSite) *homes {
	h := &homes{site: s, role: r}
	apart := r.role.Spread == field.SpreadZone
	per := make([]zoneHeap, 1)
	per[0].zone = -1
	if apart {
		per = make([]zoneHeap, len(s.zones))
		for z := range per {
			per[z] = zoneHeap{zone: z, count: r.perZone[z], keys: make([]uint64, 0, len(s.nodes)/len(per)+1)}
		}
	} else {
		per[0].keys = make([]uint64, 0, len(s.nodes))
	}
	for i := range s.nodes {
		if s.refuses(r, i) != 0 {
			continue
		}
		z := &per[0]
		if apart {
			z = &per[s.nodes[i].zone]
		}
		z.keys = append(z.keys, s.key(r, i))
	}
	for _, z := range per {
		if len(z.keys) > 0 {
			z.build()
			h.zones = append(h.zones, z)
		}
	}
	heap.Init(h)
	return h
}

// best gives the best node, or nowhere.
func (h *homes) best() int {
	if len(h.zones) == 0 {
		return nowhere
	}
	return int(h.zones[0].keys[0] & nodeBits)
}

// taken says that the best node has got the member.
func (h *homes) taken() {
	z := &h.zones[0]
	node := int(z.keys[0] & nodeBits)
	z.count++
	if h.site.refuses(h.role, node) != 0 {
		z.keys[0] = z.keys[len(z.keys)-1]
		z.keys = z.keys[:len(z.keys)-1]
	} else {
		z.keys[0] = h.site.key(h.role, node)
	}
	z.down(0)
	if each := h.role.role.Each.Zone; each > 0 { // all nodes of a full zone refuse
		for len(z.keys) > 0 && h.site.refuses(h.role, int(z.keys[0]&nodeBits)) != 0 {
			z.keys[0] = z.keys[len(z.keys)-1]
			z.keys = z.keys[:len(z.keys)-1]
			z.down(0)
		}
	}
	if len(z.keys) == 0 {
		heap.Pop(h)
		return
	}
	heap.Fix(h, 0)
}

func (z *zoneHeap) build() {
	for i := len(z.keys)/2 - 1; i >= 0; i-- {
		z.down(i)
	}
}

func (z *zoneHeap) down(i int) {
	for {
		least := i
		if l := 2*i + 1; l < len(z.keys) && z.keys[l] < z.keys[least] {
			least = l
		}
		if r := 2*i + 2; r < len(z.keys) && z.keys[r] < z.keys[least] {
			least = r
		}
		if least == i {
			return
		}
		z.keys[i], z.keys[least] = z.keys[least], z.keys[i]
		i = least
	}
}

// Len, Less, Swap, Push and Pop make the zones a heap.
func (h *homes) Len() int { return len(h.zones) }

// Less puts the zone with the fewest of the role first, then the one with the best node.
func (h *homes) Less(i, j int) bool {
	a, b := &h.zones[i], &h.zones[j]
	if a.count != b.count {
		return a.count < b.count
	}
	return a.keys[0] < b.keys[0]
}

// Swap exchanges two zones.
func (h *homes) Swap(i, j int) { h.zones[i], h.zones[j] = h.zones[j], h.zones[i] }

// Push is never called: no zone comes back.
func (h *homes) Push(any) {}

// Pop takes the last zone off.
func (h *homes) Pop() any {
	z := h.zones[len(h.zones)-1]
	h.zones = h.zones[:len(h.zones)-1]
	return z
}

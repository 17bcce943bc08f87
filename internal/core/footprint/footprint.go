// Package footprint adds up what the members of a field take: processors, memory, disk, licensed cores, money.
package footprint

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

// Footprint is what members take together.
type Footprint struct {
	Members  int              `json:"members"`
	Nodes    int              `json:"nodes"` // that hold any
	Room     field.Size       `json:"room"`  // kept free for them; disk with their data
	Most     field.Size       `json:"most"`  // that they may take: the ceiling, where there is one, else the room
	Licensed map[string]Cores `json:"licensed,omitempty"`
	Price    float64          `json:"price,omitempty"` // per hour, of the nodes that hold any
}

// Cores counts the cores of programs whose licence counts them.
type Cores struct {
	Room float64 `json:"room"`
	Most float64 `json:"most"`
}

// Of adds up the members of a field where they stand.
func Of(f *field.Field, members []place.Member) Footprint {
	out := Footprint{Members: len(members)}
	roles := map[field.RoleName]*field.Role{}
	for i := range f.Roles {
		roles[f.Roles[i].Name] = &f.Roles[i]
	}
	busy := map[field.NodeName]bool{}
	for _, m := range members {
		busy[m.Node] = true
		r := roles[m.Role]
		if r == nil {
			continue
		}
		room := r.Taken()
		most := field.Size{CPU: max(r.Ceiling.CPU, room.CPU), Memory: max(r.Ceiling.Memory, room.Memory), Disk: max(r.Ceiling.Disk, room.Disk)}
		out.Room, out.Most = sum(out.Room, room), sum(out.Most, most)
		if r.Licensed != "" {
			if out.Licensed == nil {
				out.Licensed = map[string]Cores{}
			}
			c := out.Licensed[r.Licensed]
			out.Licensed[r.Licensed] = Cores{c.Room + room.CPU, c.Most + most.CPU}
		}
	}
	for i := range f.Nodes {
		if n := &f.Nodes[i]; busy[n.Name] {
			out.Nodes++
			out.Price += n.Price
		}
	}
	return out
}

func sum(a, b field.Size) field.Size {
	return field.Size{CPU: a.CPU + b.CPU, Memory: a.Memory + b.Memory, Disk: a.Disk + b.Disk}
}

func cores(n float64) string { return strconv.FormatFloat(float64(int(n*100+0.5))/100, 'f', -1, 64) }

// Lines says it for people, a line for each thing of which there is any.
func (p Footprint) Lines() [][2]string {
	lines := [][2]string{{"members", fmt.Sprintf("%d on %d %s", p.Members, p.Nodes, map[bool]string{true: "node", false: "nodes"}[p.Nodes == 1])}}
	two := func(what, room, most string) {
		text := room
		if most != room {
			text += ", at most " + most
		}
		lines = append(lines, [2]string{what, text})
	}
	if p.Most.CPU > 0 {
		two("cpu", cores(p.Room.CPU)+" cores", cores(p.Most.CPU)+" cores")
	}
	if p.Most.Memory > 0 {
		two("memory", p.Room.Memory.String(), p.Most.Memory.String())
	}
	if p.Most.Disk > 0 {
		two("disk", p.Room.Disk.String(), p.Most.Disk.String())
	}
	for _, licence := range slices.Sorted(maps.Keys(p.Licensed)) {
		two(licence, cores(p.Licensed[licence].Room)+" licensed cores", cores(p.Licensed[licence].Most)+" licensed cores")
	}
	if p.Price > 0 {
		lines = append(lines, [2]string{"price", fmt.Sprintf("%.4g an hour", p.Price)})
	}
	return lines
}

// String says it in one line.
func (p Footprint) String() string {
	var parts []string
	for _, l := range p.Lines() {
		if l[0] == "members" || l[0] == "price" {
			parts = append(parts, l[1])
			continue
		}
		parts = append(parts, l[0]+" "+l[1])
	}
	return strings.Join(parts, " · ")
}

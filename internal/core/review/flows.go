package review

import (
	"cmp"
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// Flow is what passes over the network by a draft: who connects to whom, at which port.
type Flow struct {
	From field.RoleName `json:"from"` // empty for clients
	To   field.RoleName `json:"to"`
	Port string         `json:"port"`
	// Why a flow of clients is there: the entry's port that leads somewhere, or the port at which clients get in.
	Purpose string `json:"purpose,omitempty"`
	Paths   []Path `json:"paths"` // each connection from machine to machine; those of clients come from anywhere, so that From is empty
}

// Numbers are the numbers of the port, each once.
func (f Flow) Numbers() []int {
	seen := map[int]bool{}
	for _, p := range f.Paths {
		seen[p.At.Port] = true
	}
	return slices.Sorted(maps.Keys(seen))
}

// FlowsOf lists what passes between machines: from role to role, as their members' own configurations name it, and from clients to those roles that have a
// way in. Members of one machine reach each other without the network.
func FlowsOf(s *state.State, draft *field.Field) ([]Flow, error) {
	needs, err := NeedsOf(s, draft)
	if err != nil {
		return nil, err
	}
	type key struct {
		from, to field.RoleName
		port     string
	}
	by := map[key]*Flow{}
	add := func(from, to field.RoleName, port, purpose string, p Path) {
		k := key{from, to, port}
		if by[k] == nil {
			by[k] = &Flow{From: from, To: to, Port: port, Purpose: purpose}
		}
		by[k].Paths = append(by[k].Paths, p)
	}
	for _, p := range needs.Paths {
		add(p.Roles[0], p.Roles[1], p.Port, "", p)
	}
	for _, in := range needs.Ways {
		add("", in.Roles[1], in.Port, in.Purpose, in.Path)
	}
	return slices.SortedFunc(func(yield func(Flow) bool) {
		for _, f := range by {
			slices.SortFunc(f.Paths, func(a, b Path) int {
				return cmp.Or(cmp.Compare(a.To, b.To), cmp.Compare(a.At.Port, b.At.Port), cmp.Compare(a.From, b.From))
			})
			if !yield(*f) {
				return
			}
		}
	}, func(a, b Flow) int {
		return cmp.Or(cmp.Compare(a.To, b.To), cmp.Compare(a.Port, b.Port), cmp.Compare(a.From, b.From))
	}), nil
}

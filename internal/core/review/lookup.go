package review

import (
	"fmt"
	"maps"
	"reflect"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/state"
)

// Lookups lists what nodes must have for a draft to be carried out there: the programs of members that come, and of those
// whose program the draft changes. It is asked before anything is touched: there of the nodes' agents, and soon of who will give those that
// are not there yet.
func Lookups(s *state.State, draft *field.Field) (there, soon map[field.NodeName][]order.Lookup, err error) {
	resolved := resolve.Of(s, draft)
	p := resolved.Plan
	draft = resolved.Field
	scene := finalSceneOf(s, draft, p)
	there, soon = map[field.NodeName][]order.Lookup{}, map[field.NodeName][]order.Lookup{}
	seen := map[string]bool{}
	look := func(name field.MemberName, node field.NodeName, before *order.Spec) error {
		out := there
		if n := s.Nodes[node]; n == nil || n.Released || !n.There() {
			out = soon
		} else if n.Unreachable {
			return nil
		}
		l, err := scene.Lookup(name)
		if err != nil || l.Program == "" {
			return err
		}
		if before != nil && len(before.Command) > 0 && before.Command[0] == l.Program && slices.Equal(before.LookIn, l.LookIn) && before.User == l.User && before.IfRoot == l.IfRoot && before.Limits == l.Limits && maps.Equal(before.Kernel, l.Kernel) && before.Version == l.Version && reflect.DeepEqual(before.Tells, l.Tells) {
			return nil
		}
		if key := fmt.Sprint(node, l.Program, l.LookIn, l.User, l.Limits, l.Kernel, l.Version, l.Tells); !seen[key] {
			seen[key] = true
			out[node] = append(out[node], l)
		}
		return nil
	}
	for _, a := range p.Adds {
		if err := look(a.Name, a.Node, nil); err != nil {
			return nil, nil, err
		}
	}
	for _, m := range state.SortedMembers(s) {
		leaves := slices.ContainsFunc(p.Removes, func(x plan.Remove) bool { return x.Member == m.Name })
		if m.Phase == state.Gone || m.Leaving || leaves || m.Ordered.Spec == nil {
			continue
		}
		if err := look(m.Name, m.Node, m.Runs()); err != nil {
			return nil, nil, err
		}
	}
	return there, soon, nil
}

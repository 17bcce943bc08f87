package sheet

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// OfNodes lists what can be said of several nodes at once: what is changed is changed for each of them.
func OfNodes(f *field.Field, nodes []*field.Node) []Row {
	if len(nodes) == 0 {
		return nil
	}
	var out []Row
	group := ""
	for _, r := range OfNode(f, nodes[0], string(nodes[0].Name)) {
		if r.Group != "" {
			group = r.Group
		}
		if r.Kind == Rename || r.Kind == Told || r.Label == "host" || strings.HasPrefix(r.Label, "address") { // no two have the same
			continue
		}
		if r.Group = group; r.Kind == Drop {
			r.Label = fmt.Sprintf("take the %d nodes out of the file", len(nodes))
		}
		if r.over(f, nodes[1:]) {
			group = ""
			out = append(out, r)
		}
	}
	if len(out) > 0 {
		out[0].Group = "each of the nodes"
	}
	return out
}

// over has a row be about other nodes too; it tells whether all of them have it.
func (r *Row) over(f *field.Field, others []*field.Node) bool {
	values := []string{r.Value}
	for _, n := range others {
		rows := OfNode(f, n, string(n.Name))
		i := slices.IndexFunc(rows, func(o Row) bool { return o.Kind == r.Kind && (o.Label == r.Label || o.Kind == Drop) })
		if i < 0 {
			return false
		}
		r.Also = append(r.Also, rows[i].Path)
		values = append(values, rows[i].Value)
	}
	if slices.Sort(values); values[0] != values[len(values)-1] {
		r.Value, r.Note = "", "they differ: "+strings.Join(slices.Compact(values), ", ")
	}
	return true
}

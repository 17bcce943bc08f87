package fieldfile

import (
	"fmt"

	"lanternfield/internal/core/field"
)

// addressesOf expands the addresses that an entry gives its nodes, and notes what is wrong with them: for a range of nodes
// each is a range of the same length. What it gives sets those of the node at a place of the range; nil where there are none.
func (f *File) addressesOf(entry *node, n field.Node, names []string) func(at int, n *field.Node) {
	if n.Address == "" && len(n.Addresses) == 0 {
		return nil
	}
	expand := func(text string, said *node) []string {
		list, err := field.ExpandRange(text)
		if err == nil && len(list) != len(names) {
			err = fmt.Errorf("%s is for %d, and the entry is %d %s: each needs an address of its own", text, len(list), len(names), plural(len(names), "node", "nodes"))
		}
		if err != nil {
			f.doc.errs = append(f.doc.errs, f.doc.at(said, false, err.Error(), "for a range of nodes write a range, such as 127.10.0.{1..3}"))
			return nil
		}
		return list
	}
	var main []string
	if n.Address != "" {
		main = expand(n.Address, entry.get("address"))
	}
	others := map[string][]string{}
	for network, text := range n.Addresses {
		others[network] = expand(text, entry.get("addresses").get(network))
	}
	return func(at int, n *field.Node) {
		if at < len(main) {
			n.Address = main[at]
		}
		if len(others) > 0 {
			n.Addresses = make(map[string]string, len(others))
		}
		for network, list := range others {
			if at < len(list) {
				n.Addresses[network] = list[at]
			}
		}
	}
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

package fieldfile

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
)

// swap is one place of the file that is written anew.
type swap struct {
	from, to int
	with     string
}

// Rename gives the file's bytes with a role, node or zone named otherwise, and everything that refers to it following.
func (f *File) Rename(r arrange.Rename) ([]byte, error) {
	if r.From == r.To {
		return nil, fmt.Errorf("it is named %s already", r.To)
	}
	if err := f.nameIsFree(r); err != nil {
		return nil, err
	}
	var swaps []swap
	var err error
	switch r.What {
	case arrange.ARole:
		swaps, err = f.renameRole(r.From, r.To)
	case arrange.ANode:
		swaps, err = f.renameNode(r.From, r.To)
	case arrange.AZone:
		swaps = f.renameZone(r.From, r.To)
	}
	if err != nil {
		return nil, err
	}
	if len(swaps) == 0 {
		return nil, fmt.Errorf("the file has no %s %s", r.What, r.From)
	}
	slices.SortFunc(swaps, func(a, b swap) int { return cmp.Compare(b.from, a.from) })
	data := slices.Clone(f.Bytes)
	for _, s := range swaps {
		data = slices.Replace(data, s.from, s.to, []byte(s.with)...)
	}
	if _, err := f.With(data); err != nil {
		return nil, err
	}
	return data, nil
}

// nameIsFree says why a thing cannot have another name: it is none, or somebody has it.
func (f *File) nameIsFree(r arrange.Rename) error {
	names, err := []string{r.To}, error(nil)
	if r.What == arrange.ANode {
		if names, err = field.ExpandRange(r.To); err != nil {
			return err
		}
	}
	olds, _ := field.ExpandRange(r.From)
	for _, name := range names {
		taken := false
		switch r.What {
		case arrange.ARole:
			taken = f.Field.Role(field.RoleName(name)) != nil
		case arrange.ANode:
			taken = f.Field.Node(field.NodeName(name)) != nil && !slices.Contains(olds, name)
		case arrange.AZone:
			taken = slices.Contains(f.Field.Zones(), field.ZoneName(name))
		}
		switch {
		case !field.NamePattern.MatchString(name):
			return fmt.Errorf("%q cannot be a %s's name; %s. Nothing was changed", name, r.What, field.NameRule)
		case taken:
			return fmt.Errorf("there is a %s %s already, so %s cannot be named so; nothing was changed", r.What, name, r.From)
		}
	}
	return nil
}

// ofValue and ofKey write a value, or the key before it, anew; quotes stay.
func (f *File) ofValue(n *node, from, to string) []swap {
	if word, ok := n.text(); !ok || word != from || n.line == 0 {
		return nil
	}
	at := f.at(n)
	return f.within(at, at+n.width, from, to)
}

func (f *File) ofKey(n *node, from, to string) []swap {
	if n == nil {
		return nil
	}
	at := f.keyAt(n)
	return f.within(at, at+n.keyWidth+2, from, to)
}

func (f *File) within(at, end int, from, to string) []swap {
	i := strings.Index(string(f.Bytes[at:min(end, len(f.Bytes))]), from)
	if i < 0 {
		return nil
	}
	return []swap{{at + i, at + i + len(from), to}}
}

func (f *File) renameRole(from, to string) ([]swap, error) {
	roles, root := f.doc.root.get("roles"), f.doc.root
	if roles.get(from) == nil {
		return nil, fmt.Errorf("the file has no role %s", from)
	}
	swaps := f.ofKey(roles.get(from), from, to)
	for _, name := range roles.keys {
		role := roles.values[name]
		swaps = append(swaps, f.ofKey(role.get("after").get(from), from, to)...)
		for _, key := range []string{"calls", "knows"} {
			if wires := role.get(key); wires != nil {
				for _, k := range wires.keys {
					swaps = append(swaps, f.ofValue(wires.values[k], from, to)...)
				}
			}
		}
		for _, key := range []string{"beside", "apart"} {
			if list := role.get(key); list != nil {
				for _, item := range list.list {
					swaps = append(swaps, f.ofValue(item, from, to)...)
				}
			}
		}
		swaps = append(swaps, f.ofValue(role.get("members").get("beside"), from, to)...)
	}
	if own := roles.get(from).get("settings_of"); own != nil {
		for _, member := range own.keys {
			swaps = append(swaps, f.ofKey(own.values[member], member, to+strings.TrimPrefix(member, from))...)
		}
	}
	swaps = append(swaps, f.ofKey(root.get("place").get(from), from, to)...)
	if accepted := root.get("accepted"); accepted != nil {
		for _, a := range accepted.list {
			swaps = append(swaps, f.ofValue(a.get("role"), from, to)...)
		}
	}
	return swaps, nil
}

func (f *File) renameNode(from, to string) ([]swap, error) {
	i, err := f.nodeEntry(from)
	switch {
	case err != nil:
		return nil, err
	case i < 0:
		return nil, fmt.Errorf("%s is one of a range; rename the range", from)
	}
	entry := f.doc.root.get("nodes").list[i]
	word, _ := entry.get("name").text()
	olds, err := namesOf(entry)
	if err != nil {
		return nil, err
	}
	news, err := field.ExpandRange(to)
	if err != nil {
		return nil, err
	}
	if entry.get("set") != nil && len(news) == 1 {
		for i := range olds {
			news = append(news[:i], fmt.Sprintf("%s-%d", to, i+1))
		}
	}
	if len(news) != len(olds) {
		return nil, fmt.Errorf("%s is %d nodes, and %s is %d; a range keeps its length when it is renamed", word, len(olds), to, len(news))
	}
	swaps := f.ofValue(entry.get("name"), word, to)
	for i, old := range olds {
		if place := f.doc.root.get("place"); place != nil {
			for _, role := range place.keys {
				for _, item := range place.values[role].list {
					swaps = append(swaps, f.ofValue(item, old, news[i])...)
				}
			}
		}
		swaps = append(swaps, f.quoted("name", old, news[i])...)
	}
	return swaps, nil
}

func (f *File) renameZone(from, to string) []swap {
	var swaps []swap
	for _, entry := range f.doc.root.get("nodes").list {
		swaps = append(swaps, f.ofValue(entry.get("zone"), from, to)...)
		if zones := entry.get("zones"); zones != nil {
			for _, z := range zones.list {
				swaps = append(swaps, f.ofValue(z, from, to)...)
			}
		}
	}
	swaps = append(swaps, f.ofKey(f.doc.root.get("zones").get(from), from, to)...)
	return append(swaps, f.quoted("zone", from, to)...)
}

// quoted finds a name in the `where` expressions that ask for it.
func (f *File) quoted(word, from, to string) []swap {
	var swaps []swap
	asks := regexp.MustCompile(`(^|[^.\w])` + word + `\b`)
	roles := f.doc.root.get("roles")
	for _, name := range roles.keys {
		n := roles.values[name].get("where")
		where, ok := n.text()
		if !ok || !asks.MatchString(where) {
			continue
		}
		at := f.at(n)
		text := string(f.Bytes[at:f.endOf(at, false)])
		for _, quote := range []string{`"`, `'`} {
			for i := 0; ; {
				j := strings.Index(text[i:], quote+from+quote)
				if j < 0 {
					break
				}
				swaps = append(swaps, swap{at + i + j + 1, at + i + j + 1 + len(from), to})
				i += j + len(from) + 2
			}
		}
	}
	return swaps
}

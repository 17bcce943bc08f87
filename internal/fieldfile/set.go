package fieldfile

import (
	"fmt"
	"strconv"

	"lanternfield/internal/core/field"
)

// nodeSet is what an entry of nodes says that are made as members want them.
type nodeSet struct {
	name        string
	Least, Most int
	zones       []field.ZoneName // of its nodes, in turn
}

// setOf reads the set of an entry and notes what is wrong with it; nil where it is none.
func (f *File) setOf(entry *node) *nodeSet {
	said, zones := entry.get("set"), entry.get("zones")
	note := func(at *node, key bool, hint, text string, args ...any) {
		f.doc.errs = append(f.doc.errs, f.doc.at(at, key, fmt.Sprintf(text, args...), hint))
	}
	if said == nil {
		if zones != nil {
			note(zones, true, "say zone, or make it a set with  set: {most: 6}", "zones are for sets of nodes, and this entry is none")
		}
		return nil
	}
	s := &nodeSet{Least: said.get("least").number(), Most: said.get("most").number()}
	s.name, _ = entry.get("name").text()
	if s.Least > s.Most {
		note(said.get("least"), false, "", "the set %s has %d nodes at the least and %d at the most", s.name, s.Least, s.Most)
	}
	if zones != nil {
		if zone := entry.get("zone"); zone != nil {
			note(zone, true, "say one of them", "the set %s has both zone and zones", s.name)
		}
		for _, z := range zones.list {
			word, _ := z.text()
			s.zones = append(s.zones, field.ZoneName(word))
		}
	}
	return s
}

// namesOf gives the names of the nodes that an entry stands for.
func namesOf(entry *node) ([]string, error) {
	word, _ := entry.get("name").text()
	set := entry.get("set")
	if set == nil {
		return field.ExpandRange(word)
	}
	if names, err := field.ExpandRange(word); err != nil || len(names) > 1 || names[0] != word {
		return nil, fmt.Errorf("%q is a range and a set: a set gives its nodes their numbers itself; name it without a range", word)
	}
	most := set.get("most").number()
	names := make([]string, 0, min(most, field.MostNodes))
	for i := range min(most, field.MostNodes+1) {
		names = append(names, word+"-"+strconv.Itoa(i+1))
	}
	return names, nil
}

// number is a whole number that the schema has passed; 0 where nothing is said.
func (n *node) number() int {
	if n == nil {
		return 0
	}
	i, _ := strconv.Atoi(fmt.Sprint(n.scalar))
	return i
}

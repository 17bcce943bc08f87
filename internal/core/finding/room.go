package finding

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
)

func unplaced(d *draft) []Finding {
	var found []Finding
	all := d.plan.Unplaced
	for from := 0; from < len(all); {
		to := from + 1
		for to < len(all) && all[to].Role == all[from].Role && all[to].Why == all[from].Why {
			to++
		}
		u, what, text := all[from], "over capacity", fmt.Sprintf("%s fits nowhere: %s", all[from].Member, all[from].Why)
		if to-from > 1 {
			text = fmt.Sprintf("%s to %s, %d members, fit nowhere: %s", u.Member, all[to-1].Member, to-from, u.Why)
		}
		if strings.Contains(u.Why, "port taken") && !strings.Contains(u.Why, "too little") {
			what = "port clash"
		}
		if len(u.Conflict) > 1 {
			text += ". No node meets all of these: " + strings.Join(u.Conflict, "; ")
		}
		more, full := d.larger(u.Role, to-from)
		text += d.sharing()
		mend := mendUnplaced(what, d.Role(u.Role))
		if full != "" {
			text += ". " + full
			mend = "let the set have more nodes (most), " + mend
		}
		found = append(found, Finding{Severity: Error, What: what, Path: rolePath(u.Role), Role: u.Role, Text: text, Mend: mend,
			Edits: slices.Concat(more, d.freed(u, to-from), d.fewer(u.Role))})
		from = to
	}
	return found
}

// freed is the edits that make room for members that fit nowhere.
func (d *draft) freed(u place.Unplaced, members int) []Edit {
	r := d.Role(u.Role)
	var edits []Edit
	seen := map[string]bool{}
	for _, free := range u.Frees {
		var puts []arrange.Put
		var texts []string
		for _, c := range free.Drops {
			value, text, path := "", "", []string(nil)
			switch c {
			case place.ByOut:
				edits = append(edits, put(fmt.Sprintf("bring %s back", free.Node), arrange.At("", "nodes", string(free.Node), "out")))
			case place.ByWhere:
				path, text = []string{"where"}, "let "+string(u.Role)+" stand anywhere (take out where)"
			case place.ByApart:
				if len(r.Apart) > 0 {
					path, text = []string{"apart"}, "let "+string(u.Role)+" share nodes"
				}
			case place.ByBeside:
				if len(r.Beside) > 0 {
					path, text = []string{"beside"}, "let "+string(u.Role)+" stand alone"
				}
			case place.ByPin:
				if c := arrange.Of(d.Field, u.Role); len(c.Pins) > 0 {
					c.Pins = nil
					edits = append(edits, Edit{Text: fmt.Sprintf("take the pins off %s", u.Role), Change: &c})
				}
			case place.ByCPU, place.ByMemory:
				path, value, text = d.lowered(r, c)
			}
			if path == nil {
				puts = nil
				break
			}
			puts, texts = append(puts, arrange.OfRole(u.Role, value, path...)), append(texts, text)
		}
		if text := strings.Join(texts, ", and "); len(puts) == len(free.Drops) && len(puts) > 0 && !seen[text] {
			seen[text] = true
			edits = append(edits, put(text, puts...))
		}
	}
	return slices.DeleteFunc(edits, func(e Edit) bool { return !d.frees(e, u.Role) })
}

// lowered keeps less room for each member of a role, so that all of them fit as evenly as they are many.
func (d *draft) lowered(r *field.Role, c place.Constraint) (path []string, value, text string) {
	nodes := d.site.Eligible(r)
	if len(nodes) == 0 {
		return nil, "", ""
	}
	each := (r.Members + len(nodes) - 1) / len(nodes) // on one node
	least := field.Size{CPU: r.Room.CPU, Memory: r.Room.Memory}
	uses := d.site.Uses()
	here := map[field.NodeName]int{}
	for _, a := range d.plan.Adds {
		if a.Role == r.Name {
			here[a.Node]++
		}
	}
	for _, n := range nodes {
		u := uses[n.Name]
		if u.Offered.CPU > 0 {
			least.CPU = min(least.CPU, (u.Offered.CPU-u.Used.CPU+float64(here[n.Name])*r.Room.CPU)/float64(each))
		}
		if u.Offered.Memory > 0 {
			least.Memory = min(least.Memory, (u.Offered.Memory-u.Used.Memory+field.Bytes(here[n.Name])*r.Room.Memory)/field.Bytes(each))
		}
	}
	switch mib := least.Memory >> 20; {
	case c == place.ByCPU && least.CPU >= 0.01:
		cpu := strconv.FormatFloat(math.Floor(least.CPU*100)/100, 'f', -1, 64)
		return []string{"room", "cpu"}, cpu, fmt.Sprintf("keep %s cores for each of %s, which all nodes have", cpu, r.Name)
	case c == place.ByMemory && mib > 0:
		return []string{"room", "memory"}, fmt.Sprintf("%dMiB", mib), fmt.Sprintf("keep %d MiB for each of %s, which all nodes have", mib, r.Name)
	}
	return nil, "", ""
}

// sharing names the other fields that keep something of the nodes; empty where there are none.
func (d *draft) sharing() string {
	var fields []string
	nodes := 0
	for i := range d.Nodes {
		if o := d.Nodes[i].Others; o != nil {
			nodes++
			for _, f := range o.Fields {
				if !slices.Contains(fields, f) {
					fields = append(fields, f)
				}
			}
		}
	}
	if nodes == 0 {
		return ""
	}
	slices.Sort(fields)
	return fmt.Sprintf(". Members of %s keep a part of %d of these nodes", strings.Join(fields, ", "), nodes)
}

// larger is the edits that let a set have the nodes which members of a role want, and a sentence about sets that have all
// of theirs.
func (d *draft) larger(role field.RoleName, members int) (edits []Edit, full string) {
	sets := d.Sets()
	for _, name := range slices.Sorted(maps.Keys(sets)) {
		count := sets[name]
		if count.There < count.Most {
			continue // it could have more already, and they would not help
		}
		if full = fmt.Sprintf("All %d nodes of the set %s are there", count.Most, name); count.Most == 1 {
			full = fmt.Sprintf("The only node of the set %s is there", name)
		}
		if len(d.plan.Adds) > mostEnlarged {
			continue
		}
		placed := func(more int) bool {
			f := plan.Grow(d.enlarged(name, more), plan.Live{})
			return !slices.ContainsFunc(plan.Make(f, plan.Live{}).Unplaced, func(u place.Unplaced) bool { return u.Role == role })
		}
		if more := 1 + sort.Search(members, func(n int) bool { return placed(1 + n) }); more <= members {
			edits = append(edits, put(fmt.Sprintf("let the set %s have up to %d nodes", name, count.Most+more),
				arrange.At(strconv.Itoa(count.Most+more), "nodes", name, "set", "most")))
		}
	}
	return edits, full
}

// enlarged is the field with more extra nodes in a set, made as the others are.
func (d *draft) enlarged(set string, more int) *field.Field {
	f := *d.Field
	f.Extras = slices.Clone(f.Extras)
	var of []field.Node
	for _, n := range d.Possible() {
		if n.Set == set {
			of = append(of, n)
		}
	}
	var zones []field.ZoneName // of one turn
	for _, n := range of {
		if slices.Contains(zones, n.Zone) {
			break
		}
		zones = append(zones, n.Zone)
	}
	for i := range more {
		n := of[0]
		number := len(of) + i
		n.Name, n.Zone, n.Extra = field.NodeName(fmt.Sprintf("%s-%d", set, number+1)), zones[number%len(zones)], true
		f.Extras = append(f.Extras, n)
	}
	return &f
}

// frees tells whether an edit that is known as values would place all of a role.
func (d *draft) frees(e Edit, role field.RoleName) bool {
	f := *d.Field
	f.Roles, f.Nodes = slices.Clone(f.Roles), slices.Clone(f.Nodes)
	if e.Change != nil {
		f = *e.Change.On(&f)
	}
	r := f.Role(role)
	for _, p := range e.Puts {
		switch p.Path[len(p.Path)-1] {
		case "out":
			f.Node(field.NodeName(p.Path[1])).Out = ""
		case "where":
			r.Where = ""
		case "apart":
			r.Apart = nil
		case "beside":
			r.Beside = nil
		case "cpu":
			r.Room.CPU, _ = strconv.ParseFloat(p.Value, 64)
		case "memory":
			r.Room.Memory, _ = field.ParseBytes(p.Value)
		}
	}
	field.Resolve(&f)
	return !slices.ContainsFunc(plan.Make(&f, plan.Live{}).Unplaced, func(u place.Unplaced) bool { return u.Role == role })
}

// fewer is the edit by which a role has as many members as fit.
func (d *draft) fewer(role field.RoleName) []Edit {
	fit := 0
	for _, a := range d.plan.Adds {
		if a.Role == role {
			fit++
		}
	}
	return d.members(role, fit)
}

func mendUnplaced(what string, role *field.Role) string {
	if what == "port clash" {
		return fmt.Sprintf("give the port a range (from, to), add a node, or lower the members of %s", role.Name)
	}
	lower := "the members"
	if role.Room != (field.Size{}) {
		lower = "the room or the members"
	}
	text := fmt.Sprintf("add a node, or lower %s of %s", lower, role.Name)
	if role.Where != "" {
		text += ", or widen its where"
	}
	return text
}

func nodesWord(n int) string {
	if n == 1 {
		return "node"
	}
	return "nodes"
}

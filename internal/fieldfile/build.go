package fieldfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/kit"
)

// build makes the field out of a tree that fits the schema. False means that there is too little of it to be looked at
// further.
func (f *File) build() bool {
	root := f.doc.root
	f.expandNodes(root.get("nodes"))
	if len(f.doc.errs) > 0 {
		return false
	}
	roles := &node{isList: true}
	for _, name := range root.get("roles").keys {
		role := root.get("roles").values[name]
		if !role.isMap {
			continue
		}
		merged := f.fillKit(name, role)
		merged.set("name", text(name))
		roles.list = append(roles.list, merged)
	}
	whole := &node{isMap: true, values: map[string]*node{}}
	for _, k := range root.keys {
		whole.set(k, root.values[k])
	}
	whole.set("roles", roles)
	whole.without("nodes").without("variables").without("pattern")
	for _, role := range roles.list {
		for _, part := range []*node{role.get("version"), role.get("settings"), role.get("settings_of"), role.get("program").get("command"), role.get("program").get("env")} {
			part.asWritten()
		}
	}
	root.get("settings").asWritten()
	root.get("zones").asWritten()
	about, _ := root.get("pattern").get("about").text()
	f.Pattern = Pattern{About: about}
	var b bytes.Buffer
	whole.canonical(&b)
	out := &field.Field{}
	if err := json.Unmarshal(b.Bytes(), out); err != nil {
		f.doc.errs = append(f.doc.errs, &Error{File: f.Name, Text: "cannot be understood: " + err.Error()})
		return false
	}
	out.Nodes, out.Extras = f.Field.Nodes, f.Field.Extras
	if f.Choices != nil && f.doc.root.get("field").variable == "" {
		out.Name += "-" + f.Choices.Env // environments never touch each other
	}
	field.FillDefaults(out)
	f.Field = out
	return true
}

// expandNodes makes one node of each name in the ranges.
func (f *File) expandNodes(entries *node) {
	f.Field = &field.Field{Nodes: make([]field.Node, 0, len(entries.list))}
	var extras []int                 // the entries that they come from
	alike := map[string]field.Node{} // by all that they say but their name: most nodes of a large field are alike
	for i, entry := range entries.list {
		body := entry.body()
		n, known := alike[body]
		if !known {
			raw := struct {
				*field.Node
				Labels map[string]field.Text `json:"labels"`
				Set    any                   `json:"set"` // see setOf
			}{Node: &n}
			if err := json.Unmarshal([]byte(body), &raw); err != nil {
				f.doc.errs = append(f.doc.errs, f.doc.at(entry, true, "this node cannot be understood: "+err.Error(), ""))
				continue
			}
			for k, v := range raw.Labels {
				if n.Labels == nil {
					n.Labels = map[string]string{}
				}
				n.Labels[k] = string(v)
			}
			alike[body] = n
		}
		names, err := namesOf(entry)
		if err == nil && len(f.entry)+len(extras)+len(names) > field.MostNodes {
			word, _ := entry.get("name").text()
			err = fmt.Errorf("with %q the field has more than %d nodes, which is the most", word, field.MostNodes)
		}
		if err != nil {
			f.doc.errs = append(f.doc.errs, f.doc.at(entry.get("name"), false, err.Error(), ""))
			continue
		}
		set, addressed := f.setOf(entry), f.addressesOf(entry, n, names)
		for j, name := range names {
			one := n
			one.Name = field.NodeName(name)
			if addressed != nil {
				addressed(j, &one)
			}
			if set == nil {
				f.Field.Nodes, f.entry = append(f.Field.Nodes, one), append(f.entry, i)
				continue
			}
			one.Set = set.name
			if len(set.zones) > 0 {
				one.Zone = set.zones[j%len(set.zones)]
			}
			if one.Extra = j >= set.Least; one.Extra {
				f.Field.Extras, extras = append(f.Field.Extras, one), append(extras, i)
			} else {
				f.Field.Nodes, f.entry = append(f.Field.Nodes, one), append(f.entry, i)
			}
		}
	}
	f.entry = append(f.entry, extras...)
}

// fillKit lays the role's own words over those of its kit. What is wrong with the kit is noted, and the role is given
// without one.
func (f *File) fillKit(name string, role *node) *node {
	kitName, program := role.get("kit"), role.get("program")
	out := &node{isMap: true, values: map[string]*node{}}
	for _, k := range role.keys {
		out.set(k, role.values[k])
	}
	if out.get("members") == nil && role.get("external") == nil {
		out.set("members", &node{scalar: int64(1)})
	}
	out.count()
	switch {
	case role.get("external") != nil && (kitName != nil || program != nil):
		f.doc.errs = append(f.doc.errs, f.doc.at(role.get("external"), true, fmt.Sprintf("role %s is external and says what is to be run; it can be one of the two", name), ""))
		return out.without("kit").without("program")
	case role.get("external") != nil:
		return out
	case kitName == nil && program == nil:
		f.doc.errs = append(f.doc.errs, f.doc.at(role, true, fmt.Sprintf("role %s says neither kit nor program, so there is nothing to run", name),
			"kits: "+strings.Join(kit.Names(), ", ")))
		return out.without("kit")
	case kitName != nil && program != nil:
		f.doc.errs = append(f.doc.errs, f.doc.at(program, true, fmt.Sprintf("role %s says both kit and program; it can have one of them", name), ""))
		return out.without("kit")
	}
	if kitName == nil {
		return out
	}
	word, _ := kitName.scalar.(string)
	content, ok := kit.Content(word)
	if !ok {
		hint := "kits: " + strings.Join(kit.Names(), ", ")
		if near := field.Nearest(word, kit.Names()); near != "" {
			hint = fmt.Sprintf("did you mean %q? Kits: %s", near, strings.Join(kit.Names(), ", "))
		}
		f.doc.errs = append(f.doc.errs, f.doc.at(kitName, false, fmt.Sprintf("there is no kit %q", shorten(word)), hint))
		return out.without("kit")
	}
	k := parse("kit "+word, content)
	if len(k.errs) == 0 {
		k.conform(compiled().kit)
	}
	if len(k.errs) > 0 {
		f.doc.errs = append(f.doc.errs, k.errs...)
		return out.without("kit")
	}
	for _, key := range []string{"kind", "votes", "start", "stop", "program", "platforms", "provides", "experimental", "licensed"} {
		if v := k.root.get(key); v != nil && out.get(key) == nil {
			out.set(key, v)
		}
	}
	if v := k.root.get("calls"); v != nil {
		out.set("wants", v)
	}
	if settings := k.root.get("settings"); settings != nil {
		options := &node{isList: true}
		for _, key := range settings.keys {
			options.list = append(options.list, settings.values[key].option(key))
		}
		out.set("options", options)
	}
	return out
}

// option writes a kit's setting, which may be no more than its default, as field.Option has it.
func (n *node) option(name string) *node {
	out := &node{isMap: true, values: map[string]*node{}}
	out.set("name", text(name))
	if !n.isMap {
		out.set("default", n)
		return out
	}
	for _, k := range n.keys {
		out.set(k, n.values[k])
	}
	return out
}

// count turns `members: each-node` and its like into words of their own.
func (n *node) count() {
	members := n.get("members")
	if members == nil {
		return
	}
	each := members
	if word, ok := members.text(); ok && word == "each-node" {
		each = &node{isMap: true, values: map[string]*node{}}
		each.set("node", &node{scalar: true})
	}
	if each.isMap {
		n.set("each", each)
		n.without("members")
	}
}

// without drops a key.
func (n *node) without(key string) *node {
	delete(n.values, key)
	n.keys = slices.DeleteFunc(n.keys, func(k string) bool { return k == key })
	return n
}

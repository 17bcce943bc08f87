package fieldfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

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
			"kits: "+strings.Join(f.kits().Names(), ", ")))
		return out.without("kit")
	case kitName != nil && program != nil:
		f.doc.errs = append(f.doc.errs, f.doc.at(program, true, fmt.Sprintf("role %s says both kit and program; it can have one of them", name), ""))
		return out.without("kit")
	}
	if kitName == nil {
		f.withoutFrom(program)
		return out
	}
	k := f.kitOf(kitName)
	if k == nil {
		return out.without("kit")
	}
	if f.kitDocs == nil {
		f.kitDocs = map[string]*document{}
	}
	f.kitDocs[name] = k
	for _, key := range []string{"kind", "votes", "start", "stop", "program", "platforms", "provides", "experimental", "licensed"} {
		if v := k.root.get(key); v != nil && out.get(key) == nil {
			out.set(key, v)
		}
	}
	for key, as := range map[string]string{"calls": "wants", "apart": "shuns"} {
		if v := k.root.get(key); v != nil {
			out.set(as, v)
		}
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

// kits are the kits of this file.
func (f *File) kits() kit.Library {
	if f.library != nil {
		return *f.library
	}
	return kit.Of(f.Name)
}

// kitOf reads the kit that a role names; nil where there is none that is right, which is noted.
func (f *File) kitOf(name *node) *document {
	word, _ := name.scalar.(string)
	found, ok := f.kits().Find(word)
	if !ok {
		names := f.kits().Names()
		hint := "kits: " + strings.Join(names, ", ")
		if near := field.Nearest(word, names); near != "" {
			hint = fmt.Sprintf("did you mean %q? Kits: %s", near, strings.Join(names, ", "))
		}
		f.doc.errs = append(f.doc.errs, f.doc.at(name, false, fmt.Sprintf("there is no kit %q", shorten(word)), hint))
		return nil
	}
	k := readKit(found)
	if len(k.errs) > 0 {
		f.doc.errs = append(f.doc.errs, k.errs...)
		return nil
	}
	return k
}

// readKit reads a kit, with the files beside it in their places. What is wrong is in its errors.
func readKit(k kit.Kit) *document {
	content, err := k.Content()
	if err != nil {
		return &document{name: k.Place(kit.FileName), errs: Errors{{File: k.Place(kit.FileName), Text: err.Error()}}}
	}
	d := parse(k.Place(kit.FileName), content)
	if len(d.errs) == 0 {
		d.conform(compiled().kit)
	}
	if len(d.errs) > 0 {
		return d
	}
	if word, _ := d.root.get("kit").text(); word != k.Name {
		d.errs = append(d.errs, d.at(d.root.get("kit"), false, fmt.Sprintf("the kit calls itself %q and its folder is %q; they must be the same", word, k.Name), "rename one of them"))
	}
	d.kitSettings()
	files := d.root.get("program").get("files")
	if files == nil {
		return d
	}
	for _, path := range files.keys {
		file := files.values[path]
		from := file.get("from")
		switch {
		case from == nil && file.get("template") == nil:
			d.errs = append(d.errs, d.at(file, true, fmt.Sprintf("the file %s says neither template nor from, so it has no content", path), "write its content under template, or name a file beside kit.yaml with from"))
		case from != nil && file.get("template") != nil:
			d.errs = append(d.errs, d.at(from, true, fmt.Sprintf("the file %s says both template and from; it can have one of them", path), ""))
		case from != nil:
			name, _ := from.text()
			data, err := k.File(name)
			if err == nil && !utf8.Valid(data) {
				err = fmt.Errorf("%s is not UTF-8 text", name)
			}
			if err != nil {
				d.errs = append(d.errs, d.at(from, false, err.Error(), ""))
				continue
			}
			content := *from
			content.scalar = string(data)
			file.set("template", &content)
			file.without("from")
		}
	}
	return d
}

// kitSettings notes settings that have neither a default nor are required, and those that say both.
func (d *document) kitSettings() {
	settings := d.root.get("settings")
	if settings == nil {
		return
	}
	for _, name := range settings.keys {
		decl := settings.values[name]
		if !decl.isMap {
			continue
		}
		usual, required := decl.get("default") != nil, decl.get("required") != nil && decl.get("required").scalar == true
		switch {
		case !usual && !required:
			d.errs = append(d.errs, d.at(decl, true, fmt.Sprintf("the setting %s has no default", name), "give it one, or say required: true, so that a field must say it"))
		case usual && required:
			d.errs = append(d.errs, d.at(decl, true, fmt.Sprintf("the setting %s is required and has a default; it can be one of the two", name), ""))
		}
	}
}

// withoutFrom notes files of a program in place that are to come from elsewhere, or from nowhere.
func (f *File) withoutFrom(program *node) {
	files := program.get("files")
	if files == nil {
		return
	}
	for _, path := range files.keys {
		file := files.values[path]
		if from := file.get("from"); from != nil {
			f.doc.errs = append(f.doc.errs, f.doc.at(from, true, "from names a file of a kit's folder, and this program is in place", "write the content under template, or make a kit of it: docs/kits.md"))
		} else if file.get("template") == nil {
			f.doc.errs = append(f.doc.errs, f.doc.at(file, true, fmt.Sprintf("the file %s lacks template, its content", path), ""))
		}
	}
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

// Package fieldfile reads field files: YAML with positions, checked against the published schema, made into a
// field.Field with kits filled in and ranges of nodes expanded.
package fieldfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/kit"
)

// File is a field file that could be read.
type File struct {
	Name  string
	Bytes []byte
	Field *field.Field

	Pattern   Pattern    // what it says of itself where it is one
	Variables []Variable // in the order of the file
	Choices   *Choices   // of the environment; nil without one

	others func() map[field.NodeName]*field.Others // see Surround

	doc   *document
	entry []int // which entry of nodes each node of the field comes from, its extras after all others
}

// Load reads the file of that name, with the variables as an environment chooses them; env is empty for their defaults.
func Load(name, env string) (*File, error) {
	data, err := read(name)
	if err != nil {
		return nil, err
	}
	choices, err := LoadChoices(name, env)
	if err != nil {
		return nil, err
	}
	return Parse(name, data, choices)
}

// With reads other bytes of the same file, in the same environment.
func (f *File) With(data []byte) (*File, error) {
	next, err := Parse(f.Name, data, f.Choices)
	if err == nil && f.others != nil {
		next.Surround(f.others)
	}
	return next, err
}

// Surround has the field's shared nodes know what other fields keep of them, now and after every edit. It is asked only
// where there are such nodes.
func (f *File) Surround(others func() map[field.NodeName]*field.Others) {
	if f.others = others; f.Field.Shares() {
		f.Field.Surround(others())
		f.Field = plan.Grow(f.Field, plan.Live{})
	}
}

func read(name string) ([]byte, error) {
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, Errors{{File: name, Text: "there is no such file", Hint: nearbyFiles(name)}}
	case err != nil:
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	case info.IsDir():
		return nil, Errors{{File: name, Text: "is a folder, not a field file", Hint: nearbyFiles(name + "/x")}}
	case !info.Mode().IsRegular():
		return nil, Errors{{File: name, Text: "is not a regular file"}}
	case info.Size() > mostBytes:
		return nil, Errors{{File: name, Text: fmt.Sprintf("the file has %d KiB; a field file may have %d KiB at most", info.Size()>>10, mostBytes>>10), Hint: "is it the right file? Put long config templates into kits."}}
	}
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // it may be another file by now
	if err != nil {
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, mostBytes+1))
	if err != nil {
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	}
	return data, nil
}

func plainCause(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

func nearbyFiles(name string) string {
	dir := "."
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		dir = name[:i+1]
	}
	entries, _ := os.ReadDir(dir)
	var files []string
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".field.yaml") && len(files) < 5 {
			files = append(files, e.Name())
		}
	}
	if len(files) == 0 {
		return "a field file is named NAME.field.yaml"
	}
	return "that folder has " + strings.Join(files, ", ")
}

// Parse reads a field from the bytes of a file; name is for messages, choices are nil for the variables' defaults. The
// error is of type Errors and holds everything that is wrong.
func Parse(name string, data []byte, choices *Choices) (*File, error) {
	d := parse(name, data)
	if len(d.errs) > d.soft || d.root == nil {
		return nil, sorted(d.errs)
	}
	variables := d.substitute(choices)
	if len(d.errs) > d.soft {
		return nil, sorted(d.errs)
	}
	d.conformField()
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	f := &File{Name: name, Bytes: data, doc: d, Variables: variables, Choices: choices}
	if !f.build() {
		return nil, sorted(d.errs)
	}
	for _, p := range field.Validate(f.Field, kind.Rules) {
		d.errs = append(d.errs, f.problem(p))
	}
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	f.Field = plan.Grow(f.Field, plan.Live{})
	return f, nil
}

// problem places a problem of the field in the file.
func (f *File) problem(p field.Problem) *Error {
	at, whole := f.doc.root.find(f.inFile(p.Path))
	return f.doc.at(at, p.Key || !whole || at.isMap || at.isList, p.Text, p.Hint)
}

// fixed counts the nodes that are there whatever members want.
func (f *File) fixed() int { return len(f.entry) - len(f.Field.Extras) }

// inFile turns a path through the field into one through the file, where one entry stands for a range of nodes.
func (f *File) inFile(path []string) []string {
	if len(path) < 2 || path[0] != "nodes" {
		return path
	}
	i, err := strconv.Atoi(path[1])
	if err != nil {
		named := func(n field.Node) bool { return string(n.Name) == path[1] }
		if i = slices.IndexFunc(f.Field.Nodes[:f.fixed()], named); i < 0 {
			if i = slices.IndexFunc(f.Field.Extras, named); i >= 0 {
				i += f.fixed()
			}
		}
	}
	if i < 0 || i >= len(f.entry) {
		return path
	}
	path = slices.Clone(path)
	path[1] = strconv.Itoa(f.entry[i])
	return path
}

// Line gives the line of what a problem is about; 1 where that is nothing in particular.
func (f *File) Line(p field.Problem) int { return max(1, f.problem(p).Line) }

// NodeEntry is how the file names the entry that a node comes from: its name, or that of its range.
func (f *File) NodeEntry(name field.NodeName) string {
	path := f.inFile([]string{"nodes", string(name)})
	entry, _ := f.doc.root.find(path)
	if word, ok := entry.get("name").text(); ok {
		return word
	}
	return string(name)
}

// Locate gives the line and column of what a finding is about.
func (f *File) Locate(n finding.Finding) (line, column int) {
	e := f.problem(field.Problem{Path: n.Path})
	return e.Line, e.Column
}

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

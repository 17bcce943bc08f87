// Package fieldfile reads field files: YAML with positions, checked against the published schema, made into a
// field.Field with kits filled in and ranges of nodes expanded.
package fieldfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/kit"
)

// File is a field file that could be read.
type File struct {
	Name  string
	Bytes []byte
	Field *field.Field
	doc   *document
	entry []int // which entry of nodes each node of the field comes from
}

// Load reads the file of that name.
func Load(name string) (*File, error) {
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
		return Parse(name, make([]byte, info.Size()))
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	}
	return Parse(name, data)
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

// Parse reads a field from the bytes of a file; name is for messages. The error is of type Errors and holds everything
// that is wrong.
func Parse(name string, data []byte) (*File, error) {
	d := parse(name, data)
	if len(d.errs) > d.soft || d.root == nil {
		return nil, sorted(d.errs)
	}
	d.conform(compiled().field)
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	f := &File{Name: name, Bytes: data, doc: d}
	f.build()
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	for _, p := range field.Validate(f.Field) {
		d.errs = append(d.errs, f.problem(p.Path, p.Text, p.Hint))
	}
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	return f, nil
}

// problem places a problem of the field in the file.
func (f *File) problem(path []string, text, hint string) *Error {
	if len(path) > 1 && path[0] == "nodes" {
		if i, err := strconv.Atoi(path[1]); err == nil && i < len(f.entry) {
			path = slices.Clone(path)
			path[1] = strconv.Itoa(f.entry[i])
		}
	}
	at, whole := f.doc.root.find(path)
	return f.doc.at(at, !whole || at.isMap || at.isList, text, hint)
}

// Locate gives the line and column of what a finding is about.
func (f *File) Locate(n finding.Finding) (line, column int) {
	e := f.problem(n.Path, "", "")
	return e.Line, e.Column
}

// build makes the field out of a tree that fits the schema.
func (f *File) build() {
	root := f.doc.root
	f.expandNodes(root.get("nodes"))
	roles := &node{isList: true}
	for _, name := range root.get("roles").keys {
		role := root.get("roles").values[name]
		if !role.isMap {
			continue
		}
		if merged := f.fillKit(name, role); merged != nil {
			merged.set("name", text(name))
			roles.list = append(roles.list, merged)
		}
	}
	if len(f.doc.errs) > 0 {
		return
	}
	whole := &node{isMap: true, values: map[string]*node{}}
	for _, k := range root.keys {
		whole.set(k, root.values[k])
	}
	whole.set("roles", roles)
	delete(whole.values, "nodes")
	whole.keys = slices.DeleteFunc(whole.keys, func(k string) bool { return k == "nodes" })
	var b bytes.Buffer
	whole.canonical(&b)
	out := &field.Field{}
	if err := json.Unmarshal(b.Bytes(), out); err != nil {
		f.doc.errs = append(f.doc.errs, &Error{File: f.Name, Text: "cannot be understood: " + err.Error()})
		return
	}
	out.Nodes = f.Field.Nodes
	field.FillDefaults(out)
	f.Field = out
}

// expandNodes makes one node of each name in the ranges.
func (f *File) expandNodes(entries *node) {
	f.Field = &field.Field{}
	for i, entry := range entries.list {
		var b bytes.Buffer
		entry.canonical(&b)
		var n field.Node
		raw := struct {
			*field.Node
			Labels map[string]field.Text `json:"labels"`
		}{Node: &n}
		if err := json.Unmarshal(b.Bytes(), &raw); err != nil {
			f.doc.errs = append(f.doc.errs, f.doc.at(entry, true, "this node cannot be understood: "+err.Error(), ""))
			continue
		}
		for k, v := range raw.Labels {
			if n.Labels == nil {
				n.Labels = map[string]string{}
			}
			n.Labels[k] = string(v)
		}
		names, err := field.ExpandRange(string(n.Name))
		if err == nil && len(f.Field.Nodes)+len(names) > field.MostNodes {
			err = fmt.Errorf("with %q the field has more than %d nodes, which is the most", n.Name, field.MostNodes)
		}
		if err != nil {
			f.doc.errs = append(f.doc.errs, f.doc.at(entry.get("name"), false, err.Error(), ""))
			continue
		}
		for _, name := range names {
			one := n
			one.Name = field.NodeName(name)
			f.Field.Nodes = append(f.Field.Nodes, one)
			f.entry = append(f.entry, i)
		}
	}
}

// fillKit lays the role's own words over those of its kit.
func (f *File) fillKit(name string, role *node) *node {
	kitName, program := role.get("kit"), role.get("program")
	switch {
	case kitName == nil && program == nil:
		f.doc.errs = append(f.doc.errs, f.doc.at(role, true, fmt.Sprintf("role %s says neither kit nor program, so there is nothing to run", name),
			"kits: "+strings.Join(kit.Names(), ", ")))
		return nil
	case kitName != nil && program != nil:
		f.doc.errs = append(f.doc.errs, f.doc.at(program, true, fmt.Sprintf("role %s says both kit and program; it can have one of them", name), ""))
		return nil
	}
	out := &node{isMap: true, values: map[string]*node{}}
	for _, k := range role.keys {
		out.set(k, role.values[k])
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
		return nil
	}
	k := parse("kit "+word, content)
	if len(k.errs) == 0 {
		k.conform(compiled().kit)
	}
	if len(k.errs) > 0 {
		f.doc.errs = append(f.doc.errs, k.errs...)
		return nil
	}
	for _, key := range []string{"kind", "votes", "start", "program"} {
		if v := k.root.get(key); v != nil && out.get(key) == nil {
			out.set(key, v)
		}
	}
	f.mergeSettings(name, out, k.root.get("settings"))
	return out
}

// mergeSettings takes the kit's defaults where the role says nothing; a setting that the kit does not know is an error.
func (f *File) mergeSettings(role string, out, defaults *node) {
	own := out.get("settings")
	merged := &node{isMap: true, values: map[string]*node{}}
	if defaults != nil {
		for _, key := range defaults.keys {
			merged.set(key, defaults.values[key])
		}
	}
	if own != nil {
		for _, key := range own.keys {
			if merged.values[key] == nil {
				hint := "its kit has no settings"
				if len(merged.keys) > 0 {
					hint = "its kit knows " + strings.Join(merged.keys, ", ")
				}
				if near := field.Nearest(key, merged.keys); near != "" {
					hint = fmt.Sprintf("did you mean %q?", near)
				}
				f.doc.errs = append(f.doc.errs, f.doc.at(own.values[key], true, fmt.Sprintf("role %s has no setting %q", role, shorten(key)), hint))
				continue
			}
			merged.set(key, own.values[key])
		}
	}
	out.set("settings", merged)
}

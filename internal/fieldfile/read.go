// Package fieldfile reads field files: YAML with positions, checked against the published schema, made into a
// field.Field with kits filled in and ranges of nodes expanded.
package fieldfile

import (
	"slices"
	"strconv"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/kit"
)

// File is a field file that could be read.
type File struct {
	Name  string
	Bytes []byte
	Field *field.Field // as it is declared; resolve.Draft gives what that comes to

	Pattern   Pattern    // what it says of itself where it is one
	Variables []Variable // in the order of the file
	Choices   *Choices   // of the environment; nil without one

	kitDocs map[string]*document // the kits of roles, by the roles' names
	library *kit.Library         // of its kits, where that is another than the file's own

	doc   *document
	entry []int // which entry of nodes each node of the field comes from, its extras after all others
}

// With reads other bytes of the same file, in the same environment.
func (f *File) With(data []byte) (*File, error) { return parseWith(f.Name, data, f.Choices, f.library) }

// Parse reads a field from the bytes of a file; name is for messages, choices are nil for the variables' defaults. The
// error is of type Errors and holds everything that is wrong.
func Parse(name string, data []byte, choices *Choices) (*File, error) {
	return parseWith(name, data, choices, nil)
}

func parseWith(name string, data []byte, choices *Choices, library *kit.Library) (*File, error) {
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
	f := &File{Name: name, Bytes: data, library: library, doc: d, Variables: variables, Choices: choices}
	if !f.build() {
		return nil, sorted(d.errs)
	}
	for _, p := range field.Validate(f.Field, kind.Rules) {
		d.errs = append(d.errs, f.problem(p))
	}
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	return f, nil
}

// problem places a problem of the field in the file.
func (f *File) problem(p field.Problem) *Error {
	if len(p.Path) > 2 && p.Path[0] == "roles" && p.Path[2] == "program" && f.kitDocs[p.Path[1]] != nil { // in its kit
		d := f.kitDocs[p.Path[1]]
		at, whole := d.root.find(p.Path[2:])
		return d.at(at, p.Key || !whole || at.isMap || at.isList, p.Text, p.Hint)
	}
	return f.here(p)
}

// here places a problem in this very file.
func (f *File) here(p field.Problem) *Error {
	at, whole := f.doc.root.find(f.inFile(p.Path))
	e := f.doc.at(at, p.Key || !whole || at.isMap || at.isList, p.Text, p.Hint)
	e.path = p.Path
	return e
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
func (f *File) Line(p field.Problem) int { return max(1, f.here(p).Line) }

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
	e := f.here(field.Problem{Path: n.Path})
	return e.Line, e.Column
}

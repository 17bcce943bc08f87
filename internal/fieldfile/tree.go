package fieldfile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// What a file may be at most. A field of 10,000 nodes named one by one stays well below.
const (
	mostBytes = 1 << 20
	mostNodes = 200_000 // after aliases have been followed
	mostDepth = 64
)

// document is a parsed file: its lines for excerpts, its root with positions.
type document struct {
	name  string
	lines []string
	root  *node
	errs  Errors
	soft  int // how many of errs leave a tree that can be checked further

	anchors map[string]ast.Node
	open    map[string]bool // anchors being followed
	count   int
}

// node is a value with its position. Positions count from 1 and are of the value; those of its key stand beside.
type node struct {
	line, column, width          int
	keyLine, keyColumn, keyWidth int

	raw     string // a number as it is written
	written bool   // it is taken as it is written, as a text
	scalar  any    // string, int64, uint64, float64, bool or nil; set when neither list nor keys is

	variable string // whose value was put here
	said     string // see body
	list     []*node
	keys     []string
	values   map[string]*node
	isList   bool
	isMap    bool
}

// parse reads YAML into a tree. Everything that can be wrong with it as YAML ends up in errs.
func parse(name string, data []byte) *document { return parseUpTo(name, data, mostBytes) }

func parseUpTo(name string, data []byte, most int) *document {
	d := &document{name: name, anchors: map[string]ast.Node{}, open: map[string]bool{}}
	fail := func(text, hint string) *document {
		d.errs = append(d.errs, &Error{File: name, Text: text, Hint: hint})
		return d
	}
	switch {
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")):
		return fail("the file begins with a byte order mark, which a field file must not have", "save it as UTF-8 without a byte order mark (BOM)")
	case len(data) > most:
		return fail(fmt.Sprintf("the file has %d KiB; a field file may have %d KiB at most", len(data)>>10, mostBytes>>10),
			"is it the right file? Put long config templates into kits.")
	case bytes.IndexByte(data, 0) >= 0:
		return fail("this is a binary file, and a field file is YAML text", "is it the right file?")
	case len(bytes.TrimSpace(data)) == 0:
		return fail("the file is empty", "a field file starts with `format: 1` and `field: NAME`; examples/ has some to begin with")
	}
	d.lines = strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
	if !utf8.Valid(data) {
		line, column := invalidAt(data)
		return fail(fmt.Sprintf("line %d has a byte at column %d that is not UTF-8", line, column), "save the file as UTF-8")
	}
	if depth, line := flowDepth(data); depth > mostDepth {
		d.errs = append(d.errs, d.pointed(line, 1, 1, fmt.Sprintf("brackets are nested more than %d deep", mostDepth), "nothing in a field file needs that"))
		return d
	}
	file, err := parser.ParseBytes(bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n")), 0, parser.AllowDuplicateMapKey())
	if err != nil {
		d.errs = append(d.errs, d.syntax(err))
		return d
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		return fail(fmt.Sprintf("the file holds %d YAML documents; a field file is one", len(file.Docs)), "take out the lines `---` between them")
	}
	d.root = d.convert(file.Docs[0].Body, 0)
	return d
}

func (d *document) place(n *node, t *token.Token) *node {
	if t != nil && t.Position != nil {
		n.line, n.column, n.width = t.Position.Line, t.Position.Column, tokenWidth(t)
		if t.Type == token.SingleQuoteType || t.Type == token.DoubleQuoteType {
			n.width += 2
		}
	}
	return n
}

// convert turns the parser's tree into ours and follows aliases, within bounds.
func (d *document) convert(n ast.Node, depth int) *node {
	out := &node{}
	if n == nil {
		return out
	}
	d.place(out, n.GetToken())
	if d.count++; d.count > mostNodes || depth > mostDepth {
		if d.count == mostNodes+1 || depth == mostDepth+1 {
			d.errs = append(d.errs, d.at(out, false, fmt.Sprintf("the file grows to more than %d values, or is nested more than %d deep", mostNodes, mostDepth),
				"aliases (*name) that hold aliases multiply; write out what is meant"))
			d.count = mostNodes + 2
		}
		return out
	}
	switch v := n.(type) {
	case *ast.MappingNode:
		out.isMap, out.values = true, map[string]*node{}
		for _, pair := range v.Values {
			d.pair(out, pair, depth, false)
		}
		for _, pair := range v.Values {
			d.pair(out, pair, depth, true) // what is merged gives way to what is said
		}
	case *ast.MappingValueNode:
		out.isMap, out.values = true, map[string]*node{}
		d.pair(out, v, depth, false)
		d.pair(out, v, depth, true)
	case *ast.SequenceNode:
		out.isList = true
		for _, item := range v.Values {
			out.list = append(out.list, d.convert(item, depth+1))
		}
	case *ast.AnchorNode:
		name := v.Name.GetToken().Value
		d.anchors[name] = v.Value
		d.open[name] = true
		out = d.convert(v.Value, depth+1)
		d.open[name] = false
	case *ast.AliasNode:
		out = d.alias(v, out, depth)
	case *ast.TagNode:
		out = d.convert(v.Value, depth+1)
	case *ast.LiteralNode:
		out.scalar = v.Value.Value
	case *ast.NullNode:
	case ast.ScalarNode:
		out.scalar = v.GetValue()
		switch out.scalar.(type) {
		case int64, uint64, float64:
			out.raw = v.GetToken().Value
		}
	default:
		d.errs = append(d.errs, d.at(out, false, fmt.Sprintf("%s has no meaning in a field file", n.Type()), ""))
	}
	return out
}

func (d *document) alias(v *ast.AliasNode, out *node, depth int) *node {
	name := v.Value.GetToken().Value
	target, ok := d.anchors[name]
	switch {
	case !ok:
		d.errs = append(d.errs, d.at(out, false, fmt.Sprintf("the alias *%s stands for nothing: no &%s comes before it", name, name), ""))
		return out
	case d.open[name]:
		d.errs = append(d.errs, d.at(out, false, fmt.Sprintf("the alias *%s stands inside what it stands for, so it would never end", name), "write out what is meant"))
		return out
	}
	d.open[name] = true
	defer func() { d.open[name] = false }()
	at := *out
	out = d.convert(target, depth+1)
	out.line, out.column, out.width = at.line, at.column, at.width
	return out
}

// pair takes in one key with its value: the merge keys, or all the others.
func (d *document) pair(out *node, pair *ast.MappingValueNode, depth int, merges bool) {
	keyToken := pair.Key.GetToken()
	_, merge := pair.Key.(*ast.MergeKeyNode)
	if merge != merges {
		return
	}
	if merge {
		for key, value := range d.convert(pair.Value, depth+1).values {
			if out.values[key] == nil {
				out.keys = append(out.keys, key)
				out.values[key] = value
			}
		}
		return
	}
	value := d.convert(pair.Value, depth+1)
	value.keyLine, value.keyColumn, value.keyWidth = keyToken.Position.Line, keyToken.Position.Column, tokenWidth(keyToken)
	if value.line == 0 {
		value.line, value.column, value.width = value.keyLine, value.keyColumn, value.keyWidth
	}
	key := keyToken.Value
	if first := out.values[key]; first != nil {
		d.errs = append(d.errs, d.at(value, true, fmt.Sprintf("%q stands here a second time; the first is on line %d", key, first.keyLine),
			"give one of them another name, or take it out"))
		d.soft++
		return
	}
	out.keys = append(out.keys, key)
	out.values[key] = value
}

// plain gives the tree as plain values for the schema.
func (n *node) plain() any {
	switch {
	case n.isMap:
		m := make(map[string]any, len(n.keys))
		for _, k := range n.keys {
			m[k] = n.values[k].plain()
		}
		return m
	case n.isList:
		l := make([]any, len(n.list))
		for i, item := range n.list {
			l[i] = item.plain()
		}
		return l
	}
	switch v := n.scalar.(type) {
	case int64:
		return json.Number(strconv.FormatInt(v, 10))
	case uint64:
		return json.Number(strconv.FormatUint(v, 10))
	case float64:
		return json.Number(strconv.FormatFloat(v, 'g', -1, 64))
	}
	return n.scalar
}

// find follows a path as far as it goes and gives the last node on it.
func (n *node) find(path []string) (found *node, whole bool) {
	for _, step := range path {
		next := n.values[step]
		if n.isList {
			if i, err := strconv.Atoi(step); err == nil && i >= 0 && i < len(n.list) {
				next = n.list[i]
			}
		}
		if next == nil {
			return n, false
		}
		n = next
	}
	return n, true
}

// keyed finds the first value below that key, at any depth; the node itself when there is none.
func (n *node) keyed(key string) *node {
	var look func(at *node) *node
	look = func(at *node) *node {
		if v := at.values[key]; v != nil {
			return v
		}
		for _, k := range at.keys {
			if v := look(at.values[k]); v != nil {
				return v
			}
		}
		for _, item := range at.list {
			if v := look(item); v != nil {
				return v
			}
		}
		return nil
	}
	if v := look(n); v != nil {
		return v
	}
	return n
}

// asWritten has all numbers in it taken as texts, as they are written: 3.10 is not 3.1 where a version is meant.
func (n *node) asWritten() {
	if n == nil {
		return
	}
	n.written = true
	for _, item := range n.list {
		item.asWritten()
	}
	for _, value := range n.values {
		value.asWritten()
	}
}

func (n *node) get(key string) *node {
	if n == nil || n.values == nil {
		return nil
	}
	return n.values[key]
}

func (n *node) set(key string, value *node) {
	if n.values[key] == nil {
		n.keys = append(n.keys, key)
	}
	n.values[key] = value
}

func text(s string) *node { return &node{scalar: s} }

// Plain reads a YAML file of another kind as plain values, within the bounds that hold for field files but for its size:
// maps, lists, texts, truths, json.Number and nil. Bombs of aliases, endless nesting and what is no YAML are refused with
// the place where they stand.
func Plain(name string, data []byte, most int) (any, error) {
	if len(data) > most {
		return nil, Errors{{File: name, Text: fmt.Sprintf("the file has %d KiB; %d KiB are read at most", len(data)>>10, most>>10), Hint: "is it the right file?"}}
	}
	d := parseUpTo(name, data, most)
	if d.root == nil || len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	return d.root.plain(), nil
}

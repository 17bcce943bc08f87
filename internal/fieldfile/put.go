package fieldfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
)

// Put gives the file's bytes with values written, added or taken out. Everything else, comments and alignment among it,
// stays as it was. The bytes have been read back; what cannot be read gives the reasons instead.
func (f *File) Put(puts ...arrange.Put) ([]byte, error) {
	now := f
	for _, p := range puts {
		data, err := now.put(p)
		if err != nil {
			return nil, err
		}
		d := parse(f.Name, data)
		if d.root == nil || len(d.errs) > d.soft {
			return nil, fmt.Errorf("%s cannot be edited like that here: %w", f.Name, sorted(d.errs))
		}
		d.substitute(f.Choices)
		now = &File{Name: f.Name, Bytes: data, Choices: f.Choices, doc: d}
	}
	if _, err := f.With(now.Bytes); err != nil {
		return nil, err
	}
	return now.Bytes, nil
}

func (f *File) put(p arrange.Put) ([]byte, error) {
	path := p.Path
	if len(path) > 1 && path[0] == "nodes" && path[1] != "+" {
		i, err := f.nodeEntry(path[1])
		if err != nil {
			return nil, err
		}
		if i < 0 { // inside a range
			data, err := f.divide(path[1])
			if err != nil {
				return nil, err
			}
			d := parse(f.Name, data)
			return (&File{Name: f.Name, Bytes: data, doc: d, Choices: f.Choices}).put(p)
		}
		path = slices.Clone(path)
		path[1] = strconv.Itoa(i)
	}
	parent, at := f.doc.root, 0
	for at < len(path) {
		next, ok := parent.find(path[at : at+1])
		if !ok {
			break
		}
		if at++; at == len(path) {
			if next.variable != "" && p.Value != "" && next.keyLine > 0 {
				return f.putVariable(next.variable, strings.Join(p.Path, "."), p.Value)
			}
			return f.replace(parent, next, path[at-1], p.Value)
		}
		parent = next
	}
	switch missing := path[at:]; {
	case p.Value == "":
		return f.Bytes, nil
	case missing[0] == "+":
		return f.addItem(parent, p.Value)
	case parent.isList:
		return nil, fmt.Errorf("%s has no %s", strings.Join(path[:at], "."), missing[0])
	default:
		return f.addKey(parent, missing, p.Value)
	}
}

// putVariable writes the value of a variable where its default stands.
func (f *File) putVariable(name, what, value string) ([]byte, error) {
	if f.Choices != nil && f.Choices.doc.root.get(name) != nil {
		return nil, fmt.Errorf("%s is the variable %s, which %s chooses; change it there", what, name, f.Choices.Name)
	}
	path := []string{"variables", name}
	if f.doc.root.get("variables").get(name).isMap {
		path = append(path, "default")
	}
	return f.put(arrange.Put{Path: path, Value: value})
}

// replace writes another value for a key or an item that is there, or takes it out.
func (f *File) replace(parent, n *node, key, value string) ([]byte, error) {
	if parent.isList {
		return f.replaceItem(parent, n, key, value)
	}
	flow := f.inBraces(parent)
	from, to, block := f.value(n, flow)
	indent := n.keyColumn - 1
	last := n.keyLine
	if block || !flow {
		last = max(f.below(n.keyLine, indent), f.listBelow(n, indent))
	}
	switch {
	case value == "" && len(parent.keys) == 1 && parent != f.doc.root && parent.keyLine > 0:
		return f.replaceWhole(parent)
	case value == "" && flow:
		return f.cutWithComma(f.keyAt(n), to), nil
	case value == "":
		from := f.commentsAbove(n.keyLine)
		blank := func(line int) bool { return strings.TrimSpace(f.line(line)) == "" }
		if from > 1 && last < len(f.doc.lines) && blank(from-1) && blank(last+1) { // one blank line is enough
			last++
		}
		return f.dropLines(from, last), nil
	case !block && !strings.Contains(value, "\n"):
		if from == to && f.Bytes[from-1] == ':' {
			value = " " + value
		}
		return slices.Concat(f.Bytes[:from], []byte(value), f.Bytes[to:]), nil
	case flow:
		return nil, fmt.Errorf("line %d is written in braces, which cannot be edited like that here; change it in the file", n.keyLine)
	}
	head := string([]rune(f.line(n.keyLine))[:n.keyColumn-1]) // a dash, perhaps
	text := keyed(head, indent, key, value)
	return slices.Concat(f.Bytes[:f.offset(n.keyLine)], []byte(f.ended(text)), f.Bytes[f.offset(last+1):]), nil
}

// replaceWhole takes out a key that has nothing left below it.
func (f *File) replaceWhole(n *node) ([]byte, error) {
	parent, key := f.parentOf(n)
	if parent == nil {
		return nil, fmt.Errorf("line %d cannot be taken out here; change it in the file", n.keyLine)
	}
	return f.replace(parent, n, key, "")
}

// cutWithComma takes something out of braces or brackets, with the comma that goes with it.
func (f *File) cutWithComma(from, to int) []byte {
	after := to
	for after < len(f.Bytes) && f.Bytes[after] == ' ' {
		after++
	}
	if after < len(f.Bytes) && f.Bytes[after] == ',' {
		after++
		for after < len(f.Bytes) && f.Bytes[after] == ' ' {
			after++
		}
		return slices.Concat(f.Bytes[:from], f.Bytes[after:])
	}
	before := from
	for before > 0 && (f.Bytes[before-1] == ' ' || f.Bytes[before-1] == '\n') {
		before--
	}
	if before > 0 && f.Bytes[before-1] == ',' {
		return slices.Concat(f.Bytes[:before-1], f.Bytes[to:])
	}
	return slices.Concat(f.Bytes[:from], f.Bytes[to:])
}

func (f *File) replaceItem(list, n *node, key, value string) ([]byte, error) {
	i, _ := strconv.Atoi(key)
	switch {
	case value == "" && len(list.list) == 1 && list.keyLine > 0:
		return f.replaceWhole(list)
	case value == "" && f.inBraces(list):
		from := f.at(n)
		return f.cutWithComma(from, f.endOf(from, true)), nil
	case value == "":
		from, to, err := f.itemLines(list, i)
		if err != nil {
			return nil, err
		}
		return f.dropLines(f.commentsAbove(from), to), nil
	case n.isMap || n.isList || strings.Contains(value, "\n"):
		return nil, fmt.Errorf("line %d cannot be replaced as a whole here; change it in the file", n.line)
	}
	from := f.at(n)
	return slices.Concat(f.Bytes[:from], []byte(value), f.Bytes[f.endOf(from, f.inBraces(list)):]), nil
}

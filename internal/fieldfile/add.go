package fieldfile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// keyed writes a key with its value, which goes on the lines below where it has several.
func keyed(head string, indent int, key, value string) string {
	if !strings.Contains(value, "\n") {
		return head + key + ": " + value
	}
	return head + key + ":\n" + indented(value, indent+2)
}

func indented(text string, by int) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, l := range lines {
		if l != "" {
			lines[i] = strings.Repeat(" ", by) + l
		}
	}
	return strings.Join(lines, "\n")
}

// ended gives a text the file's own line ends, and one at its end.
func (f *File) ended(text string) string {
	text += "\n"
	if bytes.Contains(f.Bytes, []byte("\r\n")) {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	return text
}

// rootOrder is where keys of the file stand that are added to it: before the first of those that it has.
var rootOrder = []string{"format", "pattern", "field", "about", "networks", "load", "settings", "variables", "ground", "zones", "nodes", "roles", "history", "accepted", "place"}

// headOrder is the same for what says how many members a role has and how they stand; its other keys are added at the end.
var headOrder = []string{"about", "kind", "kit", "version", "experimental", "members", "votes", "start", "stop", "spread"}

// before is the first key of a map before which a new one is to stand; false where it goes to the end.
func (f *File) before(parent *node, key string) (*node, bool) {
	order, head := rootOrder, parent != f.doc.root
	if head {
		order = headOrder
		if roles, _ := f.parentOf(parent); roles == nil || roles != f.doc.root.get("roles") || !slices.Contains(order, key) {
			return nil, false
		}
	}
	for _, k := range parent.keys {
		if i := slices.Index(order, k); i > slices.Index(order, key) || head && i < 0 {
			return parent.values[k], true
		}
	}
	return nil, false
}

// addKey adds a key that is missing, with those missing between it and its parent.
func (f *File) addKey(parent *node, missing []string, value string) ([]byte, error) {
	key := missing[0]
	for i := len(missing) - 1; i > 0; i-- {
		if missing[i] == "+" {
			value = "- " + strings.ReplaceAll(strings.TrimRight(value, "\n"), "\n", "\n  ") + "\n"
			continue
		}
		if strings.Contains(value, "\n") {
			value = missing[i] + ":\n" + indented(value, 2) + "\n"
		} else {
			value = "{" + missing[i] + ": " + value + "}"
		}
	}
	switch {
	case !parent.isMap && parent.scalar == nil && parent.keyLine > 0: // a key without a value
		if !strings.Contains(value, "\n") {
			value = "{" + key + ": " + value + "}"
		} else {
			value = key + ":\n" + indented(value, 2) + "\n"
		}
		grand, name := f.parentOf(parent)
		return f.replace(grand, parent, name, value)
	case !parent.isMap:
		return nil, fmt.Errorf("line %d holds no keys to which %s could be added", parent.line, key)
	case f.inBraces(parent):
		if strings.Contains(value, "\n") {
			return nil, fmt.Errorf("line %d is written in braces, which cannot be edited like that here; change it in the file", parent.line)
		}
		if next, found := f.before(parent, key); found {
			at := f.keyAt(next)
			return slices.Concat(f.Bytes[:at], []byte(key+": "+value+", "), f.Bytes[at:]), nil
		}
		end := f.endOf(f.at(parent), true) - 1
		for end > 0 && f.Bytes[end-1] == ' ' {
			end--
		}
		if len(parent.keys) > 0 {
			key = ", " + key
		}
		return slices.Concat(f.Bytes[:end], []byte(key+": "+value), f.Bytes[end:]), nil
	case len(parent.keys) == 0:
		return nil, fmt.Errorf("line %d is empty; change it in the file", parent.line)
	}
	first := parent.values[parent.keys[0]]
	indent := first.keyColumn - 1
	line := 0
	next, found := f.before(parent, key)
	for _, k := range parent.keys {
		n := parent.values[k]
		if found && n == next {
			if line == 0 {
				line = f.commentsAbove(n.keyLine)
			}
			break
		}
		line = max(f.below(n.keyLine, indent), f.listBelow(n, indent)) + 1
	}
	return f.insertLine(line, keyed(strings.Repeat(" ", indent), indent, key, strings.TrimRight(value, " "))), nil
}

// addItem adds an item at the end of a list.
func (f *File) addItem(list *node, value string) ([]byte, error) {
	switch {
	case !list.isList && list.scalar == nil && list.keyLine > 0:
		grand, name := f.parentOf(list)
		return f.replace(grand, list, name, "- "+strings.ReplaceAll(strings.TrimRight(value, "\n"), "\n", "\n  ")+"\n")
	case !list.isList:
		return nil, fmt.Errorf("line %d is not a list", list.line)
	case f.inBraces(list):
		if strings.Contains(value, "\n") {
			return nil, fmt.Errorf("line %d is written in brackets, which cannot be edited like that here; change it in the file", list.line)
		}
		end := f.endOf(f.at(list), true) - 1
		if len(list.list) > 0 {
			value = ", " + value
		}
		return slices.Concat(f.Bytes[:end], []byte(value), f.Bytes[end:]), nil
	}
	from, to, err := f.itemLines(list, len(list.list)-1)
	if err != nil {
		return nil, err
	}
	dash := indentOf(f.line(from))
	text := strings.Repeat(" ", dash) + "- " + strings.ReplaceAll(strings.TrimRight(value, "\n"), "\n", "\n"+strings.Repeat(" ", dash+2))
	return f.insertLine(to+1, text), nil
}

package fieldfile

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
)

// Set gives the file's bytes with a role changed: its count, its pins, its way of spreading. Everything else, comments
// and alignment among it, stays as it was. The bytes have been read back and say what was asked for.
func (f *File) Set(c arrange.Change) ([]byte, error) {
	now := f
	step := func(data []byte, err error) error {
		if err != nil {
			return err
		}
		next, err := f.With(data)
		if err != nil {
			return fmt.Errorf("%s cannot be edited like that here: %w", f.Name, err)
		}
		now = next
		return nil
	}
	role := f.Field.Role(c.Role)
	if role == nil {
		return nil, fmt.Errorf("there is no role %q in %s", c.Role, f.Name)
	}
	if role.Members < c.Members { // room for pins first
		if err := step(now.SetMembers(c.Role, c.Members)); err != nil {
			return nil, err
		}
	}
	if c.Spread != "" && now.Field.Role(c.Role).Spread != c.Spread {
		if err := step(now.setWord(c.Role, "spread", string(c.Spread))); err != nil {
			return nil, err
		}
	}
	for !samePins(now.Field.Place[c.Role], c.Pins) { // a pin at a time
		before := len(now.Field.Place[c.Role])
		if err := step(now.nextPin(c.Role, c.Pins)); err != nil {
			return nil, err
		}
		if after := len(now.Field.Place[c.Role]); after > before+1 || len(now.Bytes) > len(f.Bytes)+64*(len(c.Pins)+4) {
			return nil, fmt.Errorf("the pins of %s are written in a way that cannot be edited here; change them in the file", c.Role)
		}
	}
	if role.Members > c.Members {
		if err := step(now.SetMembers(c.Role, c.Members)); err != nil {
			return nil, err
		}
	}
	return now.Bytes, nil
}

func samePins(a, b []field.NodeName) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// nextPin does one thing that brings the pins of a role closer to what they shall be: one is replaced, added or taken
// out.
func (f *File) nextPin(role field.RoleName, pins []field.NodeName) ([]byte, error) {
	left := slices.Clone(pins)
	gone := -1 // an entry that shall not be there
	have := f.Field.Place[role]
	for i, n := range have {
		if j := slices.Index(left, n); j >= 0 {
			left = slices.Delete(left, j, j+1)
		} else {
			gone = i
		}
	}
	list, whole := f.doc.root.find([]string{"place", string(role)})
	if whole && !list.isList {
		return nil, fmt.Errorf("the pins of %s are not written as a list", role)
	}
	switch {
	case gone >= 0 && len(left) > 0:
		n := list.list[gone]
		return f.splice(n.line, n.column, n.width, string(left[0])), nil
	case gone >= 0 && len(have) == 1:
		return f.dropPins(role)
	case gone >= 0:
		return f.dropItem(list, gone), nil
	case !whole:
		return f.newPins(role, left[0])
	case len(have) == 0:
		return f.splice(list.line, list.column+1, 0, string(left[0])), nil
	}
	last := list.list[len(list.list)-1]
	if f.inBraces(list) {
		return f.splice(last.line, last.column+last.width, 0, ", "+string(left[0])), nil
	}
	dash := strings.Repeat(" ", f.dash(last)) + "- " + string(left[0])
	return f.insertLine(last.line+1, dash), nil
}

// inBraces tells whether a list or map is written in brackets.
func (f *File) inBraces(n *node) bool {
	line := []rune(f.line(n.line))
	return n.column <= len(line) && (line[n.column-1] == '[' || line[n.column-1] == '{')
}

// line gives a line without its end; lines count from 1.
func (f *File) line(n int) string {
	if n < 1 || n > len(f.doc.lines) {
		return ""
	}
	return f.doc.lines[n-1]
}

// dash is how far the dash before an item is indented.
func (f *File) dash(item *node) int { return strings.IndexByte(f.line(item.line), '-') }

// insertLine puts a line before the one of that number, after the last one too.
func (f *File) insertLine(before int, text string) []byte {
	end := "\n"
	if bytes.Contains(f.Bytes, []byte("\r\n")) {
		end = "\r\n"
		text = strings.ReplaceAll(text, "\n", end)
	}
	at := f.offset(before)
	head := f.Bytes[:at]
	if len(head) > 0 && head[len(head)-1] != '\n' {
		text = end + text
	}
	return slices.Concat(head, []byte(text+end), f.Bytes[at:])
}

// dropLines takes lines out, the last one included.
func (f *File) dropLines(from, to int) []byte {
	return slices.Concat(f.Bytes[:f.offset(from)], f.Bytes[f.offset(to+1):])
}

// offset is where a line begins; past the last one, the file's end.
func (f *File) offset(line int) int {
	at := 0
	for range line - 1 {
		i := bytes.IndexByte(f.Bytes[at:], '\n')
		if i < 0 {
			return len(f.Bytes)
		}
		at += i + 1
	}
	return at
}

func (f *File) dropItem(list *node, i int) []byte {
	item := list.list[i]
	if !f.inBraces(list) {
		return f.dropLines(item.line, item.line)
	}
	from, to := f.at(item), f.at(item)+len(string([]rune(f.line(item.line))[item.column-1:item.column-1+item.width]))
	if i > 0 {
		from = bytes.LastIndexByte(f.Bytes[:from], ',')
	} else if j := bytes.IndexByte(f.Bytes[to:], ','); j >= 0 {
		to += j + 1
		for to < len(f.Bytes) && f.Bytes[to] == ' ' {
			to++
		}
	}
	return slices.Concat(f.Bytes[:from], f.Bytes[to:])
}

// at is the place of a value in the bytes.
func (f *File) at(n *node) int {
	return f.offset(n.line) + len(string([]rune(f.line(n.line))[:n.column-1]))
}

// newPins begins the pins of a role.
func (f *File) newPins(role field.RoleName, node field.NodeName) ([]byte, error) {
	text := fmt.Sprintf("%s: [%s]", role, node)
	place := f.doc.root.get("place")
	switch {
	case place == nil:
		return f.insertLine(len(f.doc.lines)+1, "place:\n  "+text), nil
	case place.isMap && len(place.keys) > 0 && f.inBraces(place):
		first := place.values[place.keys[0]]
		return f.splice(first.keyLine, first.keyColumn, 0, text+", "), nil
	case place.isMap && len(place.keys) > 0:
		first := place.values[place.keys[0]]
		return f.insertLine(first.keyLine, strings.Repeat(" ", first.keyColumn-1)+text), nil
	case strings.TrimSpace(f.line(place.keyLine)) == "place:":
		return f.insertLine(place.keyLine+1, "  "+text), nil
	case place.isMap && f.inBraces(place):
		return f.splice(place.line, place.column+1, 0, text), nil
	}
	return nil, fmt.Errorf("place is written in a way that cannot be edited here; change it in the file")
}

// dropPins takes the pins of a role out altogether, and place with them when it was the last.
func (f *File) dropPins(role field.RoleName) ([]byte, error) {
	place := f.doc.root.get("place")
	list := place.get(string(role))
	if f.inBraces(place) && list.keyLine == place.line { // place: {…} on one line: an empty list is as good
		item := list.list[0]
		return f.splice(item.line, item.column, item.width, ""), nil
	}
	last := list.list[len(list.list)-1]
	end := last.line
	if f.inBraces(list) { // up to its closing bracket
		for end < len(f.doc.lines) && !strings.Contains(f.line(end)[lineFrom(end, last):], "]") {
			end++
		}
	}
	if len(place.keys) == 1 && strings.TrimSpace(f.line(place.keyLine)) == "place:" && list.keyLine == place.keyLine+1 {
		return f.dropLines(place.keyLine, end), nil
	}
	if len(place.keys) == 1 {
		item := list.list[0] // comments stand between: keep them, and an empty list
		if f.inBraces(list) {
			return f.splice(item.line, item.column, item.width, ""), nil
		}
	}
	return f.dropLines(list.keyLine, end), nil
}

// lineFrom is where to look on a line: after the value, on the value's own line.
func lineFrom(line int, n *node) int {
	if line == n.line {
		return n.column - 1
	}
	return 0
}

// setWord replaces or adds a word of a role.
func (f *File) setWord(role field.RoleName, key, word string) ([]byte, error) {
	entry, whole := f.doc.root.find([]string{"roles", string(role)})
	if !whole {
		return nil, fmt.Errorf("there is no role %q in %s", role, f.Name)
	}
	if n := entry.get(key); n != nil && n.variable != "" {
		return f.putVariable(n.variable, key+" of "+string(role), word)
	}
	if n := entry.get(key); n != nil {
		return f.splice(n.line, n.column, n.width, word), nil
	}
	first := entry.values[entry.keys[0]]
	if first.keyLine == entry.keyLine {
		return f.splice(first.keyLine, first.keyColumn, 0, fmt.Sprintf("%s: %s, ", key, word)), nil
	}
	return f.insertLine(first.keyLine, fmt.Sprintf("%s%s: %s", strings.Repeat(" ", first.keyColumn-1), key, word)), nil
}

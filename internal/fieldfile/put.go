package fieldfile

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
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

// nodeEntry finds the entry of a node by its name, or by the name of its whole range; -1 where it is inside a range.
func (f *File) nodeEntry(name string) (int, error) {
	list := f.doc.root.get("nodes")
	if list == nil {
		return 0, fmt.Errorf("the file has no nodes")
	}
	for i, entry := range list.list {
		word, _ := entry.get("name").text()
		if word == name {
			return i, nil
		}
		if names, err := namesOf(entry); err == nil && slices.Contains(names, name) {
			if len(names) == 1 || entry.get("set") != nil {
				return i, nil
			}
			return -1, nil
		}
	}
	return 0, fmt.Errorf("the file has no node %s", name)
}

// divide gives a node of a range an entry of its own; what is left of the range stays before and after it.
func (f *File) divide(name string) ([]byte, error) {
	list := f.doc.root.get("nodes")
	for i, entry := range list.list {
		word, _ := entry.get("name").text()
		names, err := field.ExpandRange(word)
		at := slices.Index(names, name)
		if err != nil || at < 0 {
			continue
		}
		from, to, err := f.itemLines(list, i)
		if err != nil {
			return nil, err
		}
		var parts [][2]int
		if at > 0 {
			parts = append(parts, [2]int{0, at - 1})
		}
		parts = append(parts, [2]int{at, at})
		if at < len(names)-1 {
			parts = append(parts, [2]int{at + 1, len(names) - 1})
		}
		ranges := []string{word} // the addresses are ranges too
		if address, ok := entry.get("address").text(); ok {
			ranges = append(ranges, address)
		}
		if addresses := entry.get("addresses"); addresses != nil {
			for _, network := range addresses.keys {
				if address, ok := addresses.get(network).text(); ok {
					ranges = append(ranges, address)
				}
			}
		}
		text := string(f.Bytes[f.offset(from):f.offset(to+1)])
		if !strings.HasSuffix(text, "\n") {
			text += "\n"
		}
		var out strings.Builder
		for _, p := range parts {
			one := text
			for _, word := range ranges {
				one = strings.Replace(one, word, partOf(word, p[0], p[1]), 1)
			}
			out.WriteString(one)
		}
		return slices.Concat(f.Bytes[:f.offset(from)], []byte(out.String()), f.Bytes[f.offset(to+1):]), nil
	}
	return nil, fmt.Errorf("the file has no node %s", name)
}

// partOf writes the part of a range from one place to another, both counted from 0.
func partOf(word string, from, to int) string {
	open, end := strings.IndexByte(word, '{'), strings.IndexByte(word, '}')
	low, _ := strconv.Atoi(word[open+1 : strings.Index(word, "..")])
	if from == to {
		return word[:open] + strconv.Itoa(low+from) + word[end+1:]
	}
	return fmt.Sprintf("%s{%d..%d}%s", word[:open], low+from, low+to, word[end+1:])
}

// itemLines gives the lines of an item of a list that is written with dashes.
func (f *File) itemLines(list *node, i int) (from, to int, err error) {
	item := list.list[i]
	line := item.line
	if item.isMap && len(item.keys) > 0 {
		line = item.values[item.keys[0]].keyLine
		for _, k := range item.keys {
			line = min(line, item.values[k].keyLine)
		}
	}
	text := f.line(line)
	if !strings.HasPrefix(strings.TrimSpace(text), "-") {
		return 0, 0, fmt.Errorf("line %d is written in a way that cannot be edited here; change it in the file", line)
	}
	return line, f.below(line, indentOf(text)), nil
}

// below gives the last line that belongs to what begins on a line: those that are indented further, without blank lines
// and comments at their end.
func (f *File) below(line, indent int) int {
	last := line
	for l := line + 1; l <= len(f.doc.lines); l++ {
		text := strings.TrimSpace(f.line(l))
		if text == "" || strings.HasPrefix(text, "#") && indentOf(f.line(l)) <= indent {
			continue
		}
		if indentOf(f.line(l)) <= indent {
			break
		}
		if !strings.HasPrefix(text, "#") {
			last = l
		}
	}
	return last
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// value finds the bytes of the value of a key: from after the colon and its blanks, to its end on the same line. block
// says that it stands on the lines below instead.
func (f *File) value(n *node, flow bool) (from, to int, block bool) {
	key := f.keyAt(n)
	colon := key + bytes.IndexByte(f.Bytes[key:], ':')
	from = colon + 1
	for from < len(f.Bytes) && f.Bytes[from] == ' ' {
		from++
	}
	if from >= len(f.Bytes) || f.Bytes[from] == '\n' || f.Bytes[from] == '\r' || f.Bytes[from] == '#' {
		return colon + 1, colon + 1, n.isMap || n.isList
	}
	if f.Bytes[from] == '|' || f.Bytes[from] == '>' {
		return from, from, true
	}
	return from, f.endOf(from, flow), false
}

// endOf finds where a value that begins there ends: at its closing bracket or quote, or, where it is plain, before a
// comment, the line's end or, in brackets, the next comma.
func (f *File) endOf(from int, flow bool) int {
	data := f.Bytes
	switch data[from] {
	case '"', '\'':
		for i := from + 1; i < len(data); i++ {
			if data[i] == '\\' && data[from] == '"' {
				i++
			} else if data[i] == data[from] {
				if data[from] == '\'' && i+1 < len(data) && data[i+1] == '\'' {
					i++
					continue
				}
				return i + 1
			}
		}
	case '{', '[':
		depth := 0
		for i := from; i < len(data); i++ {
			switch data[i] {
			case '{', '[':
				depth++
			case '}', ']':
				if depth--; depth == 0 {
					return i + 1
				}
			case '"', '\'':
				i = f.endOf(i, true) - 1
			}
		}
	}
	end := from
	for i := from; i < len(data) && data[i] != '\n' && data[i] != '\r'; i++ {
		if data[i] == '#' && data[i-1] == ' ' || flow && (data[i] == ',' || data[i] == '}' || data[i] == ']') {
			break
		}
		if data[i] != ' ' {
			end = i + 1
		}
	}
	return end
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

func (f *File) parentOf(n *node) (*node, string) {
	var found *node
	var name string
	var walk func(at *node)
	walk = func(at *node) {
		for _, k := range at.keys {
			if at.values[k] == n {
				found, name = at, k
			}
			walk(at.values[k])
		}
		for _, item := range at.list {
			walk(item)
		}
	}
	walk(f.doc.root)
	return found, name
}

// listBelow is below for a list whose dashes are not indented further than its key.
func (f *File) listBelow(n *node, indent int) int {
	last := n.keyLine
	if !n.isList || f.inBraces(n) {
		return last
	}
	for _, item := range n.list {
		if item.line > 0 && indentOf(f.line(item.line)) == indent {
			last = max(last, f.below(item.line, indent))
		}
	}
	return last
}

// commentsAbove is where the comment begins that stands right above a line, at its own indentation, and so speaks of it.
func (f *File) commentsAbove(line int) int {
	for line > 1 {
		above := f.line(line - 1)
		if !strings.HasPrefix(strings.TrimSpace(above), "#") || indentOf(above) != indentOf(f.line(line)) {
			break
		}
		line--
	}
	return line
}

// keyAt is the place of a value's key in the bytes.
func (f *File) keyAt(n *node) int {
	return f.offset(n.keyLine) + len(string([]rune(f.line(n.keyLine))[:n.keyColumn-1]))
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

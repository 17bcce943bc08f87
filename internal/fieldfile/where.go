package fieldfile

import (
	"bytes"
	"strings"
)

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

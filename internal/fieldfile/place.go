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

// Set gives the file's bytes with a role changed: its count, its pins, its way of spreading. Everything else, comments
// and alignment among it, stays as it was. The bytes have been read back and say what was asked for.
func (f *File) Set(c arrange.Change) ([]byte, error) {
	role := f.Field.Role(c.Role)
	if role == nil {
		return nil, fmt.Errorf("there is no role %q in %s", c.Role, f.Name)
	}
	name := string(c.Role)
	var puts []arrange.Put
	if role.Members != c.Members {
		puts = append(puts, arrange.Put{Path: []string{"roles", name, "members"}, Value: strconv.Itoa(c.Members)})
	}
	if c.Spread != "" && role.Spread != c.Spread {
		puts = append(puts, arrange.Put{Path: []string{"roles", name, "spread"}, Value: string(c.Spread)})
	}
	puts = append(puts, f.pinPuts(name, f.Field.Place[c.Role], c.Pins)...)
	data, err := f.Put(puts...)
	if err != nil {
		return nil, err
	}
	if now, err := f.With(data); err != nil || !samePins(now.Field.Place[c.Role], c.Pins) {
		return nil, fmt.Errorf("the pins of %s are written in a way that cannot be edited here; change them in the file", c.Role)
	}
	return data, nil
}

func samePins(a, b []field.NodeName) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// pinPuts bring the pins of a role to what they shall be, with as few written anew as it takes: one that is to go is replaced by one that is
// to come, else it is taken out; what is left to come is added.
func (f *File) pinPuts(role string, have, want []field.NodeName) []arrange.Put {
	path := func(last ...string) []string { return append([]string{"place", role}, last...) }
	left := slices.Clone(want)
	var gone []int // places of entries that shall not be there
	for i, n := range have {
		if j := slices.Index(left, n); j >= 0 {
			left = slices.Delete(left, j, j+1)
		} else {
			gone = append(gone, i)
		}
	}
	var puts []arrange.Put
	for len(gone) > 0 && len(left) > 0 {
		last := len(gone) - 1
		puts = append(puts, arrange.Put{Path: path(strconv.Itoa(gone[last])), Value: string(left[0])})
		gone, left = gone[:last], left[1:]
	}
	switch {
	case len(gone) > 0 && len(gone) == len(have) && f.aloneInPlace():
		return append(puts, arrange.Put{Path: path(), Value: "[]"})
	case len(gone) > 0 && len(gone) == len(have):
		return append(puts, arrange.Put{Path: path()})
	case len(gone) > 0:
		for _, i := range slices.Backward(gone) {
			puts = append(puts, arrange.Put{Path: path(strconv.Itoa(i))})
		}
	case len(left) > 0 && len(have) == 0:
		texts := make([]string, len(left))
		for i, n := range left {
			texts[i] = string(n)
		}
		list := "[" + strings.Join(texts, ", ") + "]"
		if f.doc.root.get("place") == nil {
			return append(puts, arrange.Put{Path: []string{"place"}, Value: role + ": " + list + "\n"})
		}
		return append(puts, arrange.Put{Path: path(), Value: list})
	default:
		for _, n := range left {
			puts = append(puts, arrange.Put{Path: path("+"), Value: string(n)})
		}
	}
	return puts
}

// aloneInPlace tells whether place holds one role and a comment beside or below it: then an empty list stays, so that the comment does.
func (f *File) aloneInPlace() bool {
	place := f.doc.root.get("place")
	return len(place.keys) == 1 && (strings.TrimSpace(f.line(place.keyLine)) != "place:" || place.values[place.keys[0]].keyLine != place.keyLine+1)
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

// at is the place of a value in the bytes.
func (f *File) at(n *node) int {
	return f.offset(n.line) + len(string([]rune(f.line(n.line))[:n.column-1]))
}

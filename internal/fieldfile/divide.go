package fieldfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
)

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

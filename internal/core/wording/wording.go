// Package wording makes phrases out of names and numbers: lists that stay short, and plurals.
package wording

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// changedWord says of what differs that it was changed: "the command line" becomes "a changed command line".
func Changed(what string) string {
	if rest, ok := strings.CutPrefix(what, "the "); ok && !strings.Contains(rest, " and ") && !strings.Contains(rest, ",") {
		return "a changed " + rest
	}
	return "changes of " + what
}

// Members lists members by name: at most twelve of them.
func Members(names []field.MemberName) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = string(n)
	}
	slices.Sort(texts)
	if len(texts) > 12 {
		return strings.Join(texts[:12], ", ") + fmt.Sprintf(" and %d more", len(texts)-12)
	}
	return strings.Join(texts, ", ")
}

// Counted is a number with its noun: 1 node, 2 nodes.
func Counted(n int, one string) string { return fmt.Sprintf("%d %s", n, Plural(n, one, one+"s")) }

// Nodes lists nodes, as List does.
func Nodes(names []field.NodeName) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = string(n)
	}
	return List(texts)
}

// Roles lists roles, as List does.
func Roles(names []field.RoleName) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = string(n)
	}
	return List(texts)
}

// List gives up to six texts with commas between them; of more, the first and how many others.
func List(texts []string) string {
	switch n := len(texts); {
	case n == 0:
		return "nothing"
	case n > 6:
		return fmt.Sprintf("%s and %d more", texts[0], n-1)
	}
	text := texts[0]
	for _, t := range texts[1:] {
		text += ", " + t
	}
	return cmp.Or(text, "nothing")
}

// And names the first few, with "and" before the last.
func And(names []string) string {
	if len(names) > 4 {
		names = append(slices.Clone(names[:3]), fmt.Sprintf("%d more", len(names)-3))
	}
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return strings.Join(names, "")
}

// Plural chooses between the words for one and for several.
func Plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// FirstOf names the first few, and counts the rest.
func FirstOf(names []string, most int) string {
	if len(names) <= most+1 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

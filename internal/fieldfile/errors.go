package fieldfile

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Error is one thing wrong with a field file: where it stands, what is wrong, and what was expected.
type Error struct {
	File    string `json:"file"`
	Line    int    `json:"line,omitempty"`   // counts from 1; 0 when the file as a whole is meant
	Column  int    `json:"column,omitempty"` // counts characters from 1
	Text    string `json:"text"`
	Hint    string `json:"hint,omitempty"`
	Excerpt string `json:"excerpt,omitempty"`
	width   int
	path    []string // in the field, of a problem of that
}

// Error gives the message with the offending line and a mark below it.
func (e *Error) Error() string {
	var b strings.Builder
	if e.Line > 0 {
		fmt.Fprintf(&b, "%s:%d:%d: %s", e.File, e.Line, e.Column, e.Text)
	} else {
		fmt.Fprintf(&b, "%s: %s", e.File, e.Text)
	}
	if e.Excerpt != "" {
		number := fmt.Sprintf("%5d", e.Line)
		fmt.Fprintf(&b, "\n%s | %s\n%s | %s%s", number, e.Excerpt, strings.Repeat(" ", len(number)),
			strings.Repeat(" ", max(0, e.Column-1)), strings.Repeat("^", max(1, e.width)))
	}
	if e.Hint != "" {
		b.WriteString("\n      " + e.Hint)
	}
	return b.String()
}

// Errors are all the things wrong with a file, in its order.
type Errors []*Error

func (e Errors) Error() string {
	texts := make([]string, 0, len(e))
	for i, one := range e {
		if i == mostErrors {
			texts = append(texts, fmt.Sprintf("and %d more errors", len(e)-i))
			break
		}
		texts = append(texts, one.Error())
	}
	return strings.Join(texts, "\n")
}

// mostErrors is how many errors of one file are printed.
const mostErrors = 20

const longestExcerpt = 160

// at makes an error that stands at a node: its key where the key is meant, else its value.
func (d *document) at(n *node, key bool, text, hint string) *Error {
	line, column, width := n.line, n.column, n.width
	if key && n.keyLine > 0 {
		line, column, width = n.keyLine, n.keyColumn, n.keyWidth
	}
	return d.pointed(line, column, width, text, hint)
}

func (d *document) pointed(line, column, width int, text, hint string) *Error {
	e := &Error{File: d.name, Line: line, Column: column, Text: text, Hint: hint, width: width}
	if line >= 1 && line <= len(d.lines) {
		e.Excerpt = printable(d.lines[line-1])
		if utf8.RuneCountInString(e.Excerpt) > longestExcerpt {
			e.Excerpt = string([]rune(e.Excerpt)[:longestExcerpt]) + "…"
		}
		if column > longestExcerpt {
			e.Excerpt = ""
		}
		e.width = min(max(1, width), max(1, utf8.RuneCountInString(e.Excerpt)-column+1))
	}
	return e
}

// printable keeps control characters, tabs among them, from reaching a terminal or shifting the mark.
func printable(line string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || (r >= 0x80 && r < 0xa0) {
			return ' '
		}
		return r
	}, line)
}

func sorted(errs Errors) Errors {
	slices.SortStableFunc(errs, func(a, b *Error) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return errs
}

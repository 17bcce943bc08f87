package plan

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// Only leaves the steps that are about roles, nodes or members of those names. A word that no step is about is an error.
func (r *Review) Only(words []string) error {
	about := func(s Step, word string) bool {
		return word == string(s.Role) || word == string(s.Node) || word == string(s.Member) || word == string(s.Zone)
	}
	for _, word := range words {
		if !slices.ContainsFunc(r.Steps, func(s Step) bool { return about(s, word) }) {
			var known []string
			for _, s := range r.Steps {
				known = append(known, string(s.Role), string(s.Node), string(s.Member))
			}
			if near := field.Nearest(word, known); near != "" {
				return fmt.Errorf("no step is about %q; did you mean %q?", word, near)
			}
			return fmt.Errorf("no step is about %q", word)
		}
	}
	r.Steps = slices.DeleteFunc(r.Steps, func(s Step) bool {
		return !slices.ContainsFunc(words, func(word string) bool { return about(s, word) })
	})
	r.Expected = nil // it was that of all
	r.Notices = slices.DeleteFunc(r.Notices, func(n Notice) bool {
		return !slices.ContainsFunc(r.Steps, func(s Step) bool { return s.Role == n.Role })
	})
	r.Lasting = nil
	for _, s := range r.Steps {
		if s.Lasts {
			r.Lasting = append(r.Lasting, s.Text)
		}
	}
	return nil
}

// Markdown tells the review as a table of its steps, to be read where a change is asked for.
func (r *Review) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "## What deploying %s would change\n\n", r.Field)
	if r.Empty() && len(r.Missing) == 0 {
		b.WriteString("Nothing: it is as the draft wants it.\n")
		return b.String()
	}
	number := 0
	for _, part := range r.Parts() {
		fmt.Fprintf(&b, "### %s\n\n| | step | member | node | takes |\n| ---: | --- | --- | --- | ---: |\n", cell(r.Title(part)))
		for _, s := range part {
			number++
			takes := ""
			if s.Takes > 0 {
				takes = field.Brief(s.Takes)
			}
			fmt.Fprintf(&b, "| %d | %s | %s | %s | %s |\n", number, cell(s.Text), s.Member, s.Node, takes)
		}
		b.WriteString("\n")
		for _, s := range part {
			for _, file := range s.Files {
				fmt.Fprintf(&b, "%s, %s:\n\n```diff\n", s.Member, file.Name)
				for _, l := range file.Lines {
					fmt.Fprintf(&b, "%s\n", strings.TrimRight(strings.Replace(l.Mark, "…", "@@ … @@", 1)+l.Text, " "))
				}
				b.WriteString("```\n\n")
			}
		}
	}
	for _, u := range r.Unplaced {
		fmt.Fprintf(&b, "- **%s fits nowhere**: %s\n", u.Member, cell(u.Why))
	}
	for _, m := range r.Missing {
		fmt.Fprintf(&b, "- **missing**: %s\n", cell(m))
	}
	if r.Expected.Any() {
		fmt.Fprintf(&b, "It takes: %s.\n", r.Expected.Whole())
	}
	for _, part := range r.Afterwards() {
		fmt.Fprintf(&b, "\n### %s\n\n", part.Title)
		for _, text := range part.Texts {
			fmt.Fprintf(&b, "- %s\n", cell(text))
		}
	}
	return b.String()
}

// Part is a title with what stands below it.
type Part struct {
	Title string
	Texts []string
}

// Afterwards is what a review says besides its steps: what clients notice, and what cannot be undone.
func (r *Review) Afterwards() []Part {
	var parts []Part
	if len(r.Notices) > 0 {
		p := Part{Title: "What clients notice"}
		for _, n := range r.Notices {
			p.Texts = append(p.Texts, r.Notice(n))
		}
		parts = append(parts, p)
	}
	if len(r.Lasting) > 0 {
		parts = append(parts, Part{"What cannot be undone", r.Lasting})
	}
	return parts
}

// cell is a text that cannot end a cell of a table.
func cell(text string) string {
	return strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;").Replace(text)
}

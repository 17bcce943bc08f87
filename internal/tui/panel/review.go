package panel

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// Body is the lines of a review. They depend on nothing but what they are made of, so that they need not be made for every
// frame.
type Body struct {
	field string
	lines []line
	steps []int // the lines at which steps begin
	of    []int // which steps of the review those are
}

// Step gives which step of the review is the i-th that is shown; -1 where there is none.
func (b Body) Step(i int) int {
	if i < 0 || i >= len(b.of) {
		return -1
	}
	return b.of[i]
}

// Steps is how many steps are shown.
func (b Body) Steps() int { return len(b.steps) }

// Near gives the step that is shown nearest to a line, of those that are not before it where there are some.
func (b Body) Near(line int) int {
	i, _ := slices.BinarySearch(b.steps, line)
	return min(i, len(b.steps)-1)
}

// Reach gives the first and the last line that must be in sight for a step to be seen whole: with its title, where it is the first below one.
func (b Body) Reach(i int) (from, to int) {
	if i < 0 || i >= len(b.steps) {
		return 0, 0
	}
	from, to = b.steps[i], b.steps[i]
	for from > 0 && b.lines[from-1].head && (b.lines[from-1].text != "" || i == 0) {
		from--
	}
	for to+1 < len(b.lines) && !b.lines[to+1].head && b.lines[to+1].mark == "" {
		to++
	}
	return from, to
}

// Review draws a review over the board, with the cursor on one of its steps. From is the first line shown; it gives how many lines there are.
func Review(g *grid.Grid, k theme.Theme, b Body, foot string, from, at int) (lines, shown int) {
	all := b.lines
	if at >= 0 && at < len(b.steps) {
		all = slices.Clone(all)
		l := &all[b.steps[at]]
		l.here, l.style = true, l.style.Strong()
	}
	return len(all), frame(g, k, fmt.Sprintf("Review: what deploying %s would change", b.field), foot, all, from)
}

// about tells whether a step is about all the words: its member, role, node or zone, or what its text says.
func about(s plan.Step, words []string) bool {
	text := strings.ToLower(fmt.Sprint(s.Text, " ", s.Member, " ", s.Role, " ", s.Node, " ", s.Zone))
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
}

// ReviewBody makes the lines of a review for a screen of that width; with words, of the steps that are about all of them.
func ReviewBody(width int, k theme.Theme, r *plan.Review, findings []finding.Finding, words string) Body {
	var all []line
	var steps, of []int
	for _, f := range findings {
		style := k.In(k.Warm)
		if f.Severity == finding.Error {
			style = k.In(k.Fail)
		}
		for _, text := range grid.Wrap(fmt.Sprintf("%s: %s", f.Severity, f.Text), min(width-2, wideFrame)-4) {
			all = append(all, line{text: text, style: style, head: true})
		}
	}
	if len(findings) > 0 {
		all = append(all, line{head: true})
	}
	said := func(mark, text, right string, style grid.Style) {
		room := min(width-2, wideFrame) - 8
		if right != "" {
			room -= grid.Width(right) + 1
		}
		for i, part := range grid.Wrap(text, room) {
			if i > 0 {
				mark, right = "", ""
			}
			all = append(all, line{mark: mark, text: part, right: right, style: style})
		}
	}
	wrapped := func(mark, text string, style grid.Style) { said(mark, text, "", style) }
	if r.Quick {
		return Body{field: r.Field, lines: append(all, line{text: "Working out what deploying would change …", style: k.Quiet(), head: true})}
	}
	number, every := 0, len(r.Steps)
	chosen := strings.Fields(strings.ToLower(words))
	if len(chosen) > 0 {
		n := 0
		for _, s := range r.Steps {
			if about(s, chosen) {
				n++
			}
		}
		all = append(all, line{text: fmt.Sprintf("%d of %d steps: %s", n, every, words), style: k.In(k.Act), head: true}, line{head: true})
	}
	first := true
	for _, part := range r.Parts() {
		begin := number
		number += len(part)
		if len(chosen) > 0 && !slices.ContainsFunc(part, func(s plan.Step) bool { return about(s, chosen) }) {
			continue
		}
		if !first {
			all = append(all, line{head: true})
		}
		first = false
		for _, words := range grid.Wrap(r.Title(part), min(width-2, wideFrame)-4) {
			all = append(all, line{text: words, style: k.Quiet(), head: true})
		}
		if part[0].Kind == plan.Prepare { // one line says it for all of them
			wrapped(string(k.Or('·', '.')), prepare(part), k.Quiet())
			continue
		}
		for i, s := range part {
			if !about(s, chosen) {
				continue
			}
			mark, style := "", k.Text()
			switch s.Kind {
			case plan.Start:
				mark = string(k.Or('○', '+'))
			case plan.Change:
				mark = "~"
			case plan.Free:
				mark, style = string(k.Or('·', '.')), k.Quiet()
			case plan.Take, plan.Forget:
				mark, style = string(k.Or('✖', 'x')), k.In(k.Fail)
			}
			takes := ""
			if s.Takes > 0 {
				takes = field.Brief(s.Takes)
			}
			steps, of = append(steps, len(all)), append(of, begin+i)
			said(mark, s.Text, takes, style)
		}
	}
	if r.Expected.Any() {
		all = append(all, line{head: true})
		wrapped("", "It takes: "+r.Expected.Whole()+".", k.Text())
	}
	for _, part := range r.Afterwards() {
		all = append(all, line{head: true}, line{text: part.Title, style: k.Quiet(), head: true})
		for _, text := range part.Texts {
			wrapped(string(k.Or('·', '.')), text, k.Text())
		}
	}
	for _, u := range r.Unplaced {
		wrapped("!", fmt.Sprintf("%s fits nowhere: %s", u.Member, u.Why), k.In(k.Fail))
	}
	for _, m := range r.Missing {
		wrapped("!", m, k.In(k.Fail))
	}
	if len(r.Pending) > 0 && !r.Empty() {
		all = append(all, line{head: true})
	}
	for _, p := range r.Pending {
		wrapped(string(k.Or('◐', 'o')), p.String(), k.In(k.Warm))
	}
	if r.Empty() {
		all = append(all, line{text: "The field is as the draft wants it: nothing to change.", style: k.Text(), head: true})
	}
	return Body{field: r.Field, lines: all, steps: steps, of: of}
}

// prepare words the nodes that get an agent.
func prepare(steps []plan.Step) string {
	come := slices.DeleteFunc(slices.Clone(steps), func(s plan.Step) bool { return !s.Comes })
	steps = slices.DeleteFunc(slices.Clone(steps), func(s plan.Step) bool { return s.Comes })
	var text []string
	if len(steps) > 0 {
		text = append(text, start(steps))
	}
	if len(come) > 0 {
		var names []string
		for _, s := range come {
			names = append(names, string(s.Node))
		}
		text = append(text, fmt.Sprintf("wait for %s to join as %s", wording.Plural(len(come), "a machine", "machines"), wording.And(names)))
	}
	return strings.Join(text, "; ")
}

func start(steps []plan.Step) string {
	const most = 24
	nodes := make([]string, min(len(steps), most))
	for i := range nodes {
		nodes[i] = string(steps[i].Node)
	}
	if len(nodes) == 1 {
		return "start the agent of " + nodes[0]
	}
	text := "start the agents of " + strings.Join(nodes, ", ")
	if len(steps) > most {
		text += fmt.Sprintf(" and %d more nodes", len(steps)-most)
	}
	return text
}

package panel

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/tui/theme"

	"charm.land/bubbles/v2/key"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// line is one line of a panel that lies over the board.
type line struct {
	mark  string
	text  string
	style grid.Style
	head  bool

	beside *line // in a second column
}

// wideFrame is how wide a panel gets at most; with two columns, wider.
const wideFrame = 96

// frame draws a panel in the middle of the screen and gives how many lines of its content it could show.
func frame(g *grid.Grid, k theme.Theme, title, foot string, lines []line, from int) (shown int) {
	w := min(g.W-2, wideFrame)
	for _, l := range lines {
		if l.beside != nil {
			w = min(g.W-2, 124)
		}
	}
	h := min(g.H-2, len(lines)+4)
	x, y := (g.W-w)/2, max(1, (g.H-h)/2)
	g.Fill(x, y, w, h, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
	g.Fill(x, y, w, 1, ' ', grid.Style{Fg: k.Gold, Bg: k.GoldGlow})
	g.Clip(x+2, y, w-4, title, k.In(k.Gold).Strong())
	shown = max(0, h-4)
	put := func(l line, x, y, w int) {
		if l.head {
			g.Clip(x, y, w, l.text, l.style)
			return
		}
		g.Clip(x, y, 12, l.mark, k.In(k.Act))
		skip := 1 + max(2, grid.Width(l.mark))
		g.Clip(x+skip, y, w-skip-1, l.text, l.style)
	}
	for i := range shown {
		if from+i >= len(lines) {
			break
		}
		l := lines[from+i]
		if l.beside == nil {
			put(l, x+2, y+2+i, w-4)
			continue
		}
		put(l, x+2, y+2+i, w/2-3)
		put(*l.beside, x+w/2, y+2+i, w/2-2)
	}
	if more := len(lines) - from - shown; more > 0 {
		foot = fmt.Sprintf("%s   (down: %d more)", foot, more)
	}
	g.Clip(x+2, y+h-1, w-4, foot, k.Quiet())
	return shown
}

// Body is the lines of a review. They depend on nothing but what they are made of, so that they need not be made for every
// frame.
type Body struct {
	field string
	lines []line
}

// Review draws a review over the board. From is the first line shown; it gives how many lines there are.
func Review(g *grid.Grid, k theme.Theme, b Body, foot string, from int) (lines, shown int) {
	return len(b.lines), frame(g, k, fmt.Sprintf("Review: what deploying %s would change", b.field), foot, b.lines, from)
}

// ReviewBody makes the lines of a review for a screen of that width.
func ReviewBody(width int, k theme.Theme, r *plan.Review, findings []finding.Finding) Body {
	var all []line
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
	wrapped := func(mark, text string, style grid.Style) {
		for i, part := range grid.Wrap(text, min(width-2, wideFrame)-8) {
			if i > 0 {
				mark = ""
			}
			all = append(all, line{mark: mark, text: part, style: style})
		}
	}
	if r.Quick {
		return Body{r.Field, append(all, line{text: "Working out what deploying would change …", style: k.Quiet(), head: true})}
	}
	for i, part := range r.Parts() {
		if i > 0 {
			all = append(all, line{head: true})
		}
		for _, words := range grid.Wrap(r.Title(part), min(width-2, wideFrame)-4) {
			all = append(all, line{text: words, style: k.Quiet(), head: true})
		}
		if part[0].Kind == plan.Prepare { // one line says it for all of them
			wrapped(string(k.Or('·', '.')), prepare(part), k.Quiet())
			continue
		}
		for _, s := range part {
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
			wrapped(mark, s.Text, style)
		}
	}
	if r.Expected.Any() {
		all = append(all, line{head: true})
		wrapped("", "It takes: "+r.Expected.Whole()+".", k.Text())
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
	return Body{r.Field, all}
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

// Keys draws all keys, grouped; in two columns where there is room for them.
func Keys(g *grid.Grid, k theme.Theme, groups []KeyGroup, from int) (lines, shown int) {
	column := func(groups []KeyGroup) []line {
		var all []line
		for i, group := range groups {
			if i > 0 {
				all = append(all, line{head: true})
			}
			all = append(all, line{text: group.Name, style: k.Quiet(), head: true})
			for _, b := range group.Keys {
				all = append(all, line{mark: fmt.Sprintf("%-6s", b.Help().Key), text: b.Help().Desc, style: k.Text()})
			}
		}
		return all
	}
	all := column(groups)
	if g.W >= 122 {
		left, right := halves(all)
		for i, l := range right {
			if i == len(left) {
				left = append(left, line{head: true})
			}
			beside := l
			left[i].beside = &beside
		}
		all = left
	}
	legend := "● lit, ◉ leading, ◐ warming, ◒ draining, ○ planned, ✖ dark, ◌ stopped, ? unknown"
	signs := "┊○┊ only in the draft, ╱●╱ the draft takes it away, ⊥ pinned to its node by hand"
	if k.ASCII {
		r := strings.NewReplacer("●", "*", "◉", "@", "◐", "o", "◒", "v", "○", ".", "✖", "x", "◌", "-", "┊", ":", "╱", "/", "⊥", "!")
		legend, signs = r.Replace(legend), r.Replace(signs)
	}
	for _, text := range []string{"", legend, signs} {
		for _, part := range grid.Wrap(text, min(g.W-2, wideFrame)-4) {
			all = append(all, line{text: part, style: k.Quiet(), head: true})
		}
		if text == "" {
			all = append(all, line{head: true})
		}
	}
	return len(all), frame(g, k, "Keys", "esc closes", all, from)
}

// halves puts lines into two columns of nearly the same height. A group that is divided says its name in both.
func halves(all []line) (left, right []line) {
	at := (len(all) + 1) / 2
	name := 0 // of the group that is divided
	for i := range all[:at] {
		if all[i].head && all[i].text != "" {
			name = i
		}
	}
	switch {
	case all[at].head && all[at].text == "":
		return all[:at:at], slices.Clone(all[at+1:])
	case at-name < 4: // little of it would stand on the left
		return all[:max(0, name-1):max(0, name-1)], slices.Clone(all[name:])
	}
	again := all[name]
	again.text += ", further"
	return all[:at:at], append([]line{again}, all[at:]...)
}

// KeyGroup is a set of keys that belong together.
type KeyGroup struct {
	Name string
	Keys []key.Binding
}

// Ask draws a question that waits for an answer.
func Ask(g *grid.Grid, k theme.Theme, title string, text []string, lost bool, foot string) (lines, shown int) {
	var all []line
	for i, t := range text {
		style := k.Text()
		if lost && i == 0 {
			style = k.In(k.Fail)
		}
		for _, part := range grid.Wrap(t, min(g.W-2, wideFrame)-6) {
			all = append(all, line{text: part, style: style, head: true})
		}
		if t == "" {
			all = append(all, line{head: true})
		}
	}
	return len(all), frame(g, k, title, foot, all, 0)
}

// Answer is one of the things that can be said to a question.
type Answer struct{ Word, Costs string }

// Question draws what the field asks, with the answers that there are.
func Question(g *grid.Grid, k theme.Theme, title string, why []string, answers []Answer, chosen int, foot string) (lines, shown int) {
	var all []line
	w := min(g.W-2, wideFrame) - 6
	text := grid.Wrap(title, w)
	for _, t := range text {
		all = append(all, line{text: t, style: k.Text(), head: true})
	}
	for _, reason := range why {
		for _, t := range grid.Wrap(reason, w) {
			all = append(all, line{text: t, style: k.Quiet(), head: true})
		}
	}
	for i, a := range answers {
		all = append(all, line{head: true})
		mark, style := "  ", k.Text()
		if i == chosen {
			mark, style = string(k.Or('▸', '>'))+" ", k.In(k.Act).Strong()
		}
		for j, t := range grid.Wrap(a.Word, w-2) {
			if j > 0 {
				mark = "  "
			}
			all = append(all, line{text: mark + t, style: style, head: true})
		}
		for _, t := range grid.Wrap(a.Costs, w-2) {
			all = append(all, line{text: "  " + t, style: k.In(k.Fail), head: true})
		}
	}
	return len(all), frame(g, k, "An answer is needed", foot, all, 0)
}

// Findings draws what is wrong or risky in the draft, each with the edits that mend it, beside the board.
func Findings(g *grid.Grid, k theme.Theme, all []finding.Finding, chosen, edit int, preview string, a board.Area) {
	g.Fill(a.X, a.Y, a.W, a.H, ' ', grid.Style{Fg: k.Paper, Bg: k.Ink})
	for y := a.Y; y < a.Y+a.H; y++ {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	p := &writer{g: g, k: k, x: a.X + 2, y: a.Y, w: a.W - 3, h: a.Y + a.H}
	first := max(0, chosen-2)
	if a.H > 8 {
		p.title(fmt.Sprintf("%d found in the draft", len(all)), "")
	} else { // no room for those around it
		first = chosen
	}
	for i := first; i < len(all); i++ { // the chosen one is always in sight
		f := all[i]
		color := k.Warm
		if f.Severity == finding.Error {
			color = k.Fail
		}
		mark := " "
		if i == chosen && edit < 0 {
			mark = string(k.Or('▸', '>'))
		}
		if !p.left() {
			return
		}
		g.Text(p.x, p.y, mark, k.In(k.Act).Strong())
		inner := &writer{g: g, k: k, x: p.x + 2, y: p.y, w: p.w - 2, h: p.h}
		switch {
		case f.Accepted != "":
			color = k.Dim
		case f.Severity == finding.Hint:
			color = k.Paper
		}
		inner.text(fmt.Sprintf("%s: %s", f.Severity, f.Text), color)
		if f.Accepted != "" {
			inner.text("Accepted: "+f.Accepted, k.Dim)
		}
		if i == chosen {
			if f.Mend != "" && len(f.Edits) == 0 {
				inner.text("What to do: "+f.Mend+".", k.Dim)
			}
			for j, e := range f.Edits {
				if !inner.left() {
					break
				}
				style := k.Text()
				if j == edit {
					style = k.In(k.Act).Strong()
					g.Text(p.x, inner.y, string(k.Or('▸', '>')), style)
				}
				g.Clip(inner.x, inner.y, inner.w, e.Text, style)
				inner.y++
				if j == edit && preview != "" {
					inner.text(preview+" Enter makes it.", k.Act)
				}
			}
		}
		p.y = inner.y + 1
	}
}

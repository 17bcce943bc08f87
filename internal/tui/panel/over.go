package panel

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/tui/theme"

	"charm.land/bubbles/v2/key"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// line is one line of a panel that lies over the board.
type line struct {
	mark  string
	text  string
	style grid.Style
	head  bool
	right string // at the right edge, where there is room for it
	here  bool   // the cursor stands there

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
		if l.here {
			g.Clip(x-1, y, 1, string(k.Or('▸', '>')), k.In(k.Act).Strong())
		}
		g.Clip(x, y, 12, l.mark, k.In(k.Act))
		skip := 1 + max(2, grid.Width(l.mark))
		g.Clip(x+skip, y, w-skip-1, l.text, l.style)
		g.Clip(x+w-grid.Width(l.right), y, grid.Width(l.right), l.right, k.Quiet())
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

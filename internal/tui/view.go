package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/key"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/tide"
)

func (a *app) View() tea.View {
	g := a.draw()
	v := tea.NewView(g.String())
	v.AltScreen = true
	v.WindowTitle = "Lantern Field"
	return v
}

// The smallest screen on which a board makes sense.
const leastW, leastH = 24, 6

// draw draws the whole screen.
func (a *app) draw() *grid.Grid {
	g := grid.New(a.w, a.h, a.look.Page())
	if a.w < leastW || a.h < leastH {
		lit, want := a.snap.Lit()
		g.Clip(0, 0, a.w, fmt.Sprintf("%d/%d lit %s", lit, want, a.model.Snap.State), a.look.Text())
		g.Clip(0, 1, a.w, "make me larger", a.look.Quiet())
		return g
	}
	top := a.drawVerdict(g)
	tideHeight := tide.Height(a.h)
	bottom := a.h - 1 - tideHeight
	notice := bottom - 1
	a.drawNotice(g, notice)
	area := board.Area{X: 0, Y: top + 1, W: a.w, H: notice - top - 1}
	if a.w >= 116 && area.H >= 12 {
		detail := min(44, a.w*3/10)
		area.W -= detail
		panel.Detail(g, a.look, a.model, a.cursor, a.now, board.Area{X: area.W, Y: area.Y, W: detail, H: area.H})
	}
	board.Draw(g, a.look, a.model, area, a.cursor)
	lit, want := a.model.Snap.Lit()
	tide.Draw(g, a.look, a.tide, lit, want, a.now, tide.Area{X: 0, Y: bottom, W: a.w, H: tideHeight})
	if a.mode != onBoard {
		g.Fade(grid.Style{Fg: a.look.Faint, Bg: a.look.Ink})
	}
	a.drawKeyLine(g, a.h-1)
	switch a.mode {
	case inReview:
		foot := "esc goes back, nothing has been done"
		switch {
		case a.deployable():
			foot = "d deploys this     esc goes back"
		case finding.Worst(a.findings):
			foot = "it cannot be deployed before the errors are mended     esc goes back"
		}
		a.lines, a.shown = panel.Review(g, a.look, a.review, a.findings, foot, a.scroll)
	case inKeys:
		a.lines, a.shown = panel.Keys(g, a.look, a.keys.groups(), a.scroll)
	}
	return g
}

// drawVerdict writes the field's name, the draft's unsent changes, the state and the verdict, and gives the line of the
// views. It always takes the same lines, so that nothing below moves when the verdict grows.
func (a *app) drawVerdict(g *grid.Grid) int {
	k, snap := a.look, a.model.Snap
	name := snap.Field
	if name == "" && a.draft != nil {
		name = a.draft.Name
	}
	x := g.Clip(1, 0, a.w-2, name, k.In(k.Gold).Strong())
	if m := a.model; m.Added+m.Removed+m.Changed > 0 && snap.State != engine.StateDraft {
		text := "draft"
		for _, c := range []struct {
			sign string
			n    int
		}{{"+", m.Added}, {"-", m.Removed}, {"~", m.Changed}} {
			if c.n > 0 {
				text += fmt.Sprintf(" %s%d", c.sign, c.n)
			}
		}
		x = g.Clip(x+3, 0, a.w-x-3, text, k.In(k.Act))
	}
	x = g.Clip(x+3, 0, a.w-x-3, string(snap.State), k.In(k.StateColor(snap.State)).Strong())
	clock := a.now.Format("15:04:05")
	if a.w < 60 {
		clock = ""
	}
	room := a.w - x - 3 - len(clock) - 2
	g.Text(a.w-1-len(clock), 0, clock, k.Quiet())
	row := 2
	if a.w < 100 {
		row = min(3, a.h/6)
	}
	rest := snap.Verdict
	if beside := grid.Wrap(rest, room); room >= leastBeside && len(beside) > 0 {
		g.Text(x+3, 0, beside[0], k.Text())
		rest = strings.TrimPrefix(rest, beside[0])
	}
	for i, line := range head(grid.Wrap(rest, a.w-2), row-1) {
		g.Clip(1, 1+i, a.w-2, line, k.Text())
	}
	g.Text(1, row, "Board", k.In(k.Lit).Strong())
	return row
}

// leastBeside is how many cells the verdict must have beside the state to begin there.
const leastBeside = 24

// head keeps the first lines and says when that is not all.
func head(lines []string, n int) []string {
	if n > 0 && len(lines) > n {
		lines = lines[:n]
		lines[n-1] += " …"
	}
	return lines[:min(n, len(lines))]
}

// drawNotice writes the newest answer, or what is wrong with the file, or the first finding, or what to do next.
func (a *app) drawNotice(g *grid.Grid, y int) {
	k := a.look
	text, style := "", k.Text()
	switch {
	case a.message != "" && a.bad:
		text, style = a.message, k.In(k.Fail)
	case a.trouble != "":
		text, style = a.trouble, k.In(k.Fail)
	case a.refused != "":
		text, style = a.refused, k.In(k.Fail)
	case len(a.snap.Problems) > 0:
		text, style = a.snap.Problems[0], k.In(k.Fail)
	case a.message != "":
		text = a.message
	case len(a.findings) > 0:
		f := a.findings[0]
		style = k.In(k.Warm)
		if f.Severity == finding.Error {
			style = k.In(k.Fail)
		}
		text = fmt.Sprintf("%d found in the draft: %s", len(a.findings), f.Text)
	case a.model.Snap.State == engine.StateDraft && a.review != nil:
		text, style = "Nothing runs yet. Press v to see what deploying would do, step by step, and to deploy it.", k.In(k.Act)
	case a.model.Snap.State == engine.StateRetired:
		text, style = "It has been taken down. Press v to deploy it anew.", k.In(k.Act)
	case a.model.Added+a.model.Removed+a.model.Changed > 0 && !a.snap.Rollout.Active:
		text, style = "The draft differs from what runs. Press v to see what deploying it would change.", k.In(k.Act)
	}
	g.Clip(1, y, a.w-2, text, style)
}

// drawKeyLine writes the keys that do something here and now.
func (a *app) drawKeyLine(g *grid.Grid, y int) {
	k := a.look
	type shown struct{ key, word string }
	var all []shown
	add := func(b key.Binding, word string) { all = append(all, shown{b.Help().Key, word}) }
	arrows := string([]rune{k.Or('←', 'h'), k.Or('↓', 'j'), k.Or('↑', 'k'), k.Or('→', 'l')})
	switch a.mode {
	case onBoard:
		all = append(all, shown{arrows, "move"})
		if _, ok := a.role(); ok && a.loaded != nil {
			all = append(all, shown{"+ -", "more or fewer"})
		}
		if len(a.edits.done) > 0 {
			add(a.keys.Undo, "undo")
		}
		if len(a.edits.undone) > 0 {
			add(a.keys.Redo, "redo")
		}
		if a.review != nil {
			add(a.keys.Review, "review and deploy")
		}
		add(a.keys.Keys, "all keys")
		add(a.keys.Quit, "quit")
	case inReview:
		if a.deployable() {
			add(a.keys.Deploy, "deploy this")
		}
		fallthrough
	case inKeys:
		if a.lines > a.shown {
			all = append(all, shown{string([]rune{k.Or('↓', 'j'), k.Or('↑', 'k')}), "scroll"})
		}
		add(a.keys.Close, "back")
	}
	x := 1
	for _, s := range all {
		x = g.Text(x, y, s.key, k.In(k.Act).Strong())
		x = g.Text(x+1, y, s.word, k.Quiet()) + 3
	}
}

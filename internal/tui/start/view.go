package start

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// View draws the questions, and the board beside them.
func (s *starter) View() tea.View {
	v := tea.NewView(s.draw().String())
	v.AltScreen = true
	v.WindowTitle = "Lantern Field"
	return v
}

// leastBoard is how wide the screen must be for a board beside the questions.
const leastBoard = 100

func (s *starter) draw() *grid.Grid {
	k := s.look
	g := grid.New(max(1, s.w), max(1, s.h), k.Page())
	if s.w < 40 || s.h < 12 {
		g.Clip(0, 0, s.w, "make me larger", k.Quiet())
		return g
	}
	wide := s.w
	if s.w >= leastBoard {
		wide = max(46, s.w*2/5)
		s.drawBoard(g, board.Area{X: wide, Y: 0, W: s.w - wide, H: s.h - 1})
	}
	g.Text(1, 0, "A new field", k.In(k.Gold).Strong())
	y := 2
	asked := s.asked()
	for i, q := range asked {
		if y >= s.h-6 {
			break
		}
		if i != s.at {
			style := k.Quiet()
			if i < s.at {
				style = k.Text()
			}
			mark := " "
			if i < s.at {
				mark = string(k.Or('●', '*'))
			}
			g.Text(1, y, mark, k.In(k.Lit))
			g.Clip(3, y, wide*3/5, q.label, style)
			if i < s.at {
				g.Clip(3+wide*3/5, y, wide-4-wide*3/5, q.shown(), k.In(k.Lit))
			}
			y++
			continue
		}
		y = s.drawQuestion(g, q, y, wide)
	}
	y++
	if s.at >= len(asked) {
		y = s.lines(g, y, wide, fmt.Sprintf("Enter writes %s and opens it. Nothing is started before its review has been shown.", s.fileOf(s.question("name").value())), k.In(k.Act).Strong())
		y++
	}
	switch {
	case s.failed != "":
		y = s.lines(g, y, wide, s.failed, k.In(k.Fail))
	case s.bad != "":
		y = s.lines(g, y, wide, s.bad, k.In(k.Fail))
	case s.outcome != nil:
		y = s.drawSays(g, y, wide)
	}
	_ = y
	keys := []string{"enter", "next", "esc", "back"}
	if q := s.now(); q != nil && len(q.options) > 0 {
		arrows := "↓↑"
		if k.ASCII {
			arrows = "down up"
		}
		keys = append([]string{arrows, "choose"}, keys...)
	} else if q == nil {
		keys[1] = "write it"
	}
	if s.at == 0 {
		keys[len(keys)-1] = "leave"
	}
	x := 1
	for i := 0; i < len(keys); i += 2 {
		x = g.Text(x, s.h-1, keys[i], k.In(k.Act).Strong())
		x = g.Text(x+1, s.h-1, keys[i+1], k.Quiet()) + 3
	}
	return g
}

func (s *starter) lines(g *grid.Grid, y, wide int, text string, style grid.Style) int {
	for _, l := range grid.Wrap(text, wide-4) {
		if y < s.h-1 {
			g.Text(3, y, l, style)
			y++
		}
	}
	return y
}

func (s *starter) drawQuestion(g *grid.Grid, q *question, y, wide int) int {
	k := s.look
	g.Set(1, y, k.Or('▸', '>'), k.In(k.Act).Strong())
	g.Clip(3, y, wide-4, q.label, k.In(k.Act).Strong())
	y++
	if len(q.options) == 0 {
		g.Fill(3, y, wide-6, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
		q.line.Draw(g, k, 4, y, wide-8)
		y++
	}
	room := max(3, s.h-y-len(s.asked())-8)
	first := max(0, min(q.at-room/2, len(q.options)-room))
	for i := first; i < len(q.options) && i < first+room; i++ {
		o, style, mark := q.options[i], k.Text(), k.Or('○', '.')
		if i == q.at {
			style, mark = k.In(k.Lit).Strong(), k.Or('●', '*')
		}
		g.Set(4, y, mark, style)
		g.Clip(6, y, wide-8, o.name, style)
		y++
		if i == q.at && o.text != "" {
			for _, l := range grid.Wrap(o.text, wide-10) {
				g.Text(8, y, l, k.Quiet())
				y++
			}
		}
	}
	y = s.lines(g, y, wide, q.help, k.Quiet())
	return y + 1
}

// drawSays says what the field would survive, and what is found in it.
func (s *starter) drawSays(g *grid.Grid, y, wide int) int {
	k := s.look
	style := k.In(k.Lit)
	if !s.outcome.Kept && s.question("where").value() != "one" {
		style = k.In(k.Warm)
		y = s.lines(g, y, wide, "What is asked for cannot be had like this:", k.In(k.Warm).Strong())
	}
	for _, l := range s.outcome.Says {
		y = s.lines(g, y, wide, l, style)
	}
	for _, f := range s.found {
		c := k.Quiet()
		switch f.Severity {
		case finding.Error:
			c = k.In(k.Fail)
		case finding.Risk:
			c = k.In(k.Warm)
		}
		y = s.lines(g, y, wide, fmt.Sprintf("%s: %s", f.Severity, f.Text), c)
	}
	return y
}

func (s *starter) drawBoard(g *grid.Grid, a board.Area) {
	k := s.look
	for y := range a.H {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	if s.model == nil {
		return
	}
	inner := board.Area{X: a.X + 2, Y: 1, W: a.W - 2, H: a.H - 2}
	s.model.Fit(board.Room(inner.W), board.Folds{})
	board.Draw(g, k, s.model, inner, board.Cursor{Role: board.OnPosts, Post: -1}, false)
}

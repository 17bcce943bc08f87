package panel

import (
	"strings"

	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/sheet"
	"lanternfield/internal/tui/theme"
)

// Sheet is what can be said of a thing, with the row that the person stands on.
type Sheet struct {
	Pages []string
	Page  int
	Rows  []sheet.Row
	Row   int
}

// DrawSheet draws it beside the board.
func DrawSheet(g *grid.Grid, k theme.Theme, s Sheet, a board.Area) {
	g.Fill(a.X, a.Y, a.W, a.H, ' ', grid.Style{Fg: k.Paper, Bg: k.Ink})
	for y := a.Y; y < a.Y+a.H; y++ {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	x, y, w := a.X+2, a.Y, a.W-3
	title, next := s.Pages[s.Page], ""
	if len(s.Pages) > 1 {
		next = "tab: " + s.Pages[(s.Page+1)%len(s.Pages)]
		if grid.Width(title)+2+grid.Width(next) > w {
			next = "tab: the other"
		}
		g.Text(x+max(0, w-grid.Width(next)), y, next, k.Quiet())
	}
	g.Clip(x, y, max(1, w-grid.Width(next)-2), title, k.In(k.Gold).Strong())
	if len(s.Rows) == 0 {
		g.Clip(x, y+2, w, "It is no longer in the draft.", k.Quiet())
		return
	}
	label := 8
	for _, r := range s.Rows {
		if r.Kind != sheet.Drop && r.Kind != sheet.More && r.Kind != sheet.Keep {
			label = max(label, min(grid.Width(r.Label), w*2/5))
		}
	}
	help := 3
	lines := a.H - 2 - help
	from := first(s, lines)
	at := y + 1
	for i := from; i < len(s.Rows) && at < y+1+lines; i++ {
		r := s.Rows[i]
		if r.Group != "" {
			if at++; at >= y+1+lines {
				break
			}
			g.Clip(x, at, w, r.Group, k.Quiet())
			if at++; at >= y+1+lines {
				break
			}
		}
		style := k.Text()
		if i == s.Row {
			g.Set(x, at, k.Or('▸', '>'), k.In(k.Act).Strong())
			style = k.In(k.Act).Strong()
		}
		g.Clip(x+2, at, max(label, w-2), r.Label, style)
		if r.Kind != sheet.Drop && r.Kind != sheet.More && r.Kind != sheet.Keep {
			value, vs := r.Value, k.Text()
			if value == "" {
				value, vs = string(k.Or('–', '-')), k.In(k.Faint)
			}
			if i == s.Row {
				vs = vs.Strong()
			}
			g.Fill(x+2+label, at, w-2-label, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Ink})
			end := g.Clip(x+4+label, at, w-4-label, value, vs)
			if r.Note != "" && end+2 < x+w {
				g.Clip(end+2, at, x+w-end-2, r.Note, k.Quiet())
			}
		}
		at++
	}
	row := s.Rows[min(s.Row, len(s.Rows)-1)]
	text := row.Help
	if row.Note != "" && text == "" {
		text = row.Note
	}
	for i, l := range grid.Wrap(text, w) {
		if i < help {
			g.Clip(x, y+a.H-help+i, w, l, k.In(k.Dim))
		}
	}
}

// first is the row that the drawing begins with, so that the one that the person stands on is in sight.
func first(s Sheet, lines int) int {
	used, from := 0, min(s.Row, len(s.Rows)-1)
	for i := from; i >= 0; i-- {
		used++
		if s.Rows[i].Group != "" {
			used += 2
		}
		if used > lines-1 {
			break
		}
		from = i
	}
	return from
}

// Item is one of several things to choose from.
type Item struct{ Name, Text string }

// List draws things to choose from in the middle of the screen; of the chosen one, all that is said of it.
func List(g *grid.Grid, k theme.Theme, title string, items []Item, at int) {
	name := 0
	for _, i := range items {
		name = max(name, grid.Width(i.Name))
	}
	var all []line
	chosen, most := 0, 0
	wide := max(20, min(g.W-2, wideFrame)-8-name-3)
	for i, item := range items {
		parts := grid.Wrap(item.Text, wide)
		most = max(most, len(items)-1+len(parts))
		style, mark := k.Text(), " "
		if i == at {
			style, mark = k.In(k.Act).Strong(), string(k.Or('▸', '>'))
			chosen = len(all)
		}
		text := item.Name
		for grid.Width(text) < name+3 {
			text += " "
		}
		if i != at || len(parts) == 0 {
			all = append(all, line{mark: mark, text: text + item.Text, style: style})
			continue
		}
		for j, part := range parts {
			if j > 0 {
				text, mark = strings.Repeat(" ", name+3), ""
			}
			all = append(all, line{mark: mark, text: text + part, style: style})
		}
	}
	for len(all) < most { // so that it stays where it is
		all = append(all, line{})
	}
	room := min(g.H-2, len(all)+4) - 4
	frame(g, k, title, "enter takes it     esc goes back", all, max(0, min(chosen-room/2, len(all)-room)))
}

// Proposal draws what would move, and why, beside the board that shows it.
func Proposal(g *grid.Grid, k theme.Theme, lines []string, a board.Area) {
	g.Fill(a.X, a.Y, a.W, a.H, ' ', grid.Style{Fg: k.Paper, Bg: k.Ink})
	for y := a.Y; y < a.Y+a.H; y++ {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	p := &writer{g: g, k: k, x: a.X + 2, y: a.Y, w: a.W - 3, h: a.Y + a.H - 2}
	p.title("A placement is proposed", "")
	for i, l := range lines {
		if !p.left() {
			p.h += 2
			p.text("and more", k.Dim)
			break
		}
		if i > 0 {
			p.gap()
		}
		p.text(l, k.Paper)
	}
	p.h = a.Y + a.H
	p.y = max(p.y+1, min(p.h-2, p.y+1))
	p.text("The board shows it. Enter takes it, esc moves nothing.", k.Act)
}

package journal

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	core "lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// Draw draws the lines with the cursor among them. While the past is looked at, what came later is drawn faint.
func (v *View) Draw(g *grid.Grid, k theme.Theme, a board.Area, past time.Time) {
	v.head(g, k, a)
	rows := max(0, a.H-2)
	v.page = rows
	if len(v.shown) == 0 {
		text := "Nothing has happened yet. Deploy the draft, and it is told here."
		if v.Text != "" {
			text = "No line fits. / changes the filter, esc takes it off."
		}
		g.Clip(a.X+1, a.Y+3, a.W-2, text, k.Quiet())
		return
	}
	who := 12
	if a.W >= 100 {
		who = 16
	}
	v.room = max(0, a.W-4-who)
	if a.W >= 50 {
		v.room -= 13
	}
	if l := v.Under(); l != nil && len(l.More) > 0 {
		v.room -= len(plus(l)) + 1
	}
	more := v.more(rows)
	v.top = min(max(0, v.cursor-(rows-len(more))*2/3), max(0, len(v.shown)-rows+len(more)))
	day := ""
	for row, i := 0, v.top; row < rows && i < len(v.shown); row, i = row+1, i+1 {
		l := &v.book.Lines[v.shown[i]]
		y := a.Y + 2 + row
		at := l.At.Local()
		stamp := at.Format("15:04:05.000")
		if now := at.Format("2006-01-02"); now != day && (row == 0 || day != "") {
			if day != "" {
				stamp = at.Format("Jan 2 15:04 ")
			}
			day = now
		}
		if l.About { // not to the millisecond
			stamp = "~" + at.Format("15:04:05")
		}
		v.line(g, k, board.Area{X: a.X, Y: y, W: a.W, H: 1}, l, stamp, who, i == v.cursor, past)
		if i == v.cursor {
			for _, text := range more {
				if row++; row < rows {
					at := 3 + who
					if a.W >= 50 {
						at += 13
					}
					g.Clip(a.X+at, a.Y+2+row, a.W-1-at, text, k.In(k.Plan))
				}
			}
		}
	}
}

// more is what goes on with the line under the cursor, where it is to be shown: what of it did not fit, then the lines that belong to it.
func (v *View) more(rows int) []string {
	l := v.Under()
	if !v.Open || l == nil {
		return nil
	}
	all := slices.Concat(v.broken(l)[1:], l.More)
	return all[:min(len(all), max(0, rows-2))]
}

// broken is what a line says, broken where it does not fit.
func (v *View) broken(l *Line) []string {
	if v.room < 20 || grid.Width(l.Text) <= v.room {
		return []string{l.Text}
	}
	if lines := grid.Wrap(l.Text, v.room); len(lines) > 0 {
		return lines
	}
	return []string{l.Text} // nothing but blanks
}

// plus says how many lines belong to a line.
func plus(l *Line) string { return fmt.Sprintf("+%d", len(l.More)) }

// line draws one line.
func (v *View) line(g *grid.Grid, k theme.Theme, a board.Area, l *Line, stamp string, who int, under bool, past time.Time) {
	quiet, act := k.Quiet(), k.In(k.Act)
	text, mark, light := k.Text(), ' ', act
	from := string(l.Member)
	if from == "" {
		from = cmp.Or(string(l.Role), string(l.Node))
	}
	switch {
	case l.Level == logline.Error && l.Event:
		text, mark = k.In(k.Fail), k.Or('✖', 'x')
	case l.Level == logline.Warning && l.Event:
		text, mark = k.In(k.Warm), k.Or('▲', '!')
	case l.Event:
		mark = k.Or('◆', '*')
	case l.Level == logline.Error: // a program that complains is not yet a member that is dark
		text, mark, light = k.In(k.Plan), k.Or('▴', '!'), k.In(k.Fail)
	case l.Level == logline.Warning:
		text, mark, light = k.In(k.Plan), k.Or('▴', '!'), k.In(k.Warm)
	default:
		text = k.In(k.Plan)
	}
	if l.Phase != "" {
		lamp := k.LampOf(l.Phase, l.Leads)
		mark, light = lamp.Shape, k.In(lamp.Color)
	} else if l.Event && l.Level != "" && l.Level != logline.Info {
		light = text
	}
	if !past.IsZero() && l.At.After(past) {
		text, quiet, light = k.In(k.Faint), k.In(k.Faint), k.In(k.Faint)
	}
	if under {
		g.Fill(a.X, a.Y, a.W, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
		g.Set(a.X, a.Y, k.Or('▸', '>'), k.In(k.Act).Strong())
	}
	x := a.X + 1
	if a.W >= 50 {
		g.Text(x, a.Y, stamp, quiet)
		x += 13
	}
	g.Set(x, a.Y, mark, light)
	g.Clip(x+2, a.Y, who-1, from, quiet)
	rest := a.X + a.W - x - 3 - who
	if len(l.More) > 0 {
		plus := plus(l)
		rest -= len(plus) + 1
		g.Text(a.X+a.W-1-len(plus), a.Y, plus, act)
	}
	says := l.Text
	if under && v.Open {
		says = v.broken(l)[0]
	}
	g.Clip(x+2+who, a.Y, rest, says, text)
}

// head says what is shown, how much of it there is, and over which time.
func (v *View) head(g *grid.Grid, k theme.Theme, a board.Area) {
	x := a.X + 1
	all := 0
	if v.book != nil {
		all = len(v.book.Lines)
	}
	switch {
	case v.Typing:
		x = g.Text(x, a.Y, "Only lines of: ", k.In(k.Act))
		x = g.Clip(x, a.Y, a.X+a.W-x-1, v.Text, k.Text().Strong())
		g.Set(x, a.Y, k.Or('▏', '_'), k.In(k.Act))
		if v.filter.String() == "" {
			g.Clip(a.X+1, a.Y+1, a.W-2, `names of roles, nodes, zones, members; warnings, errors, events, lines; words of the text; /a pattern/; -not these`, k.Quiet())
			return
		}
		x = g.Clip(x+3, a.Y, a.X+a.W-x-4, v.says(all), k.Quiet())
	case v.Text != "":
		x = g.Clip(x, a.Y, a.W-20, v.says(all), k.In(k.Act))
	default:
		x = g.Clip(x, a.Y, a.W-2, v.says(all), k.Quiet())
	}
	if v.Follow {
		g.Clip(x+3, a.Y, a.X+a.W-x-4, "following", k.In(k.Lit))
	}
	v.bars(g, k, board.Area{X: a.X + 1, Y: a.Y + 1, W: a.W - 2, H: 1})
}

// says words how much is shown, and of what.
func (v *View) says(all int) string {
	if v.filter.Wrong != "" {
		return v.filter.Wrong
	}
	text := fmt.Sprintf("%s, and %s of members", wording.Counted(v.counts.Events, "event"), wording.Counted(len(v.shown)-v.counts.Events, "line"))
	if what := v.filter.String(); what != "" {
		text = fmt.Sprintf("%d of %d lines: %s", len(v.shown), all, what)
	}
	if v.counts.Errors > 0 {
		text += fmt.Sprintf(" · %d %s", v.counts.Errors, wording.Plural(v.counts.Errors, "error", "errors"))
	}
	if v.counts.Warns > 0 {
		text += fmt.Sprintf(" · %d %s", v.counts.Warns, wording.Plural(v.counts.Warns, "warning", "warnings"))
	}
	if v.Text != "" {
		for _, of := range v.counts.Largest(3) {
			text += fmt.Sprintf(" · %s %d", of, v.counts.By[of])
		}
	}
	return text
}

// bars draws how much is shown over time: a part a cell, its colour that of the worst in it, and where the cursor stands.
func (v *View) bars(g *grid.Grid, k theme.Theme, a board.Area) {
	if a.W < 10 || len(v.shown) < 2 {
		return
	}
	if v.hist == nil || len(v.hist.Bars) != a.W {
		v.hist = core.NewHistogram(v.book.Lines[v.shown[0]].At, v.book.Lines[v.shown[len(v.shown)-1]].At, a.W)
		for _, i := range v.shown {
			v.hist.Add(v.book.Lines[i].At, v.book.Lines[i].Level)
		}
	}
	at := v.hist.Part(v.At())
	drawn := []rune(v.hist.Line(k.ASCII))
	for i, b := range v.hist.Bars {
		style := k.In(k.Plan)
		switch {
		case b.Errors > 0:
			style = k.In(k.Fail)
		case b.Warns > 0:
			style = k.In(k.Warm)
		}
		if i == at {
			style = k.In(k.Act).Strong()
			style.Bg = k.Raise
		}
		shape := drawn[i]
		if b.N == 0 && i == at {
			shape = k.Or('│', '|')
		}
		if shape != ' ' {
			g.Set(a.X+i, a.Y, shape, style)
		}
	}
}

package journal

import (
	"cmp"
	"fmt"
	"sort"
	"time"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/core/state"

	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// View is how somebody looks at a book.
type View struct {
	Text   string // of the filter
	Typing bool
	Follow bool
	filter Filter
	cursor int       // which of the shown lines
	when   time.Time // its time, by which it is found again when others come in
	shown  []int     // which of the book's lines
	grown  int       // the state of the book that shown was made for
	book   *Book
	typed  string // the filter's text that shown was made for
	page   int    // lines that fit
	top    int
}

// Sync chooses the lines that are shown, if anything has changed since.
func (v *View) Sync(b *Book, names func() Names) {
	if v.book == b && v.grown == b.grown && v.typed == v.Text && v.shown != nil {
		return
	}
	at := v.when
	if v.typed != v.Text || v.book == nil {
		v.filter = ParseFilter(v.Text, names())
	}
	v.book, v.grown, v.typed = b, b.grown, v.Text
	v.shown = make([]int, 0, len(b.Lines))
	for i := range b.Lines {
		if v.filter.Fits(&b.Lines[i]) {
			v.shown = append(v.shown, i)
		}
	}
	if v.Follow || at.IsZero() {
		v.stand(len(v.shown) - 1)
	} else {
		v.Seek(at)
	}
}

// At is the time of the line under the cursor; zero where there is none.
func (v *View) At() time.Time {
	if v.book == nil || v.cursor < 0 || v.cursor >= len(v.shown) || v.shown[v.cursor] >= len(v.book.Lines) {
		return time.Time{}
	}
	return v.book.Lines[v.shown[v.cursor]].At
}

// Seek stands on the last line up to that moment.
func (v *View) Seek(at time.Time) {
	n := sort.Search(len(v.shown), func(i int) bool { return v.book.Lines[v.shown[i]].At.After(at) })
	v.stand(n - 1)
}

// stand stands on one of the shown lines.
func (v *View) stand(i int) {
	v.cursor = min(max(i, 0), len(v.shown)-1)
	v.when = v.At()
}

// Move goes that many lines and tells whether it stands on the last one.
func (v *View) Move(by int) (last bool) {
	v.stand(v.cursor + by)
	v.Follow = v.cursor == len(v.shown)-1
	return v.Follow
}

// AtTop tells whether it stands on the first line.
func (v *View) AtTop() bool { return v.cursor == 0 }

// Page is how many lines are shown.
func (v *View) Page() int { return max(1, v.page-1) }

// Empty tells whether there is no line to stand on.
func (v *View) Empty() bool { return len(v.shown) == 0 }

// Click stands on the line on that row of the area.
func (v *View) Click(row int) bool {
	i := v.top + row - 2
	if row < 2 || i < 0 || i >= len(v.shown) {
		return false
	}
	v.stand(i)
	v.Follow = i == len(v.shown)-1
	return true
}

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
	v.top = min(max(0, v.cursor-rows*2/3), max(0, len(v.shown)-rows))
	who := 12
	if a.W >= 100 {
		who = 16
	}
	day := ""
	for row := range rows {
		i := v.top + row
		if i >= len(v.shown) {
			break
		}
		l := &v.book.Lines[v.shown[i]]
		y := a.Y + 2 + row
		at := l.At.Local()
		stamp := at.Format("15:04:05.000")
		quiet, act := k.Quiet(), k.In(k.Act)
		if now := at.Format("2006-01-02"); now != day && (row == 0 || day != "") {
			if day != "" {
				stamp = at.Format("Jan 2 15:04 ")
			}
			day = now
		}
		if l.About { // not to the millisecond
			stamp = "~" + at.Format("15:04:05")
		}
		text, mark, light := k.Text(), ' ', act
		from := string(l.Member)
		if from == "" {
			from = cmp.Or(string(l.Role), string(l.Node))
		}
		switch {
		case l.Level == state.LevelError && l.Event:
			text, mark = k.In(k.Fail), k.Or('✖', 'x')
		case l.Level == state.LevelWarning && l.Event:
			text, mark = k.In(k.Warm), k.Or('▲', '!')
		case l.Event:
			mark = k.Or('◆', '*')
		case l.Level == state.LevelError: // a program that complains is not yet a member that is dark
			text, mark, light = k.In(k.Plan), k.Or('▴', '!'), k.In(k.Fail)
		case l.Level == state.LevelWarning:
			text, mark, light = k.In(k.Plan), k.Or('▴', '!'), k.In(k.Warm)
		default:
			text = k.In(k.Plan)
		}
		if l.Phase != "" {
			lamp := k.LampOf(l.Phase, l.Leads)
			mark, light = lamp.Shape, k.In(lamp.Color)
		} else if l.Event && l.Level != "" && l.Level != state.LevelInfo {
			light = text
		}
		if !past.IsZero() && l.At.After(past) {
			text, quiet, light = k.In(k.Faint), k.In(k.Faint), k.In(k.Faint)
		}
		if i == v.cursor {
			g.Fill(a.X, y, a.W, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
			g.Set(a.X, y, k.Or('▸', '>'), k.In(k.Act).Strong())
		}
		x := a.X + 1
		if a.W >= 50 {
			g.Text(x, y, stamp, quiet)
			x += 13
		}
		g.Set(x, y, mark, light)
		g.Clip(x+2, y, who-1, from, quiet)
		g.Clip(x+2+who, y, a.X+a.W-x-3-who, l.Text, text)
	}
}

func (v *View) head(g *grid.Grid, k theme.Theme, a board.Area) {
	x := a.X + 1
	switch {
	case v.Typing:
		x = g.Text(x, a.Y, "Only lines of: ", k.In(k.Act))
		x = g.Clip(x, a.Y, a.X+a.W-x-1, v.Text, k.Text().Strong())
		g.Set(x, a.Y, k.Or('▏', '_'), k.In(k.Act))
		hint := "names of roles, nodes, zones, members; warnings, errors, events; words of the text"
		if what := v.filter.String(); what != "" {
			hint = what
		}
		g.Clip(a.X+1, a.Y+1, a.W-2, hint, k.Quiet())
		return
	case v.Text != "":
		x = g.Clip(x, a.Y, a.W-20, fmt.Sprintf("%d of %d lines: %s", len(v.shown), len(v.book.Lines), v.filter), k.In(k.Act))
	default:
		x = g.Clip(x, a.Y, a.W-2, fmt.Sprintf("%d lines: events, and what members wrote", len(v.shown)), k.Quiet())
	}
	if v.Follow {
		g.Clip(x+3, a.Y, a.X+a.W-x-4, "following", k.In(k.Lit))
	}
}

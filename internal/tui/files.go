package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/review"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// files are the texts that a member would be run with, as they are looked at.
type files struct {
	of   field.MemberName
	got  *review.Files
	err  error
	text int // which of them is shown
	from int // its first line on the screen
	vs   int // what it is compared with: 0 nothing, 1 what runs, 2 the member before

	before *review.Files
	back   *layer // where closing leads
}

// filesMsg brings them.
type filesMsg struct {
	of     field.MemberName
	got    *review.Files
	before *review.Files
	err    error
}

// openFiles looks at the config files of the member under the cursor.
func (a *app) openFiles() tea.Cmd {
	at := a.model.Under(a.cursor)
	switch {
	case a.inPast():
		return nil
	case a.draft == nil || a.session == nil:
		a.say(true, "There is no draft of which files could be made. "+a.trouble)
		return nil
	case at.Member == "":
		a.say(true, "Stand on a lantern: F shows the config files of that member, with where each value comes from.")
		return nil
	}
	return a.openFilesOf(at.Member, walking)
}

// openFilesOf looks at the config files of a member; from the review, at what differs of them.
func (a *app) openFilesOf(member field.MemberName, back *layer) tea.Cmd {
	a.files = files{of: member, back: back}
	if back == inReview {
		a.files.vs = 1
	}
	a.mode = inFiles
	return a.readFiles("")
}

// readFiles asks for the files of the member that is looked at, and of the one before it.
func (a *app) readFiles(before field.MemberName) tea.Cmd {
	ctx, session, draft, of := a.ctx, a.session, a.draft, a.files.of
	return func() tea.Msg {
		msg := filesMsg{of: of}
		msg.got, msg.err = session.Preview(ctx, draft, of)
		if before != "" && msg.err == nil {
			msg.before, _ = session.Preview(ctx, draft, before)
		}
		return msg
	}
}

func (a *app) takeFiles(msg filesMsg) {
	if a.mode != inFiles || msg.of != a.files.of {
		return
	}
	a.files.got, a.files.err, a.files.before = msg.got, msg.err, msg.before
	a.files.text = max(0, min(a.files.text, len(a.texts())-1))
	if a.files.vs == 1 {
		a.toFirstDifference()
	}
}

// toFirstDifference turns to the first text that differs, and to where it does.
func (a *app) toFirstDifference() {
	for i, t := range a.texts() {
		if j := slices.IndexFunc(t.Lines, func(l render.Difference) bool { return l.Mark != ' ' }); j >= 0 {
			a.files.text, a.files.from = i, max(0, j-3)
			return
		}
	}
}

// texts is what is shown of the member: as the draft has it, or, where it has it no more, as it runs.
func (a *app) texts() []render.Compared {
	f := &a.files
	if f.got == nil {
		return nil
	}
	mine := f.got.Draft
	if mine == nil {
		mine = f.got.Live
	}
	switch {
	case f.vs == 1 && f.got.Live != nil:
		return render.Beside(f.got.Live, mine)
	case f.vs == 2 && f.before != nil:
		theirs := f.before.Draft
		if theirs == nil {
			theirs = f.before.Live
		}
		return render.Beside(theirs, mine)
	}
	return render.Beside(mine, mine)
}

func (a *app) pressFiles(is keyIs) tea.Cmd {
	f := &a.files
	switch {
	case is(a.keys.Close), is(a.keys.Quit), is(a.keys.Files):
		a.mode = f.back
	case is(a.keys.Other):
		f.text, f.from = (f.text+1)%max(1, len(a.texts())), 0
	case is(a.keys.Down):
		f.from++
	case is(a.keys.Up):
		f.from = max(0, f.from-1)
	case is(a.keys.PageDown):
		f.from += a.h / 2
	case is(a.keys.PageUp):
		f.from = max(0, f.from-a.h/2)
	case is(a.keys.Left), is(a.keys.Right):
		by := 1
		if is(a.keys.Left) {
			by = -1
		}
		return a.nextFiles(by)
	case is(a.keys.Deploy): // d: what differs
		f.vs = (f.vs + 1) % 3
		if f.vs == 1 && (f.got == nil || f.got.Live == nil || f.got.Draft == nil) {
			f.vs = 2
		}
		if f.vs == 2 && f.before == nil {
			if role, _ := a.model.Member(f.of); role != nil && len(role.Members) > 1 {
				return a.readFiles(otherOf(role, f.of))
			}
			f.vs = 0
			a.say(false, "There is nothing that it could be compared with.")
		}
	}
	return nil
}

// otherOf gives another member of the role.
func otherOf(r *board.Role, of field.MemberName) field.MemberName {
	for _, m := range r.Members {
		if m.Member != of {
			return m.Member
		}
	}
	return ""
}

// nextFiles turns to the next member of the role, and keeps the one before for comparing.
func (a *app) nextFiles(by int) tea.Cmd {
	role, _ := a.model.Member(a.files.of)
	if role == nil || len(role.Members) < 2 {
		return nil
	}
	i := 0
	for j, m := range role.Members {
		if m.Member == a.files.of {
			i = j
		}
	}
	was := a.files.of
	next := role.Members[(i+by+len(role.Members))%len(role.Members)]
	a.files.of, a.files.from = next.Member, 0
	a.cursor = a.model.Find(board.Place{Role: next.Role, Member: next.Member, Node: next.Node, Zone: next.Zone}, board.Cursor{})
	return a.readFiles(was)
}

// drawFiles draws the text with, beside each line, where it comes from.
func (a *app) drawFiles(g *grid.Grid, area board.Area) {
	k, f := a.look, &a.files
	x, y, w, h := 0, area.Y, g.W, area.H
	g.Fill(x, y, w, h, ' ', grid.Style{Fg: k.Paper, Bg: k.Ink})
	texts := a.texts()
	if f.err != nil || len(texts) == 0 {
		text := "Reading what it would be run with…"
		style := k.Quiet()
		if f.err != nil {
			text, style = oneLine(f.err.Error()), k.In(k.Fail)
		}
		for i, l := range grid.Wrap(text, w-4) {
			g.Clip(x+2, y+2+i, w-4, l, style)
		}
		return
	}
	at := x + 2
	for i, t := range texts {
		style := k.Quiet()
		if i == f.text {
			style = k.In(k.Gold).Strong()
		}
		changed := ""
		for _, l := range t.Lines {
			if l.Mark != ' ' {
				changed = string(k.Or('∙', '*'))
			}
		}
		at = g.Clip(at, y, max(0, w-at-1), t.Name+changed, style) + 3
	}
	lines := texts[min(f.text, len(texts)-1)].Lines
	f.from = max(0, min(f.from, len(lines)-(h-2)))
	wide := 0
	for _, l := range lines {
		wide = max(wide, grid.Width(l.Text))
	}
	origin := x + min(wide+8, w*3/5)
	for i := f.from; i < len(lines) && y+2+i-f.from < y+h; i++ {
		l, row := lines[i], y+2+i-f.from
		style, mark := k.Text(), " "
		switch l.Mark {
		case '+':
			style, mark = k.In(k.Lit), "+"
		case '-':
			style, mark = k.In(k.Fail), "-"
		}
		g.Clip(x+1, row, 4, fmt.Sprintf("%3d", i+1), k.In(k.Faint))
		g.Clip(x+5, row, 1, mark, style)
		g.Clip(x+7, row, max(0, origin-x-8), strings.ReplaceAll(l.Text, "\t", "    "), style)
		if len(l.From) > 0 {
			g.Clip(origin, row, max(0, w-origin-1), strings.Join(l.From, "; "), k.Quiet())
		}
	}
}

// inFiles has the config files of a member lie over the view.
var inFiles = &layer{name: "files"}

func init() {
	*inFiles = layer{name: "files", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressFiles(is) },
		keys: func(a *app) []hint {
			return []hint{hintOf(a.keys.Other, "next file"), {a.arrows().sideways, "another member"}, {a.keys.Deploy.Help().Key, "what differs"},
				{a.arrows().upDown, "scroll"}, hintOf(a.keys.Close, "back")}
		},
		says: func(a *app) (text, short string) {
			text, short = fmt.Sprintf("what %s would be run with, and where it comes from", a.files.of), fmt.Sprintf("what %s would be run with", a.files.of)
			switch {
			case a.files.vs == 1 && a.files.got != nil && a.files.got.Live != nil:
				text = fmt.Sprintf("%s: what differs from how it runs", a.files.of)
			case a.files.vs == 2 && a.files.before != nil:
				text = fmt.Sprintf("%s: what differs from %s", a.files.of, a.files.before.Member)
			}
			return text, short
		},
		draw: func(a *app, g *grid.Grid, f frame) {
			a.drawFiles(g, board.Area{Y: f.area.Y, W: a.w, H: a.h - f.area.Y - 1})
		}}
}

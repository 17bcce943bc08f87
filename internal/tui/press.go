package tui

import (
	"cmp"
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/tui/board"
)

func (a *app) press(msg tea.KeyPressMsg) tea.Cmd {
	is := func(b key.Binding) bool { return key.Matches(msg, b) }
	if msg.String() == "ctrl+c" {
		return tea.Quit
	}
	if a.mode != walking {
		return a.mode.press(a, msg, is)
	}
	if a.session != nil { // else it says that nobody holds the field
		a.message = ""
	}
	for _, v := range views {
		if is(v.key(a.keys)) {
			return v.open(a)
		}
	}
	switch {
	case is(a.keys.Quit):
		return tea.Quit
	case is(a.keys.Keys):
		a.mode, a.scroll = inKeys, 0
	case is(a.keys.Other):
		next := boardView
		if a.view == boardView {
			next = journalView
		}
		return next.open(a)
	case is(a.keys.Now), is(a.keys.Close) && a.past != nil:
		a.toNow()
	case is(a.keys.Back):
		return a.stepTime(-1)
	case is(a.keys.Forth):
		return a.stepTime(1)
	case is(a.keys.EventBack):
		return a.stepEvent(false)
	case is(a.keys.EventForth):
		return a.stepEvent(true)
	case is(a.keys.Widen):
		return a.widen()
	case a.opening: // the file is being read for the first time: most keys mean the draft in it
		a.early = append(a.early, msg)
	default:
		return a.view.press(a, is)
	}
	return nil
}

// pressEarly does what was asked for before the file had been read.
func (a *app) pressEarly() tea.Cmd {
	keys := a.early
	a.early = nil
	cmds := make([]tea.Cmd, len(keys))
	for i, k := range keys {
		cmds[i] = a.press(k)
	}
	return tea.Batch(cmds...)
}

// pressBoard takes the keys of the board: those that move about, that look closer, and that act; all others change the draft.
func (a *app) pressBoard(is keyIs) tea.Cmd {
	if c, ok := a.moved(is); ok {
		a.cursor = c
		return a.readLately()
	}
	if cmd, ok := a.pressLooking(is); ok {
		return cmd
	}
	if cmd, ok := a.pressActing(is); ok {
		return cmd
	}
	return a.pressEdit(is)
}

// moved is where a key moves the cursor.
func (a *app) moved(is keyIs) (board.Cursor, bool) {
	c := a.cursor
	switch {
	case is(a.keys.Up):
		c = a.model.Move(c, 0, -1)
	case is(a.keys.Down):
		c = a.model.Move(c, 0, 1)
	case is(a.keys.Left):
		c = a.model.Move(c, -1, 0)
	case is(a.keys.Right):
		c = a.model.Move(c, 1, 0)
	case is(a.keys.First):
		c = a.model.Keep(board.Cursor{Role: c.Role, Post: -1})
	case is(a.keys.Last):
		c = a.model.Keep(board.Cursor{Role: c.Role, Post: len(a.model.Posts)})
	case is(a.keys.PageUp):
		c = a.model.Keep(board.Cursor{Role: 0, Post: c.Post})
	case is(a.keys.PageDown):
		c = a.model.Keep(board.Cursor{Role: len(a.model.Roles), Post: c.Post})
	case is(a.keys.Dark):
		var ok bool
		if c, ok = a.model.NextDark(c); !ok {
			a.say(false, "Every lantern that should burn does.")
		}
	default:
		return c, false
	}
	return c, true
}

// pressLooking takes the keys that show more, or something else.
func (a *app) pressLooking(is keyIs) (cmd tea.Cmd, taken bool) {
	switch {
	case is(a.keys.Inspect):
		if p := a.cursor.Post; p >= 0 && p < len(a.model.Posts) && a.model.Posts[p].Folded {
			a.fold()
			return nil, true
		}
		a.mode = inDetail
	case is(a.keys.Mark):
		a.mark()
	case is(a.keys.Close) && len(a.marked) > 0:
		a.marked = nil
		a.layMarks()
	case is(a.keys.WhatIf), is(a.keys.Close) && a.whatIf:
		if a.whatIf = !a.whatIf && is(a.keys.WhatIf); a.whatIf && a.draft == nil {
			a.whatIf = false
			a.say(true, "There is no draft, and without one it cannot be known who needs whom.")
		}
	case is(a.keys.Fold):
		a.fold()
	case is(a.keys.Lines):
		return a.openJournal(a.about()), true
	case is(a.keys.Findings):
		a.openFindings()
		return nil, true
	case is(a.keys.Export):
		return a.export(), true
	case is(a.keys.Change):
		a.openSheet()
		return nil, true
	case is(a.keys.AddThing):
		a.addThing()
		return nil, true
	case is(a.keys.Propose):
		return a.propose(), true
	case is(a.keys.Find):
		a.find()
		return nil, true
	case is(a.keys.Files):
		return a.openFiles(), true
	case is(a.keys.Editor):
		return a.openEditor(), true
	default:
		return nil, false
	}
	return a.readLately(), true
}

// pressActing takes the keys that act on what runs, or ask first.
func (a *app) pressActing(is keyIs) (cmd tea.Cmd, taken bool) {
	switch {
	case is(a.keys.Pause):
		return a.pauseOrGoOn(), true
	case is(a.keys.Restart):
		a.askFor("restart")
	case is(a.keys.Halt):
		a.askFor("stop")
	case is(a.keys.Answer):
		a.answer()
	case is(a.keys.Retire):
		a.askToRetire()
	case is(a.keys.Prove):
		return a.prove(a.model.Under(a.cursor).Role), true
	case is(a.keys.Shell):
		return a.openShell(), true
	case is(a.keys.Review):
		return a.openReview(), true
	default:
		return nil, false
	}
	return a.readLately(), true
}

// openReview opens the review of the draft, or says why there is none.
func (a *app) openReview() tea.Cmd {
	switch {
	case a.inPast():
		return nil
	case a.review == nil && a.refused != "":
		a.ask, a.mode, a.scroll = &ask{title: "This draft cannot be deployed as things are now", text: []string{a.refused}}, inConfirm, 0
		return nil
	case a.review == nil:
		a.say(true, "There is no review yet: "+cmp.Or(a.trouble, a.refused, "it is just being made."))
		return a.readFile()
	}
	a.mode, a.scroll, a.standing = inReview, 0, reading{}
	return a.readLately()
}

// pressOrder takes the keys of the order: arrows go along the wires, all others are the board's.
func (a *app) pressOrder(is keyIs) tea.Cmd {
	a.stages.Sync(a.model)
	by := map[bool]int{true: 1}
	dx, dy := by[is(a.keys.Right)]-by[is(a.keys.Left)], by[is(a.keys.Down)]-by[is(a.keys.Up)]
	switch {
	case dx != 0 || dy != 0:
		a.cursor = board.Cursor{Role: a.stages.Move(max(0, a.cursor.Role), dx, dy), Post: -1}
	case is(a.keys.Close):
		a.view = boardView
	default:
		return a.pressBoard(is)
	}
	return nil
}

// fold folds the zone under the cursor, or opens it.
func (a *app) fold() {
	p := a.cursor.Post
	if p < 0 || p >= len(a.model.Posts) {
		a.say(true, "Stand on a node or a zone: its zone is folded, or opened.")
		return
	}
	post := a.model.Posts[p]
	a.folds[a.model.Zones[post.Zone].Name] = !post.Folded
	a.model.Fit(board.Room(a.boardArea().W), a.folds)
	for i, now := range a.model.Posts {
		if now.Zone == post.Zone {
			a.cursor = a.model.Keep(board.Cursor{Role: a.cursor.Role, Post: i})
			return
		}
	}
}

// pressOver takes the keys that all have in common that lie over the view: they close it and scroll it.
func (a *app) pressOver(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Close), is(a.keys.Quit):
		a.mode, a.ask = walking, nil
	case is(a.keys.Down):
		a.scroll = max(0, min(a.scroll+1, a.lines-a.shown))
	case is(a.keys.Up):
		a.scroll = max(0, a.scroll-1)
	case is(a.keys.PageDown):
		a.scroll = max(0, min(a.scroll+a.shown, a.lines-a.shown))
	case is(a.keys.PageUp):
		a.scroll = max(0, a.scroll-a.shown)
	}
	return nil
}

// deployable tells whether what the review shows can be carried out: not while nobody holds the field, for one.
func (a *app) deployable() bool {
	return a.session != nil && a.review != nil && !a.review.Quick && !a.review.Empty() && len(a.review.Missing) == 0 && !finding.HasErrors(a.findings) && len(a.review.Unplaced) == 0
}

// paste takes pasted text: words for a filter, and never keys.
func (a *app) paste(text string) {
	if a.mode.paste != nil {
		a.mode.paste(a, oneLine(text))
		return
	}

	a.say(true, fmt.Sprintf("Pasted text (%d characters) is not taken as keys.", len([]rune(text))))
}

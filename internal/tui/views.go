package tui

import (
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// view is one way to look at the field. A new one is a value like these, and its place in views.
type view struct {
	name  string
	wide  bool // takes the whole width: nothing stands beside it
	key   func(k keyMap) key.Binding
	open  func(a *app) tea.Cmd
	press func(a *app, is keyIs) tea.Cmd
	keys  func(a *app) []hint // for the key line
	draw  func(a *app, g *grid.Grid, f frame)
}

func (v *view) String() string { return v.name }

var boardView, journalView, orderView, accessView = &view{name: "Board"}, &view{name: "Journal"}, &view{name: "Order"}, &view{name: "Access"}

// views are all of them, as their names stand on the screen.
var views = []*view{boardView, rolloutView, healthView, journalView, orderView, nodesView, accessView}

func init() {
	boardView.key = func(k keyMap) key.Binding { return k.Board }
	boardView.open = func(a *app) tea.Cmd { a.view = boardView; return nil }
	boardView.press = func(a *app, is keyIs) tea.Cmd { return a.pressBoard(is) }
	boardView.keys = (*app).boardHints
	boardView.draw = (*app).drawBoard

	orderView.key = func(k keyMap) key.Binding { return k.Order }
	orderView.open = func(a *app) tea.Cmd {
		a.view = orderView
		a.cursor = a.model.Keep(board.Cursor{Role: max(0, a.cursor.Role), Post: -1})
		return nil
	}
	orderView.press = func(a *app, is keyIs) tea.Cmd { return a.pressOrder(is) }
	orderView.keys = (*app).boardHints
	orderView.draw = (*app).drawOrder

	accessView.wide = true
	accessView.key = func(k keyMap) key.Binding { return k.Access }
	accessView.open = func(a *app) tea.Cmd { a.view = accessView; return a.readAccess() }
	accessView.press = func(a *app, is keyIs) tea.Cmd { return a.pressAccess(is) }
	accessView.keys = func(a *app) []hint {
		hints := []hint{{a.arrows().upDown, "move"}}
		if w := a.access.Way(); w != nil {
			hints = append(hints, hintOf(a.keys.CopyWay, "copy"), hintOf(a.keys.WriteWay, "write"))
			if w.Secret != "" {
				hints = append(hints, hintOf(a.keys.ShowSecret, map[bool]string{true: "hide the secret", false: "show the secret"}[a.access.Shown]))
			}
		}
		if a.access.SecretUnder() != "" {
			hints = append(hints, hintOf(a.keys.ChangeSecret, "change the secret"))
		}
		if len(a.snap.Proofs) > 0 {
			hints = append(hints, hintOf(a.keys.Prove, "prove it"))
		}
		return append(hints, hintOf(a.keys.Board, "board"))
	}
	accessView.draw = func(a *app, g *grid.Grid, f frame) {
		if a.access.Draft = nil; a.snap.State == snapshot.Draft || a.snap.State == snapshot.Retired {
			a.access.Draft = a.draft
		}
		a.access.Draw(g, a.look, a.snap, a.now, f.area)
	}

	journalView.wide = true
	journalView.key = func(k keyMap) key.Binding { return k.Journal }
	journalView.open = func(a *app) tea.Cmd { return a.openJournal(a.journal.Text) }
	journalView.press = func(a *app, is keyIs) tea.Cmd { return a.pressJournal(is) }
	journalView.keys = (*app).journalHints
	journalView.draw = func(a *app, g *grid.Grid, f frame) {
		a.journal.Sync(a.book, a.names)
		var then time.Time
		if a.past != nil {
			then = a.past.at
		}
		a.journal.Draw(g, a.look, f.area, then)
	}
}

// boardHints are the keys of the board, and of the order.
func (a *app) boardHints() []hint {
	all := []hint{{a.arrows().all, "move"}}
	add := func(b key.Binding, word string) { all = append(all, hintOf(b, word)) }
	at := a.model.Under(a.cursor)
	if len(a.snap.Questions) > 0 {
		add(a.keys.Answer, "answer")
	}
	if _, dark := a.model.NextDark(a.cursor); dark && !a.snap.Rollout.Active {
		add(a.keys.Dark, "to what is dark")
	}
	if a.snap.Rollout.Active && a.snap.State == snapshot.Deploying {
		word := "pause"
		if a.snap.Rollout.Paused {
			word = "go on"
		}
		add(a.keys.Pause, word)
	}
	if a.review != nil && a.review.New() {
		add(a.keys.Review, "review and deploy")
	} else if a.review == nil && a.refused != "" {
		add(a.keys.Review, "why it is refused")
	}
	if len(a.edits.done) > 0 {
		add(a.keys.Undo, "undo")
	}
	if len(a.edits.undone) > 0 {
		add(a.keys.Redo, "redo")
	}
	if a.loaded != nil && at.Role != "" {
		if at.Member != "" {
			add(a.keys.Grab, "grab")
			add(a.keys.Remove, "remove")
		} else {
			add(a.keys.Add, "add")
		}
		all = append(all, hint{"+ -", "more or fewer"})
	}
	if a.loaded != nil {
		add(a.keys.Change, "change")
	}
	if len(a.findings) > 0 {
		add(a.keys.Findings, "findings")
	}
	add(a.keys.WhatIf, map[bool]string{true: "as it is", false: "what if"}[a.whatIf])
	if len(a.tide) > 0 {
		all = append(all, hint{"[ ]", "back in time"})
	}
	return all
}

// journalHints are the keys of the journal.
func (a *app) journalHints() []hint {
	all := []hint{{a.arrows().upDown, "line by line, back in time"}, {"{ }", "to events"}, hintOf(a.keys.Filter, "choose lines")}
	if l := a.journal.Under(); l != nil {
		all = append(all, hintOf(a.keys.Cause, "what it follows from"))
		if a.journal.Opens() {
			all = append(all, hintOf(a.keys.Open, "open it"))
		}
	}
	if a.journal.Text != "" {
		all = append(all, hintOf(a.keys.SearchNodes, "search the nodes"))
	}
	if !a.journal.Follow {
		all = append(all, hintOf(a.keys.Follow, "follow"))
	}
	if a.journal.Text != "" {
		all = append(all, hintOf(a.keys.Close, "all lines"))
	}
	return append(all, hintOf(a.keys.Board, "board"))
}

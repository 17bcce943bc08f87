package tui

import (
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/tui/grid"
)

// keyIs tells whether a key that was pressed is that one.
type keyIs func(key.Binding) bool

// layer is what keys are for beside walking about: something that lies over a view, or stands beside it. It is always written on the screen,
// and esc leaves it. A layer is one value, in the file of what it is about; nothing else knows which there are.
type layer struct {
	name  string
	press func(a *app, msg tea.KeyPressMsg, is keyIs) tea.Cmd // takes all keys but ctrl+c
	keys  func(a *app) []hint                                 // what its keys do, for the key line

	// What may be nil:

	says  func(a *app) (text, short string)   // beside the views' names; short where there is no room for the text
	side  func(a *app, g *grid.Grid, f frame) // draws beside the board, in place of what is under the cursor
	draw  func(a *app, g *grid.Grid, f frame) // draws over the view
	over  func(a *app, f frame) bool          // the view is faded under it
	paste func(a *app, text string)           // takes pasted text
}

func (l *layer) String() string { return l.name }

// walking is the layer of the views themselves: their keys are theirs.
var walking = &layer{name: "walking"}

// hint is a key of the key line, with what it does here and now.
type hint struct{ key, word string }

// hintOf is a binding with what it does.
func hintOf(b key.Binding, word string) hint { return hint{b.Help().Key, word} }

// arrows are the signs for arrow keys.
type arrows struct{ all, upDown, sideways string }

func (a *app) arrows() arrows {
	if a.look.ASCII {
		return arrows{"arrows", "down up", "left right"}
	}
	return arrows{"←↓↑→", "↓↑", "←→"}
}

// hints are the keys that do something here and now.
func (a *app) hints() []hint {
	var all []hint
	switch {
	case a.mode != walking:
		return a.mode.keys(a)
	case a.past != nil:
		all = []hint{hintOf(a.keys.Now, "now"), {"[ ]", "in time"}, {"{ }", "to events"}, {a.arrows().all, "move"}, hintOf(a.keys.Other, "other view")}
		if a.view == journalView {
			all = slices.Insert(all, 2, hintOf(a.keys.Cause, "what it follows from"))
		}
	default:
		all = a.view.keys(a)
	}
	return append(all, hintOf(a.keys.Keys, "all keys"), hintOf(a.keys.Quit, "quit"))
}

// always is a layer under which the view is faded.
func always(*app, frame) bool { return true }

package tui

import (
	"strings"
	"testing"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/tui/grid"
)

// TestAViewAndALayerAreAddedInOnePlace adds an empty view, and a layer over it, as they would be in a file of their own: their names, keys, help
// and drawing are there, and nothing else was told of them.
func TestAViewAndALayerAreAddedInOnePlace(t *testing.T) {
	open := key.NewBinding(key.WithKeys("9"), key.WithHelp("9", "the fog"))
	thicken := key.NewBinding(key.WithKeys("h"), key.WithHelp("h", "thicken it"))
	thick := 0
	thicker := &layer{name: "thicker", keys: func(a *app) []hint { return []hint{hintOf(a.keys.Close, "thin it")} },
		says: func(*app) (string, string) { return "thick as it is", "" }, over: always,
		press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressOver(is) },
		draw:  func(_ *app, g *grid.Grid, f frame) { g.Text(1, f.area.Y+1, "nothing can be seen", grid.Style{}) }}
	fog := &view{name: "Fog", key: func(keyMap) key.Binding { return open }, open: func(a *app) tea.Cmd { return nil },
		keys: func(*app) []hint { return []hint{hintOf(thicken, "thicken it")} },
		draw: func(_ *app, g *grid.Grid, f frame) { g.Text(1, f.area.Y, "there is fog", grid.Style{}) },
		press: func(a *app, is keyIs) tea.Cmd {
			if is(thicken) {
				thick++
				a.mode = thicker
			}
			return nil
		}}
	fog.open = func(a *app) tea.Cmd { a.view = fog; return nil }
	before := views
	views = append(views[:len(views):len(views)], fog)
	defer func() { views = before }()

	r := onRehearsal(t, 124, 30)
	press := func(text string) string {
		r.app.press(tea.KeyPressMsg{Code: []rune(text)[0], Text: text})
		return r.draw().Plain()
	}
	if text := press("9"); !strings.Contains(text, "9 Fog") || !strings.Contains(text, "there is fog") || !strings.Contains(text, "h thicken it") || !strings.Contains(text, "? all keys") {
		t.Errorf("the view:\n%s", text)
	}
	if text := press("h"); thick != 1 || !strings.Contains(text, "nothing can be seen") || !strings.Contains(text, "esc thin it") || !strings.Contains(text, "thick as it is") {
		t.Errorf("the layer:\n%s", text)
	}
	r.app.press(tea.KeyPressMsg{Code: tea.KeyEscape})
	if text := press("1"); r.mode != walking || r.view != boardView || strings.Contains(text, "there is fog") {
		t.Errorf("back on the board:\n%s", text)
	}
}

// TestKeysOfTheJournalAndOfCharts searches the nodes for older lines, goes to what an event follows from and back, and lays a chart over another.
func TestKeysOfTheJournalAndOfCharts(t *testing.T) {
	r, _ := lived(t)
	r.do("4", "/", "b", "e", "l", "l", "enter", "s")
	r.shows(t, "the bell was cast", "+1")
	r.do("esc", "/", "l", "e", "a", "d", "s", "enter", "end", "w")
	r.shows(t, "It follows from this")
	cause := r.journal.At()
	r.do("W")
	if back := r.journal.At(); !back.After(cause) {
		t.Errorf("what it follows from is of %s, and back from there it is %s", cause, back)
	}
	r.do("n", "{")
	if l := r.journal.Under(); l == nil || !l.Event || r.past == nil || !r.past.at.Equal(l.At) {
		t.Errorf("to an event leads to %+v", l)
	}
	before := r.journal.At()
	r.do("{", "}")
	if !r.journal.At().Equal(before) {
		t.Errorf("an event back and one forth leads from %s to %s", before, r.journal.At())
	}
	r.do("n", "3", "enter", "L")
	r.shows(t, "dotted: ")
}

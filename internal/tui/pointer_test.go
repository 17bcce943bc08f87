package tui

import (
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/sheet"
)

// TestTheMouse points at things, and drags a member to another post.
func TestTheMouse(t *testing.T) {
	a := onFile(t)
	area := a.boardArea()
	x, y, ok := board.AtMember(a.model, area, a.cursor, "crews-1")
	tx, _, there := board.AtMember(a.model, area, a.cursor, "crews-2")
	if !ok || !there {
		t.Fatal("they are not shown")
	}
	before := content(t, a)
	carry(t, a, a.mouse(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft}))
	if a.model.Under(a.cursor).Member != "crews-1" {
		t.Fatalf("pointed at crews-1, it stands on %+v", a.model.Under(a.cursor))
	}
	carry(t, a, a.mouse(tea.MouseMotionMsg{X: x + 1, Y: y, Button: tea.MouseLeft}))
	if a.mode != walking {
		t.Error("a trembling hand grabs nothing")
	}
	carry(t, a, a.mouse(tea.MouseMotionMsg{X: tx, Y: y, Button: tea.MouseLeft}))
	if a.mode != carrying || !strings.Contains(a.draw().Plain(), "carrying crews-1") {
		t.Fatalf("mode %s", a.mode)
	}
	carry(t, a, a.mouse(tea.MouseReleaseMsg{X: tx, Y: y, Button: tea.MouseLeft}))
	if got := content(t, a); a.mode != walking || got != before+"place:\n  crews: [tern-1, tern-1]\n" {
		t.Errorf("dropped:\n%s", got)
	}
	f := a.frame()
	for _, v := range a.viewNames() {
		_ = a.mouse(tea.MouseClickMsg{X: v.x, Y: f.views, Button: tea.MouseLeft})
		if a.view != v.view {
			t.Errorf("pointed at %s, it shows view %s", v.name, a.view)
		}
	}
	for x := -1; x < 130; x += 3 { // anywhere, with any button
		for y := -1; y < 45; y++ {
			for _, b := range []tea.MouseButton{tea.MouseLeft, tea.MouseRight, tea.MouseWheelUp, tea.MouseWheelDown} {
				_ = a.mouse(tea.MouseClickMsg{X: x, Y: y, Button: b})
				_ = a.mouse(tea.MouseWheelMsg{X: x, Y: y, Button: b})
			}
			_ = a.draw()
		}
	}
}

// TestAWireIsDrawnWithTheMouse has crews wait for lookout: the row of its sheet by keys, the role by pointing at it. What
// does not fit is refused.
func TestAWireIsDrawnWithTheMouse(t *testing.T) {
	a := onFile(t)
	keys(t, a, "c")
	rows := a.rows()
	a.sheets.row = slices.IndexFunc(rows, func(r sheet.Row) bool { return r.Label == "wait for another" })
	if a.sheets.row < 0 {
		t.Fatalf("no such row in %+v", rows)
	}
	keys(t, a, "enter")
	if a.mode != inPointing {
		t.Fatalf("mode %s", a.mode)
	}
	at := func(member field.MemberName) (x, y int) {
		x, y, ok := board.AtMember(a.model, a.boardArea(), a.cursor, member)
		if !ok {
			t.Fatalf("%s is not shown", member)
		}
		return x, y
	}
	x, y := at("crews-1")
	carry(t, a, a.mouse(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft}))
	if a.mode != inPointing || !strings.Contains(a.message, "crews does not fit there; what does is lookout") {
		t.Errorf("pointed at itself: mode %s, %q", a.mode, a.message)
	}
	before := content(t, a)
	x, y = at("lookout-1")
	carry(t, a, a.mouse(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft}))
	if got, want := content(t, a), strings.Replace(before, `"600"]}}   # two`, `"600"]}, after: {lookout: all}}   # two`, 1); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestEscAndAKeyThatComeTogether are two keys, not a chord.
func TestEscAndAKeyThatComeTogether(t *testing.T) {
	r, _ := lived(t)
	r.do("?")
	r.follow(func() tea.Msg { return tea.KeyPressMsg{Code: '4', Mod: tea.ModAlt} })
	if r.mode != walking || r.view != journalView {
		t.Errorf("mode %s, view %s", r.mode, r.view)
	}
}

// TestPastedTextIsNoKeys pastes what would deploy and take down.
func TestPastedTextIsNoKeys(t *testing.T) {
	r, done := lived(t)
	r.follow(func() tea.Msg { return tea.PasteMsg{Content: "vdTy\x1b[2J+++"} })
	if len(*done) > 0 || r.mode != walking || !strings.Contains(r.message, "is not taken as keys") {
		t.Errorf("mode %s, did %v, said %s", r.mode, *done, r.message)
	}
	r.do("4", "/")
	r.follow(func() tea.Msg { return tea.PasteMsg{Content: "war\x1b[31mdens\nerrors"} })
	if r.journal.Text != "wardens errors" {
		t.Errorf("pasted words: %q", r.journal.Text)
	}
}

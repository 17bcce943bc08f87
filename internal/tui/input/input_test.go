package input

import (
	"strings"
	"testing"

	"lanternfield/internal/tui/theme"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/tui/grid"
)

func TestALineIsTypedAndCorrected(t *testing.T) {
	l := New("ferry")
	press := func(keys ...tea.KeyPressMsg) {
		for _, k := range keys {
			if !l.Press(k) {
				t.Errorf("%v means nothing", k)
			}
		}
	}
	code := func(c rune) tea.KeyPressMsg { return tea.KeyPressMsg{Code: c} }
	press(tea.KeyPressMsg{Code: 's', Text: "s"}, code(tea.KeyHome), code(tea.KeyDelete), tea.KeyPressMsg{Code: 'b', Text: "B"}, code(tea.KeyRight), code(tea.KeyBackspace), code(tea.KeyLeft), code(tea.KeyEnd))
	if l.String() != "Brrys" {
		t.Errorf("got %q", l.String())
	}
	l.Insert("a\x1b[0m\tb\u009bc\n")
	if l.String() != "Brrysa[0mbc" {
		t.Errorf("what moves a terminal's cursor came in: %q", l.String())
	}
	press(tea.KeyPressMsg{Code: 'u', Mod: tea.ModCtrl})
	if l.String() != "" || l.Press(code(tea.KeyF5)) {
		t.Errorf("got %q", l.String())
	}
	l.Insert(strings.Repeat("x", 500))
	if l.String() != "" {
		t.Error("a line has bounds")
	}
	l.Insert(strings.Repeat("x", 100) + "END")
	g := grid.New(20, 1, theme.Dark().Page())
	l.Draw(g, theme.Dark(), 0, 0, 20)
	if !strings.Contains(g.Plain(), "END") {
		t.Errorf("the place where one types is out of sight: %q", g.Plain())
	}
}

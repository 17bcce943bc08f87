// Package input is one line of text that a person types.
package input

import (
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/tui/grid"
)

// most bounds a line, in characters.
const most = 400

// Line is a text with the place in it where the person types.
type Line struct {
	text []rune
	at   int
}

// New is a line that begins with a text.
func New(text string) Line { return Line{text: []rune(text), at: len([]rune(text))} }

// String is what has been typed.
func (l *Line) String() string { return string(l.text) }

// Press takes a key; false when it means nothing to a line of text.
func (l *Line) Press(msg tea.KeyPressMsg) bool {
	switch msg.String() {
	case "backspace":
		if l.at > 0 {
			l.text = append(l.text[:l.at-1:l.at-1], l.text[l.at:]...)
			l.at--
		}
	case "delete":
		if l.at < len(l.text) {
			l.text = append(l.text[:l.at:l.at], l.text[l.at+1:]...)
		}
	case "left":
		l.at = max(0, l.at-1)
	case "right":
		l.at = min(len(l.text), l.at+1)
	case "home", "ctrl+a":
		l.at = 0
	case "end", "ctrl+e":
		l.at = len(l.text)
	case "ctrl+u":
		l.text, l.at = l.text[l.at:], 0
	default:
		if msg.Text == "" {
			return false
		}
		l.Insert(msg.Text)
	}
	return true
}

// Insert puts text in, without what could move a terminal's cursor.
func (l *Line) Insert(text string) {
	var r []rune
	for _, c := range text {
		if c >= ' ' && c != 0x7f && (c < 0x80 || c > 0x9f) {
			r = append(r, c)
		}
	}
	if len(l.text)+len(r) > most {
		return
	}
	l.text = append(l.text[:l.at:l.at], append(r, l.text[l.at:]...)...)
	l.at += len(r)
}

// Draw draws the line, in as many cells as there are, so that the place where the person types is in sight.
func (l *Line) Draw(g *grid.Grid, k theme.Theme, x, y, w int) {
	from := max(0, l.at-w+2)
	g.Text(x, y, string(l.text[from:min(len(l.text), from+w-1)]), k.Text().Strong())
	under := ' '
	if l.at < len(l.text) {
		under = l.text[l.at]
	}
	g.Set(x+l.at-from, y, under, grid.Style{Fg: k.Ink, Bg: k.Act, Bold: true})
}

package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/snapshot"
)

// told is up to which notice the terminal was told.
type told struct {
	known  bool // a snapshot was seen: what was so by then is on the screen
	number int
}

// mostNotified bounds the text of a notification, in runes.
const mostNotified = 200

// notify has the terminal notify whoever sits there of what is new: a bell, and the text as the sequence of which terminals make a notification.
func (a *app) notify(s *snapshot.Snapshot) tea.Cmd {
	newest, bell := a.told.number, ""
	for _, n := range s.Notices {
		if n.Number > a.told.number {
			newest = max(newest, n.Number)
			text := []rune(strings.ReplaceAll(logline.Clean(n.Text), ";", ","))
			bell += ansi.Notify(string(text[:min(len(text), mostNotified)]))
		}
	}
	first := !a.told.known
	a.told = told{true, newest}
	if bell == "" || first {
		return nil
	}
	return tea.Raw(bell + string(rune(ansi.BEL)))
}

package main

import (
	"flag"
	"fmt"

	tea "charm.land/bubbletea/v2"
)

var isEmpty = flag.Bool("empty", false, "be the empty program that the screen is compared with")

// empty is the least that a full-screen program can be: a line that counts keys. It draws as often as the application does.
type empty struct{ keys int }

func (e empty) Init() tea.Cmd { return nil }

func (e empty) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		if e.keys++; k.String() == "q" {
			return e, tea.Quit
		}
	}
	return e, nil
}

func (e empty) View() tea.View {
	v := tea.NewView(fmt.Sprintf("%d keys", e.keys))
	v.AltScreen = true
	return v
}

func runEmpty() error {
	_, err := tea.NewProgram(empty{}, tea.WithFPS(90)).Run()
	return err
}

package tui

import (
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/draw"
)

// drawnMsg says what came of drawing.
type drawnMsg struct {
	said string
	err  error
}

// export draws the board that is shown into files in the folder that this was started in.
func (a *app) export() tea.Cmd {
	snap, draft, light := a.model.Snap, a.draft, a.light
	return func() tea.Msg {
		if snap.State == engine.StateDraft || snap.State == engine.StateRetired {
			if draft == nil {
				return drawnMsg{"There is nothing yet that could be drawn.", errors.New("no draft")}
			}
			snap = draw.Draft(draft)
		}
		theme := draw.Night
		if light {
			theme = draw.Light
		}
		name := snap.Field + "-board"
		d := draw.Board(snap, draw.Light) // a printed page is white
		err := errors.Join(draw.Save(d, name+".pdf"), draw.Save(draw.Board(snap, theme), name+".svg"))
		if err != nil {
			return drawnMsg{err.Error(), err}
		}
		return drawnMsg{fmt.Sprintf("The board is drawn into %s.svg and %s.pdf.", name, name), nil}
	}
}

package tui

import (
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/draw"
)

// drawnMsg says what came of drawing.
type drawnMsg struct {
	said string
	err  error
}

// export draws what is shown, the board, the order or, with what if, what it survives, into files in the folder that this was started in.
func (a *app) export() tea.Cmd {
	snap, draft, light := a.model.Snap, a.draft, a.light
	kind := "board"
	switch {
	case a.whatIf:
		kind = "survives"
	case a.view == orderView:
		kind = "order"
	}
	return func() tea.Msg {
		if snap.State == snapshot.Draft || snap.State == snapshot.Retired {
			if draft == nil {
				return drawnMsg{"There is nothing yet that could be drawn.", errors.New("no draft")}
			}
			snap = draw.Draft(draft)
		}
		theme := draw.Night
		if light {
			theme = draw.Light
		}
		name := snap.Field + "-" + kind
		d := draw.Of(kind, snap, draw.Light) // a printed page is white
		err := errors.Join(draw.Save(d, name+".pdf"), draw.Save(draw.Of(kind, snap, theme), name+".svg"))
		if err != nil {
			return drawnMsg{err.Error(), err}
		}
		return drawnMsg{fmt.Sprintf("%s is drawn into %s.svg and %s.pdf.", map[string]string{"board": "The board", "order": "The order", "survives": "What it survives"}[kind], name, name), nil}
	}
}

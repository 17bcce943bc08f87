package tui

import (
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/tide"
)

// mouse takes what the mouse does: pointing, dragging members, turning the wheel.
func (a *app) mouse(msg tea.MouseMsg) tea.Cmd {
	m := msg.Mouse()
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		return a.wheel(msg.Button, m.X, m.Y)
	case tea.MouseClickMsg:
		if m.Button == tea.MouseLeft && a.mode == inPointing {
			return a.pointAtRole(m.X, m.Y)
		}
		if m.Button != tea.MouseLeft || a.mode != walking {
			return nil
		}
		return a.point(m.X, m.Y)
	case tea.MouseMotionMsg:
		if a.view != boardView || a.mode != walking && a.mode != carrying || m.Button != tea.MouseLeft || a.past != nil {
			return nil
		}
		c, ok := board.Hit(a.model, a.boardArea(), a.cursor, m.X, m.Y)
		if !ok || c.Post < 0 {
			return nil
		}
		if a.mode == walking {
			at := a.model.Under(a.cursor)
			if at.Member == "" || c.Post == a.cursor.Post {
				return nil
			}
			a.grab(at)
			a.dragged = a.mode == carrying
		}
		if a.dragged {
			a.cursor.Post, a.cursor.Lantern = c.Post, 0
		}
	case tea.MouseReleaseMsg:
		if a.mode == carrying && a.dragged {
			a.dragged = false
			return a.drop()
		}
	}
	return nil
}

// point stands where somebody points: on the board, in the journal, at a view's name, at a moment of the tide.
func (a *app) point(x, y int) tea.Cmd {
	f := a.frame()
	if y == f.views {
		for _, v := range a.viewNames() {
			if x >= v.x && x < v.x+v.w {
				return v.view.open(a)
			}
		}
		return nil
	}
	if y >= f.tide.Y && y < f.tide.Y+f.tide.H {
		if at, ok := a.drawnTide().At(x, f.tide); ok && len(a.tide) > 0 {
			return a.goTo(at)
		}
		return nil
	}
	if a.view == journalView {
		if a.journal.Click(x-f.area.X, y-f.area.Y) {
			return a.standOn(0)
		}
		return nil
	}
	if a.view == accessView {
		return nil
	}
	if c, ok := board.Hit(a.model, a.boardArea(), a.cursor, x, y); ok {
		a.cursor, a.message = c, ""
		return a.readLately()
	}
	return nil
}

func (a *app) wheel(b tea.MouseButton, x, y int) tea.Cmd {
	by := 1
	if b == tea.MouseWheelUp {
		by = -1
	} else if b != tea.MouseWheelDown {
		return nil
	}
	f := a.frame()
	switch {
	case a.mode == inReview || a.mode == inKeys:
		a.scroll = max(0, min(a.scroll+3*by, a.lines-a.shown))
	case a.mode != walking:
	case inside(f.tide, x, y):
		return a.stepTime(by)
	case a.view == journalView:
		return a.standOn(3 * by)
	case a.view == accessView:
		a.access.Move(a.snap, by)
	default:
		a.cursor = a.model.Move(a.cursor, 0, by)
	}
	return nil
}

func inside(a tide.Area, x, y int) bool {
	return x >= a.X && x < a.X+a.W && y >= a.Y && y < a.Y+a.H
}

package tui

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/health"
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
	record := a.rolls.Record
	switch {
	case a.whatIf:
		kind = "survives"
	case a.view == orderView:
		kind = "order"
	}
	if told := a.charts.Told; a.view == healthView {
		if told == nil || len(told.Charts) == 0 {
			return func() tea.Msg {
				return drawnMsg{"There is nothing yet that could be drawn.", errors.New("nothing was measured")}
			}
		}
		shown := *told
		if c := told.Chart(a.charts.Chart); a.charts.Large && c != nil {
			shown.Charts = []health.Chart{*c}
		}
		of := cmp.Or(told.Role, "field")
		return drawTwice(fmt.Sprintf("%s-%s-health", snap.Field, of), "The health of the "+of, light, func(t draw.Theme) *draw.Drawing { return draw.Health(snap.Field, &shown, t) })
	}
	if a.view == rolloutView {
		if record == nil {
			return func() tea.Msg { return drawnMsg{"There is nothing yet that could be drawn.", errors.New("no rollout")} }
		}
		return drawTwice(snap.Field+"-"+strings.ReplaceAll(record.Title(), " ", "-"), "The rollout", light, func(t draw.Theme) *draw.Drawing { return draw.Rollout(snap.Field, record, t) })
	}
	return func() tea.Msg {
		if snap.State == snapshot.Draft || snap.State == snapshot.Retired {
			if draft == nil {
				return drawnMsg{"There is nothing yet that could be drawn.", errors.New("no draft")}
			}
			snap = draw.Draft(draft)
		}
		what := map[string]string{"board": "The board", "order": "The order", "survives": "What it survives"}[kind]
		return drawTwice(snap.Field+"-"+kind, what, light, func(t draw.Theme) *draw.Drawing { return draw.Of(kind, snap, t) })()
	}
}

// drawTwice draws into an SVG file in the colours of the screen, and into a PDF file in those of paper.
func drawTwice(name, what string, light bool, of func(draw.Theme) *draw.Drawing) tea.Cmd {
	return func() tea.Msg {
		theme := draw.Night
		if light {
			theme = draw.Light
		}
		if err := errors.Join(draw.Save(of(draw.Light), name+".pdf"), draw.Save(of(theme), name+".svg")); err != nil {
			return drawnMsg{err.Error(), err}
		}
		return drawnMsg{fmt.Sprintf("%s is drawn into %s.svg and %s.pdf.", what, name, name), nil}
	}
}

package tui

import (
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
)

// choice is what somebody stands on among the findings: one of them, and one of the edits that it offers; -1 for none.
type choice struct {
	finding, edit int
}

// mostSolved bounds the work of what is worked out beside the screen, in nodes times members.
const mostSolved = 2_000_000

func (a *app) openFindings() {
	switch {
	case a.inPast():
	case len(a.findings) == 0:
		a.say(false, "Nothing is found to be wrong or risky in the draft.")
	default:
		a.mode, a.view, a.from = inFindings, boardView, a.cursor
		a.choose(choice{edit: -1})
	}
}

// choose stands on a finding; the cursor of the board shows what it is about, and the board what its edit would do.
func (a *app) choose(c choice) {
	a.choice = c
	if f := a.chosen(); f != nil && f.Role != "" {
		for i := range a.model.Roles {
			if a.model.Roles[i].Role == f.Role {
				a.cursor = a.model.Keep(board.Cursor{Role: i, Post: -1})
			}
		}
	}
	a.rebuild()
}

func (a *app) chosen() *finding.Finding {
	if a.mode != inFindings || a.choice.finding >= len(a.findings) {
		return nil
	}
	return &a.findings[a.choice.finding]
}

// previewed is the edit whose outcome the board shows; nil when there is none.
func (a *app) previewed() *finding.Edit {
	f := a.chosen()
	if a.draft != nil && len(a.draft.Nodes)*len(a.snap.Members) > mostSolved {
		return nil
	}
	if f == nil || a.choice.edit < 0 || a.choice.edit >= len(f.Edits) || a.draft == nil {
		return nil
	}
	return &f.Edits[a.choice.edit]
}

// accept asks why somebody lives with a finding.
func (a *app) accept(f finding.Finding) {
	if f.Accepted != "" {
		a.say(false, "It is accepted already: "+f.Accepted+".")
		return
	}
	if f.Severity == finding.Error {
		a.say(true, "An error cannot be accepted: the draft could not be deployed with it.")
		return
	}
	a.askText("Why do you live with it?", f.Text+". The reason is kept in the file.", "", func(reason string) tea.Cmd {
		e, err := f.Acceptance(reason)
		if err != nil {
			a.say(true, err.Error())
			return nil
		}
		return a.put(e.Text, e.Puts...)
	})
}

// mended makes the draft with an edit made; the draft itself where it cannot be.
func (a *app) mended(e *finding.Edit) func() *field.Field {
	draft, loaded, others := a.draft, a.loaded, a.folder.Around
	return func() *field.Field {
		if e.Change != nil {
			return e.Change.On(draft)
		}
		if loaded == nil {
			return draft
		}
		if data, err := loaded.Put(e.Puts...); err == nil {
			if f, err := loaded.With(data); err == nil {
				return resolve.Draft(f.Field, plan.Live{}, others)
			}
		}
		return draft
	}
}

func (a *app) pressFindings(is keyIs) tea.Cmd {
	c := a.choice
	switch {
	case is(a.keys.Close), is(a.keys.Quit), is(a.keys.Findings):
		a.mode = walking
		a.rebuild()
	case is(a.keys.Down):
		if c.edit++; c.edit >= len(a.findings[c.finding].Edits) {
			if c.finding+1 >= len(a.findings) {
				return nil
			}
			c = choice{finding: c.finding + 1, edit: -1}
		}
		a.choose(c)
	case is(a.keys.Up):
		switch c.edit--; {
		case c.edit >= -1:
		case c.finding == 0:
			return nil
		default:
			c.finding--
			c.edit = len(a.findings[c.finding].Edits) - 1
		}
		a.choose(c)
	case is(a.keys.Accept):
		a.accept(a.findings[c.finding])
	case is(a.keys.Mend):
		edits := a.findings[c.finding].Edits
		if c.edit < 0 || c.edit >= len(edits) {
			if len(edits) > 0 {
				a.choose(choice{finding: c.finding})
			}
			return nil
		}
		e := edits[c.edit]
		a.mode = walking
		a.rebuild()
		if e.Change == nil {
			return a.put(e.Text, e.Puts...)
		}
		change, text := *e.Change, e.Text
		return a.change(func(*field.Field, plan.Live) (arrange.Change, string, error) { return change, text, nil })
	}
	return nil
}

// inFindings has the findings stand beside the board.
var inFindings = &layer{name: "findings"}

func init() {
	draw := func(a *app, g *grid.Grid, at board.Area) {
		panel.Findings(g, a.look, a.findings, a.choice.finding, a.choice.edit, a.outcome(), at)
	}
	*inFindings = layer{name: "findings", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressFindings(is) },
		over: func(_ *app, f frame) bool { return f.side.W == 0 },
		keys: func(a *app) []hint {
			all := []hint{{a.arrows().upDown, "choose"}}
			if a.choice.edit >= 0 {
				all = append(all, hintOf(a.keys.Mend, "make this edit"))
			}
			return append(all, hintOf(a.keys.Close, "back"))
		},
		says: func(*app) (string, string) {
			return "findings: enter makes an edit, c accepts it, esc goes back", "findings: enter mends, c accepts, esc: back"
		},
		side: func(a *app, g *grid.Grid, f frame) { draw(a, g, f.side) },
		draw: func(a *app, g *grid.Grid, f frame) {
			if f.side.W == 0 && f.area.H > 0 {
				draw(a, g, board.Area{X: 0, Y: f.area.Y, W: a.w, H: f.area.H})
			}
		}}
}

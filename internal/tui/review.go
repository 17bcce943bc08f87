package tui

import (
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/theme"
)

// bodyOf is what the lines of a review were made of.
type bodyOf struct {
	review   *plan.Review
	findings []finding.Finding
	width    int
	colours  theme.Theme
}

// reviewBody gives the lines of the review, made anew only when what they are made of has changed.
func (a *app) reviewBody() panel.Body {
	of := bodyOf{a.review, a.findings, a.w, a.look}
	b := &a.body
	if b.review != of.review || b.width != of.width || b.colours != of.colours || len(b.findings) != len(of.findings) ||
		len(of.findings) > 0 && &b.findings[0] != &of.findings[0] {
		a.body, a.written = of, panel.ReviewBody(a.w, a.look, a.review, a.findings)
	}
	return a.written
}

// inReview has the review over the view; inKeys, the list of keys; inDetail, what is under the cursor.
var inReview, inKeys, inDetail = &layer{name: "review"}, &layer{name: "keys"}, &layer{name: "detail"}

func init() {
	scroll := func(a *app, all []hint) []hint {
		if a.lines > a.shown {
			all = append(all, hint{a.arrows().upDown, "scroll"})
		}
		return append(all, hintOf(a.keys.Close, "back"))
	}
	*inReview = layer{name: "review", over: always,
		press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd {
			switch {
			case is(a.keys.Deploy) && a.deployable():
				a.mode = walking
				return a.order(control.Request{What: "deploy", Draft: a.draft, Accepted: a.review})
			case is(a.keys.Restart) && a.review != nil && len(a.review.Pending) > 0 && !a.inPast():
				a.askToTakeUp()
				return nil
			}
			return a.pressOver(is)
		},
		keys: func(a *app) (all []hint) {
			if a.deployable() {
				all = append(all, hintOf(a.keys.Deploy, "deploy this"))
			}
			if a.review != nil && len(a.review.Pending) > 0 {
				all = append(all, hintOf(a.keys.Restart, "restart what waits"))
			}
			return scroll(a, all)
		},
		draw: func(a *app, g *grid.Grid, _ frame) {
			a.lines, a.shown = panel.Review(g, a.look, a.reviewBody(), a.reviewFoot(), a.scroll)
		}}
	*inKeys = layer{name: "keys", over: always,
		press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd {
			if is(a.keys.Keys) {
				a.mode = walking
				return nil
			}
			return a.pressOver(is)
		},
		keys: func(a *app) []hint { return scroll(a, nil) },
		draw: func(a *app, g *grid.Grid, _ frame) {
			a.lines, a.shown = panel.Keys(g, a.look, a.keys.groups(), a.scroll)
		}}
	*inDetail = layer{name: "detail", over: always,
		press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd {
			if is(a.keys.Up) || is(a.keys.Down) || is(a.keys.PageUp) || is(a.keys.PageDown) {
				return a.pressOver(is)
			}
			a.mode = walking
			if is(a.keys.Close) || is(a.keys.Quit) || is(a.keys.Inspect) {
				return nil
			}
			return a.pressBoard(is) // the keys that it names
		},
		keys: func(a *app) []hint { return []hint{hintOf(a.keys.Close, "back")} },
		draw: func(a *app, g *grid.Grid, _ frame) {
			a.layWhy()
			panel.DetailOver(g, a.look, a.model, a.cursor, a.moment(), a.can())
		}}
}

// reviewFoot says what can be done about the review.
func (a *app) reviewFoot() string {
	foot := "esc goes back, nothing has been done"
	switch {
	case a.deployable():
		foot = "d deploys this     esc goes back"
	case finding.HasErrors(a.findings):
		foot = "it cannot be deployed before the errors are mended     esc goes back"
	case a.review != nil && a.review.Quick:
		foot = "it is being worked out     esc goes back"
	}
	if a.review != nil && len(a.review.Pending) > 0 {
		foot = "r restarts what waits for it     " + foot
	}
	return foot
}

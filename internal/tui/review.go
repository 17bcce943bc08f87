package tui

import (
	"fmt"

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
	words    string
}

// reading is where one stands in the review, and which of its steps are shown.
type reading struct {
	at    int    // of the steps that are shown
	words string // what they are about; empty for all
}

// reviewBody gives the lines of the review, made anew only when what they are made of has changed.
func (a *app) reviewBody() panel.Body {
	of := bodyOf{a.review, a.findings, a.w, a.look, a.standing.words}
	b := &a.body
	if b.review != of.review || b.width != of.width || b.words != of.words || b.colours != of.colours || len(b.findings) != len(of.findings) ||
		len(of.findings) > 0 && &b.findings[0] != &of.findings[0] {
		a.body, a.written = of, panel.ReviewBody(a.w, a.look, a.review, a.findings, a.standing.words)
		a.standing.at = max(0, min(a.standing.at, a.written.Steps()-1))
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
		if a.mode == inReview && a.standing.words != "" {
			return append(all, hintOf(a.keys.Close, "all steps"))
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
			return a.pressReview(is)
		},
		keys: func(a *app) (all []hint) {
			switch s := a.reviewStep(); {
			case s == nil || !s.Altering():
			case s.Kind == plan.Start:
				all = append(all, hintOf(a.keys.Inspect, "what it is run with"))
			default:
				all = append(all, hintOf(a.keys.Inspect, "what differs"))
			}
			if a.review != nil && len(a.review.Steps) > 1 {
				all = append(all, hintOf(a.keys.Filter, "show only some"))
			}
			if a.deployable() {
				all = append(all, hintOf(a.keys.Deploy, "deploy this"))
			}
			if a.review != nil && len(a.review.Pending) > 0 {
				all = append(all, hintOf(a.keys.Restart, "restart what waits"))
			}
			return scroll(a, all)
		},
		draw: func(a *app, g *grid.Grid, _ frame) {
			a.lines, a.shown = panel.Review(g, a.look, a.reviewBody(), a.reviewFoot(), a.scroll, a.standing.at)
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

// reviewStep is the step of the review that the cursor stands on; nil where there is none.
func (a *app) reviewStep() *plan.Step {
	if a.review == nil {
		return nil
	}
	if i := a.reviewBody().Step(a.standing.at); i >= 0 && i < len(a.review.Steps) {
		return &a.review.Steps[i]
	}
	return nil
}

// pressReview goes from step to step, and beyond the first and the last from line to line.
func (a *app) pressReview(is keyIs) tea.Cmd {
	if a.review == nil {
		return a.pressOver(is)
	}
	b := a.reviewBody()
	stand := func(at int) {
		a.standing.at = max(0, min(at, b.Steps()-1))
		from, to := b.Reach(a.standing.at)
		a.scroll = max(0, min(a.scroll, from), to-max(1, a.shown)+1)
	}
	switch at := a.standing.at; {
	case is(a.keys.Close) && a.standing.words != "":
		a.standing, a.scroll = reading{}, 0
	case is(a.keys.Filter):
		a.askText("Show only the steps about", "words of a step: a member, role, node, zone, or what is done; nothing shows all", a.standing.words, func(words string) tea.Cmd {
			a.standing, a.scroll = reading{words: words}, 0
			return nil
		})
	case is(a.keys.Inspect):
		if s := a.reviewStep(); s != nil && s.Altering() {
			return a.openFilesOf(s.Member, inReview)
		}
	case is(a.keys.Down) && at < b.Steps()-1:
		stand(at + 1)
	case is(a.keys.Up) && at > 0:
		stand(at - 1)
	case is(a.keys.First):
		stand(0)
		a.scroll = 0
	case is(a.keys.Last):
		stand(b.Steps() - 1)
	case (is(a.keys.PageDown) || is(a.keys.PageUp)) && b.Steps() > 0:
		cmd := a.pressOver(is)
		if from, to := b.Reach(at); from < a.scroll || to >= a.scroll+a.shown {
			a.standing.at = b.Near(a.scroll)
		}
		return cmd
	default:
		return a.pressOver(is)
	}
	return nil
}

// reviewFoot says what can be done about the review.
func (a *app) reviewFoot() string {
	foot := "esc goes back, nothing has been done"
	switch {
	case a.deployable() && a.standing.words != "":
		foot = fmt.Sprintf("d deploys all %d steps, not only these     esc shows them all", len(a.review.Steps))
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

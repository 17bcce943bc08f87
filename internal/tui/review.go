package tui

import (
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/tui/look"
	"lanternfield/internal/tui/panel"
)

// bodyOf is what the lines of a review were made of.
type bodyOf struct {
	review   *plan.Review
	findings []finding.Finding
	width    int
	colours  look.Look
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

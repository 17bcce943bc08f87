package tui

import (
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/footprint"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
)

// beside is something that takes the solver and is therefore worked out beside the screen, one at a time: the newest result, with what it
// was made of. K is what it is made of; pointers in it stand for what they point to, which is never changed.
type beside[K comparable, V any] struct {
	of    K
	value V
	there bool
	busy  bool
}

// besideMsg brings a result.
type besideMsg struct{ take func() }

// get gives the result where it was made of that.
func (b *beside[K, V]) get(of K) (value V, there bool) {
	if !b.there || b.of != of {
		return value, false
	}
	return b.value, true
}

// want has it made, unless it is there or another one is being made; that one's end asks again.
func (b *beside[K, V]) want(of K, make func() V) tea.Cmd {
	if b.busy || b.there && b.of == of {
		return nil
	}
	b.busy = true
	return func() tea.Msg {
		value := make()
		return besideMsg{func() { *b = beside[K, V]{of: of, value: value, there: true} }}
	}
}

// previewOf is what a preview is made of: an edit, the draft, and the comparison that tells how the field is.
type previewOf struct {
	edit   *finding.Edit
	draft  *field.Field
	review *plan.Review
}

// preview is what an edit of a finding would lead to.
type preview struct {
	draft  *field.Field
	review *plan.Review
	left   int // findings
}

// reasonsOf is what the reasons of a placement are made of.
type reasonsOf struct {
	member field.MemberName
	draft  *field.Field
}

// amounts is what members take together: as the draft has them, and as they run.
type amounts struct{ draft, live footprint.Footprint }

// amountsOf is what amounts are made of.
type amountsOf struct {
	draft  *field.Field
	review *plan.Review
}

// derive has worked out what the screen shows now and has not got yet.
func (a *app) derive() tea.Cmd {
	var all []tea.Cmd
	add := func(cmd tea.Cmd) {
		if cmd != nil {
			all = append(all, cmd)
		}
	}
	live := a.snap.Live
	if e := a.previewed(); e != nil {
		draft, mended, now := a.draft, a.mended(e), live()
		add(a.previews.want(previewOf{e, draft, a.review}, func() preview {
			p := preview{draft: mended()}
			p.left = len(finding.All(p.draft))
			p.draft = resolve.Draft(p.draft, now, nil)
			p.review = plan.Preview(p.draft, now)
			return p
		}))
	}
	if m, ok := a.explained(); ok {
		draft, now := a.draft, live()
		add(a.reasons.want(reasonsOf{m, draft}, func() []string { return arrange.WhyHere(draft, now, m) }))
	}
	if a.mode == inSheet && a.draft != nil && a.draft.Cycle() == nil {
		draft, now := a.draft, live()
		add(a.taken.want(amountsOf{draft, a.review}, func() amounts { return amountsBy(draft, now) }))
	}
	return tea.Batch(all...)
}

// amountsBy sums what members take by a draft, and what those take that run.
func amountsBy(draft *field.Field, live plan.Live) amounts {
	leaves := map[field.MemberName]bool{}
	p := plan.Make(draft, live)
	for _, r := range p.Removes {
		leaves[r.Member] = true
	}
	var run, stay []place.Member
	for _, m := range live.Members {
		if run = append(run, m.Member); !leaves[m.Name] {
			stay = append(stay, m.Member)
		}
	}
	return amounts{draft: footprint.Of(draft, append(stay, p.Adds...)), live: footprint.Of(draft, run)}
}

package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
)

// proposal is a better placement, shown on the board before it is taken.
type proposal struct {
	arrange.Proposal
	of     *field.Field // the draft for which it is
	draft  *field.Field // with the proposal taken
	review *plan.Review // of that
}

// propose looks for a better placement of what the draft has.
func (a *app) propose() tea.Cmd {
	switch {
	case a.inPast():
		return nil
	case a.loaded == nil:
		a.say(true, "There is no draft for which a placement could be proposed. "+a.trouble)
		return nil
	case a.draft.Cycle() != nil:
		a.say(true, "Roles wait for each other, so that nothing can be placed: f shows where.")
		return nil
	}
	a.say(false, "A placement is being looked for.")
	draft, live := a.draft, a.snap.Live()
	return func() tea.Msg {
		p := &proposal{Proposal: arrange.Propose(draft, live), of: draft}
		p.draft = p.On(draft)
		p.review = plan.Preview(p.draft, live)
		return proposalMsg{p}
	}
}

// proposalMsg brings what is proposed.
type proposalMsg struct{ *proposal }

func (a *app) takeProposal(p *proposal) {
	switch {
	case p.of != a.draft || a.mode != walking: // it was looked for in another draft, or something else is done now
		a.message = ""
	case len(p.Moves) == 0:
		a.say(false, "Nothing would stand better elsewhere, as far as pins and the constraints allow.")
	case len(p.Changes) == 0:
		a.say(true, p.Moves[0].Sentence()+"; f shows what would make room.")
	default:
		a.message = ""
		a.proposal, a.mode, a.view = p, inProposal, boardView
		a.rebuild()
	}
}

// proposed says what is proposed, a line for each move.
func (a *app) proposed() []string {
	lines := make([]string, len(a.proposal.Moves))
	for i, m := range a.proposal.Moves {
		lines[i] = m.Sentence()
	}
	return lines
}

func (a *app) pressProposal(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Close), is(a.keys.Quit), is(a.keys.Propose):
		a.mode, a.proposal = walking, nil
		a.rebuild()
		a.say(false, "Nothing was moved.")
	case is(a.keys.Mend):
		p := a.proposal
		a.mode, a.proposal = walking, nil
		a.rebuild()
		return a.rewrite(func(base *fieldfile.File, _ plan.Live) ([]byte, string, error) {
			now := base
			for _, c := range p.Changes {
				data, err := now.Set(c)
				if err != nil {
					return nil, "", err
				}
				if now, err = base.With(data); err != nil {
					return nil, "", err
				}
			}
			what := p.Moves[0].Sentence()
			if len(p.Moves) > 1 {
				what = fmt.Sprintf("%d members moved, as proposed", len(p.Moves))
			}
			return now.Bytes, what, nil
		})
	case is(a.keys.Up), is(a.keys.Down), is(a.keys.Left), is(a.keys.Right):
		by := map[bool]int{true: 1}
		a.cursor = a.model.Move(a.cursor, by[is(a.keys.Right)]-by[is(a.keys.Left)], by[is(a.keys.Down)]-by[is(a.keys.Up)])
	}
	return nil
}

// explained is the member under the cursor, where it is to be said why it stands there.
func (a *app) explained() (field.MemberName, bool) {
	_, m := a.model.Member(a.model.Under(a.cursor).Member)
	if m == nil || a.draft == nil || a.past != nil || a.proposal != nil || a.previewed() != nil || a.draft.Cycle() != nil ||
		len(a.draft.Nodes)*max(1, len(a.snap.Members)) > mostSolved {
		return "", false
	}
	return m.Member, true
}

// layWhy lets the member under the cursor say why it stands there.
func (a *app) layWhy() {
	name, ok := a.explained()
	if !ok {
		return
	}
	_, m := a.model.Member(name)
	m.Reasons, _ = a.reasons.get(reasonsOf{name, a.draft})
}

// inProposal has the board show a placement that is proposed.
var inProposal = &layer{name: "proposal"}

func init() {
	*inProposal = layer{name: "proposal", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressProposal(is) },
		keys: func(a *app) []hint {
			return []hint{hintOf(a.keys.Mend, "take it"), hintOf(a.keys.Close, "move nothing")}
		},
		says: func(*app) (string, string) { return "proposed: enter takes it, esc moves nothing", "" },
		side: func(a *app, g *grid.Grid, f frame) { panel.Proposal(g, a.look, a.proposed(), f.side) },
		draw: func(a *app, g *grid.Grid, f frame) {
			if f.side.W == 0 {
				a.lines, a.shown = panel.Ask(g, a.look, "A placement is proposed", a.proposed(), false, "enter takes it     esc moves nothing")
			}
		}}
}

package tui

import (
	"fmt"
	"maps"
	"slices"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/wording"
)

// mendedMsg brings what came of mending machines.
type mendedMsg struct {
	outcomes []control.MendOutcome
	err      error
}

// askToMend shows what can be done about the checks that fail, on all machines, and asks whether to do it.
func (a *app) askToMend() tea.Cmd {
	if a.inPast() {
		return nil
	}
	var steps []preflight.Mending
	if a.machines.Matrix != nil {
		steps = a.machines.Matrix.Mendable()
	}
	switch {
	case len(steps) == 0:
		a.say(false, "Nothing of what fails can be mended from here. Standing on it tells what to do.")
		return nil
	case a.session == nil || a.draft == nil:
		a.say(true, "Nobody keeps the field just now; a keeper is being started.")
		return nil
	}
	where := map[string]bool{}
	for _, s := range steps {
		where[string(s.Node)] = true
	}
	q := &ask{title: fmt.Sprintf("Do %s on %s?", wording.Plural(len(steps), "this", "these"), wording.And(slices.Sorted(maps.Keys(where)))), stays: true}
	for _, s := range steps {
		q.text = append(q.text, fmt.Sprintf("%s: %s", s.Node, s.Step))
	}
	q.text = append(q.text, "", "It is noted in the ledger, and undone when the node is given up or the field retired. Services of packages are not started.")
	q.do = func() tea.Cmd {
		session, ctx, ask := a.session, a.ctx, control.MendAsked{Draft: a.draft, Steps: steps, By: whoIsHere()}
		a.say(false, fmt.Sprintf("It is being done: %s.", wording.Counted(len(steps), "step")))
		return func() tea.Msg {
			out, err := session.Mend(ctx, ask)
			return mendedMsg{out, err}
		}
	}
	a.ask, a.mode, a.scroll = q, inConfirm, 0
	return nil
}

// takeMended says what came of it, and looks again.
func (a *app) takeMended(msg mendedMsg) tea.Cmd {
	failed := slices.DeleteFunc(slices.Clone(msg.outcomes), func(o control.MendOutcome) bool { return o.Why == "" })
	switch {
	case msg.err != nil:
		a.failed(msg.err)
		return nil
	case len(failed) == 0:
		a.say(false, fmt.Sprintf("Done: %s.", wording.Counted(len(msg.outcomes), "step")))
	default:
		text := fmt.Sprintf("%d of %s could not be done:", len(failed), wording.Counted(len(msg.outcomes), "step"))
		for _, o := range failed {
			text += fmt.Sprintf("\n%s: %s: %s", o.Node, o.Step, o.Why)
		}
		a.failed(fmt.Errorf("%s", text))
	}
	return a.lookAtMachines()
}

package tui

import (
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/state"
)

// askToStopHere asks whether what is carried out is to be left half-way.
func (a *app) askToStopHere() {
	if a.inPast() {
		return
	}
	r := a.rolls.Record
	if r == nil || !r.Active() || r.Number == 0 || r.What == "retire" {
		a.say(true, "Nothing is being carried out here that could be stopped.")
		return
	}
	waiting := 0
	for i := range r.Rows {
		if r.Rows[i].Begun.IsZero() && r.Rows[i].Action != rollout.Flaps {
			waiting++
		}
	}
	a.ask = &ask{title: fmt.Sprintf("Stop the %s here?", r.What), order: control.Request{What: control.StopHere}, text: []string{
		fmt.Sprintf("%s; %s not begun yet, and would not be begun. What has begun goes on to its end.", r.Counts(), map[bool]string{true: fmt.Sprintf("%d are", waiting), false: "1 is"}[waiting != 1]),
		"A deploy goes on from there; b goes back to the draft before."}}
	a.mode, a.scroll = inConfirm, 0
}

// canTryAgain is the chosen member, where it can be tried again.
func (a *app) canTryAgain() field.MemberName {
	row := a.rolls.Row()
	if row == nil || a.past != nil || !row.Done.IsZero() && row.Now().Phase == state.Ready {
		return ""
	}
	_, m := a.model.Member(row.Member)
	if m == nil || m.Halted || m.Leaving || m.Phase == state.Ready || m.Phase == state.Planned && m.Trouble == "" || m.Phase == state.Placing {
		return ""
	}
	return row.Member
}

// tryAgain has the chosen member tried again.
func (a *app) tryAgain() tea.Cmd {
	if a.inPast() {
		return nil
	}
	name := a.canTryAgain()
	if name == "" {
		a.say(true, "Go to a member that fails, or does not get ready: it is tried again.")
		return nil
	}
	a.say(false, fmt.Sprintf("%s is tried again.", name))
	return a.order(control.Request{What: control.TryAgain, Names: []string{string(name)}})
}

// backMsg is what going back would do.
type backMsg struct {
	draft  *field.Field
	number int
	review *plan.Review
	err    error
}

// readBack works out what going back to the draft before would do.
func (a *app) readBack() tea.Cmd {
	if a.inPast() {
		return nil
	}
	session, ctx, folder := a.session, a.ctx, a.folder
	if session == nil {
		return nil
	}
	return func() tea.Msg {
		var msg backMsg
		if msg.draft, msg.number, msg.err = control.DraftBefore(folder); msg.err == nil {
			msg.review, msg.err = session.Review(ctx, msg.draft)
		}
		return msg
	}
}

// mostSteps is how many steps a question lists.
const mostSteps = 20

// askToGoBack shows what going back would do, and asks.
func (a *app) askToGoBack(msg backMsg) {
	switch {
	case msg.err == nil && msg.review.Empty():
		msg.err = errors.New("what runs is already as the draft before has it")
	case msg.err == nil && (len(msg.review.Missing) > 0 || len(msg.review.Unplaced) > 0):
		msg.err = errors.New("it cannot be deployed as the machines are now; `lanternfield rollout --back` says why")
	}
	if msg.err != nil {
		a.say(true, "It cannot go back: "+oneLine(msg.err.Error()))
		return
	}
	q := &ask{title: fmt.Sprintf("Go back to the draft of rollout %d?", msg.number), order: control.Request{What: "deploy", Draft: msg.draft, Accepted: msg.review}}
	for i, s := range msg.review.Steps {
		if i == mostSteps && len(msg.review.Steps) > mostSteps+1 {
			q.text = append(q.text, fmt.Sprintf("and %d more steps.", len(msg.review.Steps)-mostSteps))
			break
		}
		q.text = append(q.text, s.Text)
	}
	q.text = append(q.text, "The field file stays as it is: what it says otherwise shows as a change again.")
	a.ask, a.mode, a.scroll = q, inConfirm, 0
}

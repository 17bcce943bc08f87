package tui

import (
	"slices"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/rollouts"
)

// rolled is what the view of rollouts has been asked to show.
type rolled struct {
	number  int // 0: what goes on, or has ended last
	busy    bool
	again   bool
	at      time.Time // when it was read last
	ended   bool      // what was read had ended: it will not change
	compare bool
}

// rolloutMsg is a rollout as it was read.
type rolloutMsg struct {
	asked  int
	record *rollout.Record
	other  *rollout.Record
	list   []snapshot.RolloutView
	err    error
}

// How often what goes on is read anew, and what has ended: another may have begun.
const (
	rolloutEvery = 900 * time.Millisecond
	endedEvery   = 3 * time.Second
)

var rolloutView = &view{name: "Rollout"}

func init() {
	rolloutView.wide = true
	rolloutView.key = func(k keyMap) key.Binding { return k.Rollout }
	rolloutView.open = func(a *app) tea.Cmd { a.view = rolloutView; return a.readRolloutNow() }
	rolloutView.press = func(a *app, is keyIs) tea.Cmd { return a.pressRollout(is) }
	rolloutView.keys = (*app).rolloutHints
	rolloutView.draw = (*app).drawRollout
}

// readRollout reads what is shown again when it is time to.
func (a *app) readRollout() tea.Cmd {
	every := rolloutEvery
	if a.rolled.ended {
		every = endedEvery
	}
	if a.view != rolloutView || time.Since(a.rolled.at) < every || a.rolled.ended && a.rolled.number > 0 {
		return nil
	}
	return a.readRolloutNow()
}

// readRolloutNow reads it, one reading at a time.
func (a *app) readRolloutNow() tea.Cmd {
	session, ctx := a.session, a.ctx
	if session == nil {
		return nil
	}
	if a.rolled.busy {
		a.rolled.again = true
		return nil
	}
	a.rolled.busy, a.rolled.at = true, time.Now()
	number, compare, moment := a.rolled.number, a.rolled.compare, time.Time{}
	if a.past != nil {
		moment = a.past.at
	}
	return func() tea.Msg {
		msg := rolloutMsg{asked: number}
		msg.list, _ = session.Rollouts(ctx)
		if number == 0 && !moment.IsZero() {
			number = (&rollouts.View{List: msg.list}).Covering(moment)
		}
		msg.record, msg.err = session.Rollout(ctx, control.RolloutAsked{Number: number})
		if msg.err == nil && compare && msg.record.Number > 0 {
			for _, r := range slices.Backward(msg.list) {
				if r.Number < msg.record.Number && r.What == msg.record.What {
					msg.other, _ = session.Rollout(ctx, control.RolloutAsked{Number: r.Number})
					break
				}
			}
		}
		return msg
	}
}

// takeRollout takes in what was read.
func (a *app) takeRollout(msg rolloutMsg) tea.Cmd {
	a.rolled.busy = false
	if msg.asked == a.rolled.number {
		a.rolls.List = msg.list
		if msg.err == nil {
			if before := a.rolls.Record; before == nil || before.Number != msg.record.Number || before.Task != msg.record.Task {
				a.rolls.Anew()
			}
			a.rolls.Record, a.rolls.Other, a.rolls.Why = msg.record, msg.other, ""
			a.rolled.ended = !msg.record.Active()
		} else {
			a.rolls.Record, a.rolls.Other, a.rolls.Why = nil, nil, ""
			if a.snap.State != snapshot.Draft {
				a.rolls.Why = msg.err.Error()
			}
		}
		if a.rolled.compare && msg.err == nil && msg.other == nil {
			a.rolled.compare = false
			a.say(true, "There is none of its kind before it that it could be compared with.")
		}
	}
	if a.rolled.again {
		a.rolled.again = false
		return a.readRolloutNow()
	}
	return nil
}

// pressRollout takes the keys of the view of rollouts.
func (a *app) pressRollout(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Up):
		a.rolls.Move(-1)
	case is(a.keys.Down):
		a.rolls.Move(1)
	case is(a.keys.First):
		a.rolls.Move(-1 << 20)
	case is(a.keys.Last):
		a.rolls.Move(1 << 20)
	case is(a.keys.PageUp):
		a.rolls.Move(-10)
	case is(a.keys.PageDown):
		a.rolls.Move(10)
	case is(a.keys.Waiting):
		if !a.rolls.ToWaiting() {
			a.say(false, "Everybody has come to where they were to come.")
		}
	case is(a.keys.FoldRole):
		a.rolls.Fold()
	case is(a.keys.Earlier), is(a.keys.Later):
		return a.stepRollout(map[bool]int{true: 1, false: -1}[is(a.keys.Later)])
	case is(a.keys.Beside):
		a.rolled.compare = !a.rolled.compare
		return a.readRolloutNow()
	case is(a.keys.Inspect):
		return a.toMember()
	case is(a.keys.Lines):
		if row := a.rolls.Row(); row != nil {
			return a.openJournal(string(row.Member))
		}
	case is(a.keys.StopHere):
		a.askToStopHere()
		return nil
	case is(a.keys.Again):
		return a.tryAgain()
	case is(a.keys.GoBack):
		return a.readBack()
	case is(a.keys.Pause):
		return a.pauseOrGoOn()
	case is(a.keys.Review):
		return a.openReview()
	case is(a.keys.Answer):
		a.answer()
	case is(a.keys.Export):
		return a.export()
	case is(a.keys.Close):
		if a.rolled.number > 0 || a.rolled.compare {
			a.rolled.number, a.rolled.compare = 0, false
			return a.readRolloutNow()
		}
		a.view = boardView
	}
	return a.readLately()
}

// stepRollout goes to the rollout before, or after.
func (a *app) stepRollout(by int) tea.Cmd {
	number, ok := a.rolls.Step(by)
	switch {
	case ok:
		a.rolled.number = number
		return a.readRolloutNow()
	case by > 0:
		a.rolled.number = 0
		a.say(false, "This is the newest.")
		return a.readRolloutNow()
	}
	a.say(false, "This is the first that is remembered.")
	return nil
}

// toMember goes to the chosen member on the board.
func (a *app) toMember() tea.Cmd {
	row := a.rolls.Row()
	if row == nil {
		return nil
	}
	if _, m := a.model.Member(row.Member); m == nil {
		a.say(true, string(row.Member)+" is not on the board any more.")
		return nil
	}
	a.view, a.cursor = boardView, a.model.Find(board.Place{Role: row.Role, Member: row.Member}, a.cursor)
	return a.readLately()
}

func (a *app) rolloutHints() []hint {
	all := []hint{{a.arrows().upDown, "move"}}
	r := a.rolls.Record
	if r == nil {
		return append(all, hintOf(a.keys.Review, "review"), hintOf(a.keys.Board, "board"))
	}
	if r.Active() {
		all = append(all, hintOf(a.keys.Waiting, "who is not done"))
		if a.snap.Rollout.Active && a.snap.Rollout.Number > 0 {
			all = append(all, hintOf(a.keys.Pause, map[bool]string{true: "go on", false: "pause"}[a.snap.Rollout.Paused]), hintOf(a.keys.StopHere, "stop here"))
		}
	}
	if a.canTryAgain() != "" {
		all = append(all, hintOf(a.keys.Again, "try again"))
	}
	if r.Failed != "" || r.Active() && r.What == "deploy" {
		all = append(all, hintOf(a.keys.GoBack, "go back"))
	}
	all = append(all, hintOf(a.keys.FoldRole, "fold"), hintOf(a.keys.Inspect, "on the board"), hintOf(a.keys.Lines, "its lines"))
	if len(a.rolls.List) > 1 {
		all = append(all, hint{a.arrows().sideways, "other rollouts"}, hintOf(a.keys.Beside, map[bool]string{true: "alone", false: "compare"}[a.rolled.compare]))
	}
	return append(all, hintOf(a.keys.Export, "draw it"))
}

func (a *app) drawRollout(g *grid.Grid, f frame) {
	seen := rollouts.Seen{Now: a.now}
	if r := a.rolls.Record; r != nil {
		seen.Now = r.End()
		if r.Active() {
			seen.Now = r.At
		}
	}
	if a.past == nil {
		seen.Snap = a.snap
	} else {
		seen.Snap, seen.Cursor = a.past.snap, a.past.at
	}
	if row := a.rolls.Row(); row != nil && a.lately.of == row.Member {
		seen.Lately = a.lately.lines
	}
	a.rolls.Draw(g, a.look, seen, f.area)
}

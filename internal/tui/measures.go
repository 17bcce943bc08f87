package tui

import (
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/grid"
)

// measured is what the view of health has asked for.
type measured struct {
	at      time.Time // when it was read last
	busy    bool
	again   bool
	compare bool // with the span before
}

// healthMsg is what was measured, as it was read.
type healthMsg struct {
	role         field.RoleName
	told, before *health.Told
	err          error
}

// healthEvery is how often the present is read anew.
const healthEvery = 2 * time.Second

var healthView = &view{name: "Health"}

func init() {
	healthView.wide = true
	healthView.key = func(k keyMap) key.Binding { return k.Health }
	healthView.open = func(a *app) tea.Cmd {
		a.view = healthView
		a.charts.Role = a.model.Under(a.cursor).Role
		return a.readHealthNow()
	}
	healthView.press = func(a *app, is keyIs) tea.Cmd { return a.pressHealth(is) }
	healthView.keys = (*app).healthHints
	healthView.draw = func(a *app, g *grid.Grid, f frame) {
		a.layRoles()
		a.charts.Draw(g, a.look, a.moment(), a.past != nil, f.area)
	}
}

// layRoles hands the roles to the view; it stays on the one on which it stands, as long as there is one.
func (a *app) layRoles() {
	a.charts.Roles = []field.RoleName{""} // of which the whole field is told
	there := a.charts.Role == ""
	for _, r := range a.model.Roles {
		a.charts.Roles = append(a.charts.Roles, r.Role)
		there = there || r.Role == a.charts.Role
	}
	if !there {
		a.charts.Role = ""
	}
}

// readHealth reads the charts again when it is time to. Those of the past do not change.
func (a *app) readHealth() tea.Cmd {
	if a.view != healthView || a.past != nil || time.Since(a.measured.at) < healthEvery {
		return nil
	}
	return a.readHealthNow()
}

// readHealthNow reads the charts for the time that the tide shows, one reading at a time.
func (a *app) readHealthNow() tea.Cmd {
	session, ctx := a.session, a.ctx
	if session == nil || a.snap.State == snapshot.Draft || a.snap.State == snapshot.Retired {
		a.charts.Told, a.charts.Before, a.charts.Why = nil, nil, ""
		return nil
	}
	if a.measured.busy {
		a.measured.again = true
		return nil
	}
	a.layRoles()
	a.measured.busy, a.measured.at = true, time.Now()
	t := a.drawnTide()
	ask := control.HealthAsked{Role: a.charts.Role, From: t.End.Add(-t.Span()), To: t.End, Parts: a.charts.Parts(a.frame().area)}
	if a.charts.Large && a.charts.Each {
		ask.Each = a.charts.Chart
	}
	compare := a.measured.compare
	return func() tea.Msg {
		msg := healthMsg{role: ask.Role}
		msg.told, msg.err = session.Health(ctx, ask)
		if msg.err == nil && compare {
			span := ask.To.Sub(ask.From)
			ask.From, ask.To = ask.From.Add(-span), ask.From
			msg.before, _ = session.Health(ctx, ask)
		}
		return msg
	}
}

func (a *app) takeHealth(msg healthMsg) tea.Cmd {
	a.measured.busy = false
	if msg.role == a.charts.Role {
		a.charts.Why = ""
		if a.charts.Told, a.charts.Before = msg.told, msg.before; msg.err != nil {
			a.charts.Told, a.charts.Why = nil, oneLine(msg.err.Error())
		}
	}
	if a.measured.again {
		a.measured.again = false
		return a.readHealthNow()
	}
	return nil
}

func (a *app) pressHealth(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Up):
		a.charts.Move(-1)
	case is(a.keys.Down):
		a.charts.Move(1)
	case is(a.keys.First):
		a.charts.Move(-1 << 20)
	case is(a.keys.Last):
		a.charts.Move(1 << 20)
	case is(a.keys.Left), is(a.keys.Right):
		a.layRoles()
		a.charts.Turn(map[bool]int{true: 1, false: -1}[is(a.keys.Right)])
	case is(a.keys.OneChart):
		a.charts.Large = !a.charts.Large
	case is(a.keys.EachAlone):
		if !a.charts.Large {
			a.say(false, "Open a chart first (enter); then m draws each member alone.")
			return nil
		}
		a.charts.Each = !a.charts.Each
	case is(a.keys.LayOver):
		if !a.charts.Large {
			a.say(false, "Open a chart first (enter); then L lays another one over it.")
			return nil
		}
		a.charts.LayOver()
	case is(a.keys.SpanBefore):
		a.measured.compare = !a.measured.compare
	case is(a.keys.Lines):
		return a.openJournal(string(a.charts.Role))
	case is(a.keys.Pause):
		return a.pauseOrGoOn()
	case is(a.keys.Export):
		return a.export()
	case is(a.keys.Close):
		if a.charts.Large {
			a.charts.Large, a.charts.Each, a.charts.Over = false, false, ""
			break
		}
		a.view = boardView
		return nil
	default:
		return nil
	}
	return a.readHealthNow()
}

func (a *app) healthHints() []hint {
	all := []hint{{a.arrows().sideways, "role"}, {a.arrows().upDown, "chart"}}
	if a.charts.Large {
		all = append(all, hintOf(a.keys.EachAlone, map[bool]string{true: "together", false: "each member alone"}[a.charts.Each]), hintOf(a.keys.Close, "all charts"), hintOf(a.keys.LayOver, "another over it"))
	} else {
		all = append(all, hintOf(a.keys.OneChart, "large"))
	}
	all = append(all, hintOf(a.keys.SpanBefore, map[bool]string{true: "without the span before", false: "the span before"}[a.measured.compare]), hintOf(a.keys.Widen, "wider"))
	if len(a.tide) > 0 {
		all = append(all, hint{"[ ]", "in time"})
	}
	return append(all, hintOf(a.keys.Export, "draw it"), hintOf(a.keys.Board, "board"))
}

package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
)

// ask is an order that waits for a yes.
type ask struct {
	title string
	text  []string // what it does, and what is lost
	order control.Request
	do    func() tea.Cmd // instead of an order
	lost  bool           // something is lost for good
	stays bool           // whatever becomes of the draft meanwhile
	yes   string         // what a yes does, in words; empty for "does it"
}

// failed says why an order was not taken. What has several lines, one for each host for example, is shown over the view: no reason is cut.
func (a *app) failed(err error) {
	title, more, several := strings.Cut(err.Error(), "\n")
	if a.say(true, title); !several || a.mode != walking {
		return
	}
	q := &ask{title: strings.TrimSuffix(title, ":"), stays: true}
	for line := range strings.SplitSeq(more, "\n") {
		q.text = append(q.text, strings.TrimSpace(line))
	}
	a.ask, a.mode, a.scroll = q, inConfirm, 0
}

// acts tells whether a yes leads to anything; there are those that only say something.
func (q *ask) acts() bool { return q.order.What != "" || q.do != nil }

func (a *app) pauseOrGoOn() tea.Cmd {
	if a.inPast() {
		return nil
	}
	switch r := a.snap.Rollout; {
	case !r.Active:
		a.say(true, "Nothing is under way that could be paused.")
		return nil
	case r.Paused:
		a.say(false, "It goes on.")
		return a.order(control.Request{What: "go on"})
	}
	a.say(false, "Paused: what has begun goes on, nothing new is begun. space goes on.")
	return a.order(control.Request{What: "pause"})
}

// askFor prepares an order for what is under the cursor: stop, which starts what is stopped, or restart.
func (a *app) askFor(what string) {
	if a.inPast() {
		return
	}
	name, members := a.targets()
	if len(members) == 0 {
		a.say(true, "Nothing runs here that could be stopped, started or restarted.")
		return
	}
	stopped, names := 0, []string{}
	for _, m := range members {
		if m.Phase == state.Stopped {
			stopped++
		}
		names = append(names, string(m.Member))
	}
	if what == "stop" && stopped == len(members) {
		what = "start"
	}
	if what == "restart" && stopped == len(members) {
		a.say(true, fmt.Sprintf("%s is stopped: s starts it again.", name))
		return
	}
	q := &ask{order: control.Request{What: what, Names: names}}
	list := strings.Join(names, ", ")
	if len(names) > 8 {
		list = fmt.Sprintf("%s and %d more", strings.Join(names[:8], ", "), len(names)-8)
	}
	switch what {
	case "start":
		q.title = fmt.Sprintf("Start %s again?", name)
		q.text = []string{fmt.Sprintf("With their data, and in the order of deployment: %s.", list)}
	case "stop":
		q.title = fmt.Sprintf("Stop %s?", name)
		q.text = append([]string{fmt.Sprintf("These end, and stay stopped until they are started again: %s. Their places and their data are kept.", list)}, a.without(members)...)
	default:
		q.title = fmt.Sprintf("Restart %s?", name)
		q.text = append([]string{fmt.Sprintf("One after the other, each when the one before is lit again: %s.", list)}, a.without(members[:1])...)
	}
	a.ask, a.mode, a.scroll = q, inConfirm, 0
}

// targets are the live members under the cursor: one, or all of a role, a node or a zone.
func (a *app) targets() (name string, members []*board.Member) {
	for _, m := range a.marks() {
		if !m.Unsent {
			members = append(members, m)
		}
	}
	if len(members) > 0 {
		return "the marked members", members
	}
	at := a.model.Under(a.cursor)
	for i := range a.model.Roles {
		if at.Role != "" && a.model.Roles[i].Role != at.Role {
			continue
		}
		for j := range a.model.Roles[i].Members {
			m := &a.model.Roles[i].Members[j]
			switch {
			case m.Unsent || m.Leaving,
				at.Member != "" && m.Member != at.Member,
				at.Node != "" && m.Node != at.Node,
				at.Zone != "" && m.Zone != at.Zone:
			default:
				members = append(members, m)
			}
		}
	}
	switch {
	case at.Member != "":
		return string(at.Member), members
	case at.Role != "" && at.Zone != "":
		return fmt.Sprintf("%s in %s", at.Role, at.Zone), members
	case at.Role != "":
		return "all of " + string(at.Role), members
	case at.Node != "":
		return "everything on " + string(at.Node), members
	}
	return "everything in " + string(at.Zone), members
}

// without says what could not be done, or only just, without those members.
func (a *app) without(members []*board.Member) []string {
	var faults []whatif.Fault
	for _, m := range members {
		faults = append(faults, whatif.Fault{Member: m.Member})
	}
	var text []string
	for _, l := range a.model.Scene().Fail(faults...).Roles {
		if words, weight := l.Words(true); weight > whatif.Fine && !l.Already {
			text = append(text, words+".")
		}
	}
	return text
}

func (a *app) askToRetire() {
	if a.inPast() {
		return
	}
	if a.snap.State == snapshot.Draft || a.snap.State == snapshot.Retired || len(a.snap.Members) == 0 {
		a.say(true, "Nothing of this field runs that could be taken down.")
		return
	}
	also := ""
	if n := len(a.snap.Kept); n > 0 {
		also = fmt.Sprintf(", also what was kept of %s", a.snap.KeptNames())
	}
	a.ask = &ask{title: fmt.Sprintf("Take %s down?", a.snap.Field), lost: true, order: control.Request{What: "retire"}, text: []string{
		fmt.Sprintf("%d members end in the reverse order of deployment, and the data of all of them is deleted for good%s, on %d nodes; then the agents end too.",
			len(a.snap.Members), also, len(a.snap.Nodes)),
		"The field's file, its history and a receipt of what was removed stay."}}
	a.mode, a.scroll = inConfirm, 0
}

// askToTakeUp asks whether the members that run with something older are restarted, one by one.
func (a *app) askToTakeUp() {
	q := &ask{title: "Restart what runs with an older configuration?", order: control.Request{What: "restart"}}
	for _, p := range a.review.Pending {
		q.text = append(q.text, p.String()+".")
		for _, m := range p.Members {
			q.order.Names = append(q.order.Names, string(m))
		}
	}
	q.text = append(q.text, "They are restarted one by one, the leader last, each when all others of its role are ready.")
	a.ask, a.mode, a.scroll = q, inConfirm, 0
}

// hear says that what was under way has come to its end.
func (a *app) hear(was *snapshot.Snapshot) {
	now := a.snap
	news := was.Rollout.Active || !was.At.IsZero() && !was.Rollout.Began.Equal(now.Rollout.Began) // short ones are over before they are seen
	if !news || now.Rollout.Active || now.Rollout.What == "" || now.Rollout.Ended.IsZero() {
		return
	}
	if a.bad && a.message != "" && now.Rollout.Failed == "" && now.Rollout.By != whoIsHere() {
		return // what somebody else asked for does not hide why something here was refused
	}
	took := ""
	if d := now.Rollout.Ended.Sub(now.Rollout.Began); d >= 50*time.Millisecond {
		took = ", after " + field.Span(d) + now.Rollout.Compared()
	}
	if now.Rollout.What == "retire" {
		a.say(false, fmt.Sprintf("It is all taken down%s.", took))
		return
	}
	if now.Rollout.Failed != "" {
		a.say(true, fmt.Sprintf("The %s stopped half-way: %s", now.Rollout.What, now.Rollout.Failed))
		return
	}
	a.say(false, fmt.Sprintf("The %s is done%s.", now.Rollout.What, took))
}

func (a *app) confirmed() tea.Cmd {
	q := a.ask
	a.ask = nil
	if q.do != nil {
		return q.do()
	}
	a.say(false, map[string]string{"retire": "Taking it down.", "stop": "Stopping.", "start": "Starting.", "restart": "Restarting.", control.StopHere: "Nothing new is begun.", "deploy": "Going back."}[q.order.What])
	return a.order(q.order)
}

// inConfirm has an order wait for a yes.
var inConfirm = &layer{name: "confirm"}

func init() {
	*inConfirm = layer{name: "confirm", over: always,
		press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd {
			if is(a.keys.Yes) && a.ask.acts() {
				a.mode = walking
				return a.confirmed()
			}
			return a.pressOver(is)
		},
		keys: func(a *app) []hint {
			if !a.ask.acts() {
				return []hint{hintOf(a.keys.Close, "back")}
			}
			if a.ask.yes != "" {
				return []hint{hintOf(a.keys.Yes, a.ask.yes), hintOf(a.keys.Close, "back")}
			}
			return []hint{hintOf(a.keys.Yes, "do it"), hintOf(a.keys.Close, "back")}
		},
		draw: func(a *app, g *grid.Grid, _ frame) {
			foot := "y does it     esc goes back, nothing has been done"
			if !a.ask.acts() {
				foot = "esc goes back, nothing has been done"
			}
			if a.ask.yes != "" {
				foot = "y " + a.ask.yes + "     esc goes back"
			}
			a.lines, a.shown = panel.Ask(g, a.look, a.ask.title, a.ask.text, a.ask.lost, foot)
		}}
}

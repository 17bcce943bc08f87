package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/tide"
)

// past is a moment that is looked at instead of the present.
type past struct {
	at   time.Time
	end  time.Time          // the right edge of the tide, which stands still meanwhile
	snap *snapshot.Snapshot // nil until it has been read
	busy bool               // it is being read
}

type pastMsg struct {
	at   time.Time
	snap *snapshot.Snapshot
	err  error
}

// recent are the last lines of a member that runs.
type recent struct {
	of    field.MemberName
	lines []string
	busy  bool
}

type latelyMsg struct {
	of    field.MemberName
	lines []string
}

// inPast says that what was asked for belongs to the present, if the past is looked at.
func (a *app) inPast() bool {
	if a.past != nil {
		a.say(true, "This is the past, and it cannot be changed. Press n to return to now.")
	}
	return a.past != nil
}

// goTo looks at the field as it was at that moment.
func (a *app) goTo(at time.Time) tea.Cmd {
	if a.past == nil {
		a.past = &past{end: a.now}
	}
	p := a.past
	span := a.span()
	switch {
	case !at.Before(p.end) && !p.end.Before(a.now.Add(-time.Second)), !at.Before(a.now):
		a.toNow()
		return nil
	case at.After(p.end):
		p.end = minTime(at.Add(span/2), a.now)
	case at.Before(p.end.Add(-span)):
		p.end = at.Add(span / 2)
	}
	p.at = at
	if p.end.Add(-span).Before(a.tideSince) { // longer ago than what of the tide was read
		return tea.Batch(a.readPast(), a.readTide())
	}
	return a.readPast()
}

// span is how much time the tide shows.
func (a *app) span() time.Duration {
	if a.wide > 0 || a.past == nil {
		return a.wide
	}
	return tide.Span(a.tide, a.past.end)
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// readPast reads the moment that is looked at, one at a time.
func (a *app) readPast() tea.Cmd {
	session, ctx, p := a.session, a.ctx, a.past
	if session == nil || p.busy {
		return nil
	}
	p.busy = true
	at := p.at
	return func() tea.Msg {
		s, err := session.Past(ctx, at)
		return pastMsg{at, s, err}
	}
}

func (a *app) takePast(msg pastMsg) tea.Cmd {
	p := a.past
	if p == nil {
		return nil
	}
	p.busy = false
	if msg.err != nil {
		a.toNow()
		a.say(true, "The past cannot be read: "+msg.err.Error())
		return nil
	}
	p.snap = msg.snap
	a.rebuild()
	if a.view == journalView && !a.journal.At().Equal(p.at) {
		a.journal.Seek(p.at)
		a.journal.Follow = false
	}
	var cmds []tea.Cmd
	switch a.view {
	case healthView:
		cmds = append(cmds, a.readHealthNow())
	case rolloutView:
		cmds = append(cmds, a.readRolloutNow())
	}
	if !msg.at.Equal(p.at) {
		cmds = append(cmds, a.readPast())
	}
	return tea.Batch(cmds...)
}

// toNow returns to the present.
func (a *app) toNow() {
	if a.past == nil {
		return
	}
	a.past = nil
	a.journal.Follow = true
	a.journal.Move(1 << 30)
	a.rebuild()
}

// moment is the time that is looked at.
func (a *app) moment() time.Time {
	if a.past != nil {
		return a.past.at
	}
	return a.now
}

// stepTime moves the time cursor by columns of the tide.
func (a *app) stepTime(by int) tea.Cmd {
	if len(a.tide) == 0 {
		a.say(true, "There is no past yet to look at.")
		return nil
	}
	step := a.drawnTide().Step(a.w)
	if step < 250*time.Millisecond {
		step = 250 * time.Millisecond
	}
	return a.goTo(a.moment().Add(time.Duration(by) * step))
}

// stepEvent moves the time cursor to just before an event.
func (a *app) stepEvent(forward bool) tea.Cmd {
	if a.view == journalView {
		return a.standOnEvent(forward)
	}
	at, ok := a.drawnTide().Event(a.moment(), forward)
	switch {
	case ok:
		return a.goTo(at)
	case forward:
		a.toNow()
	default:
		a.say(true, "Nothing is marked on the tide before that.")
	}
	return nil
}

// widen shows more of the field's life on the tide, and after all of it the last minutes again.
func (a *app) widen() tea.Cmd {
	t := a.drawnTide()
	a.wide = tide.Widen(a.tide, t.End, t.Span(), a.wide)
	if a.wide == 0 {
		a.say(false, "The tide shows the last minutes.")
	} else {
		a.say(false, fmt.Sprintf("The tide shows %s. t widens it, up to the field's whole life.", strings.TrimSuffix(field.Span(a.wide), " 0 s")))
	}
	return a.readTide()
}

func (a *app) drawnTide() tide.Tide {
	t := tide.Tide{Samples: a.tide, End: a.now, Now: true, Wide: a.wide}
	t.Lit, t.Want = a.model.Snap.Lit()
	if a.past != nil {
		t.End, t.Cursor, t.Now = a.past.end, a.past.at, false
	}
	return t
}

// readLately reads the last lines of the member under the cursor.
func (a *app) readLately() tea.Cmd {
	name := a.model.Under(a.cursor).Member
	if a.view == rolloutView {
		name = ""
		if row := a.rolls.Row(); row != nil {
			name = row.Member
		}
	}
	session, ctx := a.session, a.ctx
	if name == "" || session == nil || a.lately.busy || a.past != nil || a.view != boardView && a.view != rolloutView {
		return nil
	}
	if a.lately.of != name {
		a.lately = recent{of: name}
	}
	a.lately.busy = true
	return func() tea.Msg {
		logs, err := session.Lines(ctx, map[field.MemberName]int64{name: -1})
		msg := latelyMsg{of: name}
		if err == nil {
			for _, l := range slices.Backward(logs[name].Lines) {
				if strings.TrimSpace(l.Text) == "" {
					continue // a time stamp alone tells nothing
				}
				if msg.lines = append(msg.lines, fmt.Sprintf("%s %s", l.At.Local().Format("15:04:05"), l.Text)); len(msg.lines) == 8 {
					break
				}
			}
			slices.Reverse(msg.lines)
		}
		return msg
	}
}

func (a *app) takeLately(msg latelyMsg) {
	a.lately.busy = false
	if msg.of == a.lately.of {
		a.lately.lines = msg.lines
		a.layLately()
	}
}

// layLately hands the lines to the model that is drawn.
func (a *app) layLately() {
	if _, m := a.model.Member(a.lately.of); m != nil && a.past == nil {
		m.Lately = a.lately.lines
	}
}

package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	core "lanternfield/internal/core/journal"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/journal"
)

type bookMsg struct {
	entries []control.Entry
	logs    map[field.MemberName]agentapi.Log
	err     error
}

// Bounds of one look into the journal.
const (
	mostEvents  = 5000
	mostMembers = 200 // whose lines are read at once
)

func (a *app) openJournal(filter string) tea.Cmd {
	a.view, a.journal.Text = journalView, filter
	if a.past != nil {
		a.journal.Follow = false
	}
	return a.readBook()
}

// about is the filter for what is under the cursor.
func (a *app) about() string {
	at := a.model.Under(a.cursor)
	switch {
	case at.Member != "":
		return string(at.Member)
	case at.Role != "" && at.Zone != "":
		return string(at.Role) + " " + string(at.Zone)
	case at.Role != "":
		return string(at.Role)
	case at.Node != "":
		return string(at.Node)
	}
	return string(at.Zone)
}

// readBook reads what has been added to the journal, while somebody looks at it.
func (a *app) readBook() tea.Cmd {
	session, ctx := a.session, a.ctx
	if a.view != journalView || session == nil || a.reading {
		return nil
	}
	a.reading = true
	part := control.Range{After: a.book.Seq, Limit: mostEvents}
	if a.book.Seq == 0 { // a journal is long: its end comes first, and what is before it when somebody goes there
		part = control.Range{Last: mostEvents}
	}
	after := map[field.MemberName]int64{}
	for _, m := range a.snap.Members {
		if len(after) == mostMembers {
			break
		}
		from, read := a.book.Read[m.Member]
		if !read {
			from = -1
		}
		after[m.Member] = from
	}
	return func() tea.Msg {
		var msg bookMsg
		if msg.entries, msg.err = session.Journal(ctx, part); msg.err == nil {
			msg.logs, msg.err = session.Lines(ctx, after)
		}
		return msg
	}
}

func (a *app) takeBook(msg bookMsg) {
	a.reading = false
	if msg.err != nil {
		return // it is tried again in a second
	}
	a.book.AddEvents(msg.entries, a.where)
	a.book.AddLogs(msg.logs, a.where)
}

// readOlder reads what comes before all that is in the book, when somebody stands at its top.
func (a *app) readOlder() tea.Cmd {
	session, ctx, first := a.session, a.ctx, a.book.First
	if session == nil || a.reading || first <= 1 || a.book.Full() {
		return nil
	}
	a.reading = true
	return func() tea.Msg {
		var msg bookMsg
		msg.entries, msg.err = session.Journal(ctx, control.Range{Before: first, Last: mostEvents})
		return msg
	}
}

// where fills in what the subject of a line belongs to.
func (a *app) where(l *journal.Line) {
	if _, m := a.model.Member(l.Member); m != nil {
		l.Role, l.Node, l.Zone = m.Role, m.Node, m.Zone
	}
	if n := a.model.NodeView(l.Node); n != nil {
		l.Zone = n.Zone
	}
}

// names is what the words of a filter are understood by.
func (a *app) names() core.Names {
	n := core.Names{Roles: map[field.RoleName]bool{}, Nodes: map[field.NodeName]bool{}, Zones: map[field.ZoneName]bool{}, Members: map[field.MemberName]bool{}}
	for _, l := range a.book.Lines {
		n.Members[l.Member] = true
	}
	for _, s := range []*snapshot.Snapshot{a.snap, a.model.Snap} {
		for _, r := range s.Roles {
			n.Roles[r.Role] = true
		}
		for _, x := range s.Nodes {
			n.Nodes[x.Node], n.Zones[x.Zone] = true, true
		}
		for _, m := range s.Members {
			n.Members[m.Member] = true
		}
	}
	return n
}

func (a *app) pressJournal(is keyIs) tea.Cmd {
	j := &a.journal
	j.Sync(a.book, a.names)
	switch {
	case is(a.keys.Filter):
		a.mode, j.Typing = filtering, true
	case is(a.keys.Follow):
		a.toNow()
		j.Follow = true
		j.Move(1 << 30)
	case is(a.keys.Cause):
		return a.standOnCause()
	case is(a.keys.FromCause):
		if !j.Return() {
			a.say(false, "It was not asked yet what anything follows from: w does.")
			return nil
		}
		return a.goTo(j.At())
	case is(a.keys.SearchNodes):
		return a.searchNodes()
	case is(a.keys.Open):
		if j.Opens() {
			j.Open = !j.Open
		}
	case is(a.keys.Left), is(a.keys.Right):
		by := 1
		if is(a.keys.Left) {
			by = -1
		}
		if j.Stride(by) {
			return a.stoodOn(j.Follow)
		}
	case is(a.keys.Up):
		return a.standOn(-1)
	case is(a.keys.Down):
		return a.standOn(1)
	case is(a.keys.PageUp):
		return a.standOn(-j.Page())
	case is(a.keys.PageDown):
		return a.standOn(j.Page())
	case is(a.keys.First):
		return a.standOn(-1 << 30)
	case is(a.keys.Last):
		return a.standOn(1 << 30)
	case is(a.keys.Close):
		if j.Text == "" {
			a.view = boardView
		}
		j.Text = ""
	}
	return nil
}

// standOn moves among the lines; the time cursor follows.
func (a *app) standOn(by int) tea.Cmd {
	if a.journal.Empty() {
		return nil
	}
	return a.stoodOn(a.journal.Move(by))
}

// standOnEvent stands on the event before or after the line under the cursor.
func (a *app) standOnEvent(forward bool) tea.Cmd {
	j := &a.journal
	j.Sync(a.book, a.names)
	by := -1
	if forward {
		by = 1
	}
	switch {
	case j.Event(by):
		return a.stoodOn(j.Follow)
	case forward:
		return a.standOn(1 << 30)
	}
	a.say(false, "No event before this line has been read. Up, at the first line, reads what is older.")
	return nil
}

// stoodOn has the time cursor follow the one among the lines; at the last of them it is now.
func (a *app) stoodOn(last bool) tea.Cmd {
	if last {
		a.toNow()
		return nil
	}
	if a.journal.AtTop() {
		return tea.Batch(a.goTo(a.journal.At()), a.readOlder())
	}
	return a.goTo(a.journal.At())
}

// standOnCause stands on the event that the one under the cursor follows from.
func (a *app) standOnCause() tea.Cmd {
	calls := map[field.RoleName][]field.RoleName{}
	for _, r := range a.snap.Roles {
		calls[r.Role] = append(slices.Clone(r.Calls), r.Knows...)
	}
	how, found := a.journal.Cause(a.names, calls)
	if !found {
		a.say(false, "Nothing that the journal has read led to this. Further back stands what is older: up, at the first line, reads it.")
		return nil
	}
	cmd := a.goTo(a.journal.At())
	a.say(false, "It follows from this: "+how+".")
	return cmd
}

func (a *app) pressFiltering(msg tea.KeyPressMsg, is keyIs) tea.Cmd {
	j := &a.journal
	switch {
	case msg.String() == "enter":
		a.mode, j.Typing = walking, false
	case is(a.keys.Close):
		a.mode, j.Typing, j.Text = walking, false, ""
	case msg.String() == "backspace":
		if r := []rune(j.Text); len(r) > 0 {
			j.Text = string(r[:len(r)-1])
		}
	case msg.String() == "ctrl+u":
		j.Text = ""
	case msg.Text != "" && len(j.Text) < 200:
		j.Text += typed(msg.Text)
	}
	return nil
}

// typed keeps a typed blank.
func typed(text string) string {
	if text == " " {
		return text
	}
	return oneLine(text)
}

// filtering has words for the journal's filter typed.
var filtering = &layer{name: "filtering"}

func init() {
	*filtering = layer{name: "filtering", press: func(a *app, msg tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressFiltering(msg, is) },
		keys: func(a *app) []hint {
			return []hint{hintOf(a.keys.Inspect, "take these words"), hintOf(a.keys.Close, "show all lines")}
		},
		says:  func(*app) (string, string) { return "choosing lines: enter takes the words, esc shows all", "" },
		paste: func(a *app, text string) { a.journal.Text += text }}
}

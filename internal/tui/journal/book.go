// Package journal shows what happened: events and the members' own lines, merged in time.
package journal

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	core "lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"

	"lanternfield/internal/agentapi"

	"lanternfield/internal/core/state"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
)

// Line is an event, or something that a member wrote.
type Line struct {
	core.Of
	At    time.Time
	About bool        // the time is that at which it was seen
	Kind  string      // of the event, as it is stored
	Phase state.Phase // that the event led its member to, where it did
	Leads bool
}

// mostLines bounds what a book holds; the oldest go.
const mostLines = 20_000

// Book holds lines in the order of time.
type Book struct {
	Lines []Line
	Seq   uint64                     // the newest event that is in it
	First uint64                     // the oldest event that is in it, or was
	Read  map[field.MemberName]int64 // how far each member's log has been read
	Begun map[field.MemberName]int64 // from where on it has been read, and not only searched
	Gone  int                        // lines that there was no room for
	found map[string]bool            // what searches have found, each once
	grown int                        // rises with every change
}

// NewBook makes an empty book.
func NewBook() *Book {
	return &Book{Read: map[field.MemberName]int64{}, Begun: map[field.MemberName]int64{}, found: map[string]bool{}}
}

// quiet are the events that say nothing to people.
var quiet = map[string]bool{"heard": true, "order-taken": true}

// AddEvents takes events in; where knows what members and nodes belong to.
func (b *Book) AddEvents(entries []control.Entry, where func(*Line)) {
	var lines []Line
	first := uint64(math.MaxUint64)
	for _, e := range entries {
		if e.Seq <= b.Seq && (b.First == 0 || e.Seq >= b.First) {
			continue
		}
		b.Seq = max(b.Seq, e.Seq)
		if b.First == 0 || e.Seq < b.First {
			first = min(first, e.Seq)
		}
		if quiet[e.Kind] {
			continue
		}
		l := Line{At: e.At, Kind: e.Kind, Of: core.Of{Event: true, Level: logline.Level(e.Level), Member: e.Member, Role: e.Role, Node: e.Node, Text: e.Text}}
		l.Phase, l.Leads = phases[e.Kind], e.Kind == "leader-seen"
		if e.Member != "" {
			l.Text = strings.TrimPrefix(l.Text, string(e.Member)+" ")
		}
		where(&l)
		lines = append(lines, l)
	}
	if first < math.MaxUint64 {
		b.First = first
	}
	b.add(lines)
}

// Full tells whether there is no room for older lines.
func (b *Book) Full() bool { return len(b.Lines) >= mostLines }

// phases are the kinds of event that a lantern shows, as the lantern that it becomes.
var phases = map[string]state.Phase{"member-planned": state.Planned, "member-started": state.Starting, "member-ready": state.Ready,
	"leader-seen": state.Ready, "member-exited": state.Failed, "start-failed": state.Failed, "member-unready": state.Unready,
	"member-stopped": state.Stopped, "member-gone": state.Gone, "member-leaving": state.Draining, "node-dark": state.Unknown}

// AddLogs takes in what members wrote.
func (b *Book) AddLogs(logs map[field.MemberName]agentapi.Log, where func(*Line)) {
	var lines []Line
	for name, log := range logs {
		if _, known := b.Begun[name]; !known {
			b.Begun[name] = log.From
		}
		b.Read[name] = log.Next
		for _, x := range log.Lines {
			if x.Goes && b.goOn(name, x) {
				continue
			}
			lines = append(lines, lineOf(name, x, where))
		}
	}
	slices.SortStableFunc(lines, func(a, b Line) int { return strings.Compare(string(a.Member), string(b.Member)) })
	b.add(lines)
}

// AddFound takes in what a search has found, before all that was read of those logs.
func (b *Book) AddFound(found map[field.MemberName][]logline.Line, where func(*Line)) {
	var lines []Line
	for _, name := range slices.Sorted(maps.Keys(found)) {
		for _, x := range found[name] {
			if key := fmt.Sprint(name, x.At.UnixNano(), x.Text); !b.found[key] {
				b.found[key] = true
				lines = append(lines, lineOf(name, x, where))
			}
		}
	}
	b.add(lines)
}

func lineOf(name field.MemberName, x logline.Line, where func(*Line)) Line {
	l := Line{At: x.At, About: x.About, Of: core.Of{Level: x.Level, Member: name, Text: x.Text, More: x.More}}
	where(&l)
	return l
}

// goOn puts a line to the one that the member wrote before, and tells whether there is one.
func (b *Book) goOn(name field.MemberName, x logline.Line) bool {
	for i := len(b.Lines) - 1; i >= 0 && i >= len(b.Lines)-goneBack; i-- {
		if l := &b.Lines[i]; l.Member == name && !l.Event {
			l.More, l.Lower = append(slices.Clone(l.More), append([]string{x.Text}, x.More...)...), ""
			l.Whole()
			b.grown++
			return true
		}
	}
	return false
}

// goneBack is how many lines back one is looked for that another goes on with.
const goneBack = 500

func (b *Book) add(lines []Line) {
	if len(lines) == 0 {
		return
	}
	for i := range lines {
		lines[i].Whole()
	}
	last := time.Time{}
	if n := len(b.Lines); n > 0 {
		last = b.Lines[n-1].At
	}
	b.Lines = append(b.Lines, lines...)
	if !slices.IsSortedFunc(lines, byTime) || lines[0].At.Before(last) {
		slices.SortStableFunc(b.Lines, byTime)
	}
	if more := len(b.Lines) - mostLines; more > mostLines/4 {
		b.Gone += more
		b.Lines = slices.Clone(b.Lines[more:])
	}
	b.grown++
}

func byTime(a, b Line) int { return a.At.Compare(b.At) }

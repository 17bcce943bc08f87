// Package journal shows what happened: events and the members' own lines, merged in time.
package journal

import (
	"math"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/agentapi"

	"lanternfield/internal/core/state"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
)

// Line is an event, or something that a member wrote.
type Line struct {
	At     time.Time
	About  bool // the time is that at which it was seen
	Event  bool
	Level  state.Level
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
	Zone   field.ZoneName
	Phase  state.Phase // that the event led its member to, where it did
	Leads  bool
	Text   string
	lower  string
}

// mostLines bounds what a book holds; the oldest go.
const mostLines = 20_000

// Book holds lines in the order of time.
type Book struct {
	Lines []Line
	Seq   uint64                     // the newest event that is in it
	First uint64                     // the oldest event that is in it, or was
	Read  map[field.MemberName]int64 // how far each member's log has been read
	Gone  int                        // lines that there was no room for
	grown int                        // rises with every change
}

// NewBook makes an empty book.
func NewBook() *Book { return &Book{Read: map[field.MemberName]int64{}} }

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
		l := Line{At: e.At, Event: true, Level: e.Level, Member: e.Member, Role: e.Role, Node: e.Node, Text: e.Text}
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
		b.Read[name] = log.Next
		for _, x := range log.Lines {
			l := Line{At: x.At, About: x.About, Level: state.Level(x.Level), Member: name, Text: x.Text}
			where(&l)
			lines = append(lines, l)
		}
	}
	slices.SortStableFunc(lines, func(a, b Line) int { return strings.Compare(string(a.Member), string(b.Member)) })
	b.add(lines)
}

func (b *Book) add(lines []Line) {
	if len(lines) == 0 {
		return
	}
	for i := range lines {
		lines[i].lower = strings.ToLower(lines[i].Text)
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

// Filter says which lines are shown. Each word must fit: the name of a role, node, zone or member, or a level, fits the
// lines of that; every other word must stand in the text.
type Filter struct {
	Words []Word
}

// Word is one word of a filter, as it was understood.
type Word struct {
	Kind string // member, role, node, zone, level or text
	Text string
}

// Names is what words are understood by.
type Names struct {
	Roles   map[field.RoleName]bool
	Nodes   map[field.NodeName]bool
	Zones   map[field.ZoneName]bool
	Members map[field.MemberName]bool
}

// ParseFilter understands the words of a filter. Text in double quotes is one word and stands for itself.
func ParseFilter(text string, names Names) Filter {
	var f Filter
	for i, part := range strings.Split(text, `"`) {
		if i%2 == 1 {
			if part != "" {
				f.Words = append(f.Words, Word{"text", strings.ToLower(part)})
			}
			continue
		}
		for _, w := range strings.Fields(part) {
			kind := "text"
			switch {
			case names.Members[field.MemberName(w)]:
				kind = "member"
			case names.Roles[field.RoleName(w)]:
				kind = "role"
			case names.Nodes[field.NodeName(w)]:
				kind = "node"
			case names.Zones[field.ZoneName(w)]:
				kind = "zone"
			case w == "event", w == "events":
				kind, w = "events", "only"
			case w == "warning", w == "warnings":
				kind, w = "level", "warning"
			case w == "error", w == "errors":
				kind, w = "level", "error"
			default:
				w = strings.ToLower(w)
			}
			f.Words = append(f.Words, Word{kind, w})
		}
	}
	return f
}

// String says how the filter was understood.
func (f Filter) String() string {
	parts := make([]string, len(f.Words))
	for i, w := range f.Words {
		switch {
		case w.Kind == "text":
			parts[i] = `with "` + w.Text + `"`
		case w.Kind == "level" && w.Text == "warning":
			parts[i] = "warnings and errors"
		case w.Kind == "level":
			parts[i] = "errors"
		case w.Kind == "events":
			parts[i] = "only events"
		default:
			parts[i] = w.Kind + " " + w.Text
		}
	}
	return strings.Join(parts, ", ")
}

// Fits tells whether a line is shown.
func (f Filter) Fits(l *Line) bool {
	for _, w := range f.Words {
		ok := false
		switch w.Kind {
		case "member":
			ok = string(l.Member) == w.Text
		case "role":
			ok = string(l.Role) == w.Text
		case "node":
			ok = string(l.Node) == w.Text
		case "zone":
			ok = string(l.Zone) == w.Text
		case "events":
			ok = l.Event
		case "level":
			ok = l.Level == state.LevelError || l.Level == state.LevelWarning && w.Text == "warning"
		default:
			ok = strings.Contains(l.lower, w.Text) || strings.Contains(string(l.Member), w.Text)
		}
		if !ok {
			return false
		}
	}
	return true
}

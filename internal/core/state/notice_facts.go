package state

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

// Notice is something that a person is told of: once when it has come to be so, once when that is over.
type Notice struct {
	ID   string     `json:"id"`   // what it is about; one with that ID is open at a time
	Kind NoticeKind `json:"kind"` // which rule found it
	Text string     `json:"text"`

	Member field.MemberName `json:"member,omitempty"`
	Role   field.RoleName   `json:"role,omitempty"`
	Node   field.NodeName   `json:"node,omitempty"`
	Since  time.Time        `json:"since"`         // from when on it was so
	Number int              `json:"number"`        // counts the field's notices
	Over   time.Time        `json:"over,omitzero"` // zero while it is so
	Bad    bool             `json:"bad,omitempty"` // something cannot do its work

	Told map[string]bool `json:"told,omitempty"` // by webhook: whether that it is over was told too
}

// NoticeKind is a rule by which a person is told of something.
type NoticeKind string

// The kinds of notice.
const (
	NoticeState       NoticeKind = "state"
	NoticeSurvival    NoticeKind = "survives"
	NoticeFlapping    NoticeKind = "comes and goes"
	NoticeStuck       NoticeKind = "stuck"
	NoticeDisk        NoticeKind = "disk"
	NoticeLag         NoticeKind = "lag"
	NoticeDrift       NoticeKind = "drift"
	NoticeLogs        NoticeKind = "logs"
	NoticeCertificate NoticeKind = "certificate"
)

// NoticeBegun says that something is so of which a person is to be told.
type NoticeBegun struct{ Notice Notice }

// NoticeOver says that it is so no longer.
type NoticeOver struct {
	ID   string
	Text string // as it was told
	For  time.Duration
}

// NoticeTold says that a webhook was told, or that it is not tried any more, and why.
type NoticeTold struct {
	Number int
	To     string
	Over   bool   `json:",omitempty"` // that it is over
	Why    string `json:",omitempty"` // it could not be told
}

// mostNotices bounds how many are remembered that are over and still to be told.
const mostNotices = 200

// notices changes what is told; the slice may be shared with another copy of the state.
func (s *State) changeNotices(change func([]Notice) []Notice) {
	s.Notices = change(slices.Clone(s.Notices))
	s.Notices = slices.DeleteFunc(s.Notices, func(n Notice) bool { return !n.Over.IsZero() && !s.untold(n) })
	if over := len(s.Notices) - mostNotices; over > 0 {
		s.Notices = slices.DeleteFunc(s.Notices, func(n Notice) bool {
			over--
			return over >= 0 && !n.Over.IsZero()
		})
	}
	if len(s.Notices) == 0 {
		s.Notices = nil
	}
}

// untold tells whether a webhook is still to be told something of a notice.
func (s *State) untold(n Notice) bool {
	if s.Field == nil {
		return false
	}
	return slices.ContainsFunc(s.Field.Notices.Webhooks, func(w field.Webhook) bool { return n.Untold(w.URL) })
}

// Untold tells whether a webhook is still to be told of it: that it is so, or that it is over. That something is over is told to whom it was told before.
func (n Notice) Untold(to string) bool {
	over, told := n.Told[to]
	if n.Over.IsZero() {
		return !told
	}
	return !told || !over
}

// Noticed finds an open notice; nil where there is none.
func (s *State) Noticed(id string) *Notice {
	for i := range s.Notices {
		if n := &s.Notices[i]; n.ID == id && n.Over.IsZero() {
			return n
		}
	}
	return nil
}

func (f NoticeBegun) apply(s *State, _ time.Time) {
	s.NoticeCount = max(s.NoticeCount, f.Notice.Number)
	s.changeNotices(func(all []Notice) []Notice { return append(all, f.Notice) })
}

// Sentence words the fact for the journal.
func (f NoticeBegun) Sentence() string { return "notice: " + f.Notice.Text }

func (f NoticeOver) apply(s *State, at time.Time) {
	s.changeNotices(func(all []Notice) []Notice {
		for i := range all {
			if all[i].ID == f.ID && all[i].Over.IsZero() {
				all[i].Over = at
			}
		}
		return all
	})
}

// Sentence words the fact for the journal.
func (f NoticeOver) Sentence() string {
	if f.For == 0 {
		return "over: " + f.Text
	}
	return fmt.Sprintf("over, after %s: %s", field.Span(f.For), f.Text)
}

func (f NoticeTold) apply(s *State, _ time.Time) {
	s.changeNotices(func(all []Notice) []Notice {
		for i := range all {
			if all[i].Number == f.Number {
				told := maps.Clone(all[i].Told)
				if told == nil {
					told = map[string]bool{}
				}
				told[f.To] = f.Over
				all[i].Told = told
			}
		}
		return all
	})
}

// Sentence words the fact for the journal.
func (f NoticeTold) Sentence() string {
	what := fmt.Sprintf("of notice %d", f.Number)
	if f.Over {
		what = fmt.Sprintf("that notice %d is over", f.Number)
	}
	if f.Why != "" {
		return fmt.Sprintf("%s could not be told %s, and is not tried any more: %s", f.To, what, f.Why)
	}
	return fmt.Sprintf("%s was told %s", f.To, what)
}

// OpenNotices lists what is so, as it was found.
func (s *State) OpenNotices() []Notice {
	return slices.DeleteFunc(slices.Clone(s.Notices), func(n Notice) bool { return !n.Over.IsZero() })
}

// FlapsWithin and FlapsTimes are what is called coming and going: that many unasked ends within that time.
const (
	FlapsWithin = 5 * time.Minute
	FlapsTimes  = 3
)

// mostExits is how many unasked ends are remembered of a member.
const mostExits = 16

// exited remembers that the member ended without having been asked to.
func (m *Member) exited(at time.Time) {
	all := append(slices.Clone(m.Exits), at)
	m.Exits = all[max(0, len(all)-mostExits):]
}

// Flaps says that the member comes and goes; empty where it does not.
func (m *Member) Flaps(now time.Time) string {
	var first time.Time
	n := 0
	for _, at := range m.Exits {
		if now.Sub(at) < FlapsWithin {
			if n++; first.IsZero() {
				first = at
			}
		}
	}
	if n < FlapsTimes {
		return ""
	}
	text := fmt.Sprintf("%s comes and goes: it has ended %s in %s", m.Name, wording.Counted(n, "time"), field.Span(now.Sub(first).Round(time.Second)))
	if m.LastExit != nil {
		text += ", last it " + m.LastExit.Text
	}
	return text
}

package snapshot

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// verbs are the phases that a member comes through by itself, and whose duration is judged.
var verbs = map[state.Phase]string{state.Placing: "being placed", state.Starting: "starting", state.Joining: "joining", state.Draining: "draining", state.Stopping: "stopping"}

// Judge says whether the member is slow, or stuck, in the phase that it is in. What waits for others is not judged: they are.
func (m *MemberView) Judge(now time.Time) {
	m.Pace = nil
	if verbs[m.Phase] == "" || m.Since.IsZero() {
		return
	}
	signs := pace.Signs{Wrote: m.Signs.Wrote, Worked: m.Signs.Worked}
	if m.Phase == state.Starting || m.Phase == state.Joining {
		signs.Gauge = m.Gauge
	}
	if m.PID == 0 {
		signs = pace.Signs{} // of a process before
	}
	j := pace.Judge(m.Since, now, m.Usual, signs)
	m.Pace = &j
}

// Late words that the member is slow or stuck; empty where it is neither.
func (m MemberView) Late() string {
	if m.Pace == nil || m.Pace.Word == pace.AsUsual {
		return ""
	}
	text := fmt.Sprintf("%s is %s: %s for %s", m.Member, m.Pace.Word, verbs[m.Phase], field.Span(m.Pace.For))
	if m.Usual.Known() {
		text += ", " + m.Usual.Words()
	}
	return text
}

// Stuck tells whether the member is stuck.
func (m MemberView) Stuck() bool { return m.Pace != nil && m.Pace.Word == pace.Stuck }

// Besides is what speaks for that it is slow or stuck, besides how long that takes usually.
func (m MemberView) Besides() string {
	text := ""
	if m.Pace != nil {
		for _, e := range m.Pace.Evidence {
			if e != m.Usual.Words() {
				text += ", " + e
			}
		}
	}
	return text
}

// remember has those be stuck that were told to be and are not said to be over, where the signs of that are not known: they are measured, and not recorded.
func (snap *Snapshot) remember() {
	for _, n := range snap.Notices {
		if n.Kind != state.NoticeStuck {
			continue
		}
		for i := range snap.Members {
			m := &snap.Members[i]
			if (m.Member == n.Member || n.Member == "" && m.Role == n.Role) && m.Pace != nil && m.Pace.Word == pace.Slow && m.Signs == (Signs{}) {
				m.Pace.Word = pace.Stuck
			}
		}
	}
}

// mostLate is how many slow or stuck members a verdict names.
const mostLate = 2

// Judged has the verdict say who is stuck, before anything else, and who is slow, after it; then what is noticed, and at last what is well.
func (snap *Snapshot) Judged() {
	if snap.said == "" { // nothing of it is to be judged
		return
	}
	snap.remember()
	var parts []string
	for _, word := range []pace.Word{pace.Stuck, pace.Slow} {
		n := 0
		if word == pace.Slow {
			parts = append(parts, snap.said)
		}
		for _, m := range snap.Members {
			if m.Pace == nil || m.Pace.Word != word {
				continue
			}
			if n++; n <= mostLate {
				parts = append(parts, m.Late())
			}
		}
		if n > mostLate {
			parts = append(parts, fmt.Sprintf("%d more %s %s", n-mostLate, wording.Plural(n-mostLate, "is", "are"), word))
		}
	}
	parts = append(parts, snap.noticed()...)
	if snap.State == Converged {
		parts = append(parts, strengths(snap)...)
	}
	snap.Verdict = strings.Join(parts, " · ")
}

// mostNoticed is how many notices a verdict has.
const mostNoticed = 3

// noticed words what is so, and is not said by the verdict already: the worst first, then what is newest, since what does not fit is cut.
func (snap *Snapshot) noticed() []string {
	var parts []string
	n := 0
	order := slices.Clone(snap.Notices)
	slices.SortStableFunc(order, func(a, b state.Notice) int {
		if a.Bad != b.Bad {
			return map[bool]int{true: -1, false: 1}[a.Bad]
		}
		return b.Since.Compare(a.Since)
	})
	for _, x := range order {
		switch x.Kind {
		case state.NoticeState, state.NoticeSurvival, state.NoticeStuck: // the verdict has said so, or it is not so any more
			continue
		case state.NoticeDrift:
			if strings.Contains(snap.said, x.Text) || x.Member == "" {
				continue
			}
		}
		if n++; n <= mostNoticed {
			parts = append(parts, x.Text)
		}
	}
	if n > mostNoticed {
		parts = append(parts, wording.Counted(n-mostNoticed, "more notice"))
	}
	return parts
}

// Said is the verdict without who is slow or stuck, what is noticed, and what is well.
func (snap *Snapshot) Said() string { return cmp.Or(snap.said, snap.Verdict) }

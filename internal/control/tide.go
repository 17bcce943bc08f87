package control

import (
	"slices"
	"sort"
	"time"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// timeline remembers how many lanterns were lit. It follows from the events alone and is made anew from them.
type timeline struct {
	samples []Sample
	counted time.Time // when it was counted last
	owed    time.Time // of the last event that has not been counted yet; see note
}

// mostSamples bounds the memory of the tide.
const mostSamples = 4096

// fineAMember is how close samples are to each other at the most, for each member: counting takes the longer the more there are, and a thousand of them may come up
// within a second.
const fineAMember = 20 * time.Microsecond

// note takes in what an event changed. Of events that come close together and have no mark, the last is counted: by the next one, or by settle.
func (t *timeline) note(s *state.State, e state.Event) {
	mark := markOf(e.Fact)
	if mark == "" && !moves(e.Fact) {
		return
	}
	if after := e.At.Sub(t.counted); mark == "" && after.Abs() < time.Duration(len(s.Members))*fineAMember { // those of several nodes are not in order
		if e.At.After(t.owed) {
			t.owed = e.At
		}
		return
	}
	t.count(s, e.At, mark)
}

// settle counts what has not been counted yet, once all events are noted that there are.
func (t *timeline) settle(s *state.State) {
	if !t.owed.IsZero() {
		t.count(s, t.owed, "")
	}
}

func (t *timeline) count(s *state.State, at time.Time, mark string) {
	t.counted, t.owed = at, time.Time{}
	snap := snapshot.Count(s)
	sample := Sample{At: at, Lit: snap.Lit, Want: snap.Want, Survives: snap.Survives, Votes: snap.Votes, Mark: mark}
	if n := len(t.samples); n > 0 {
		last := t.samples[n-1]
		last.At, last.Mark = sample.At, sample.Mark
		if last == sample && mark == "" {
			return
		}
	}
	t.samples = append(t.samples, sample)
	if n := len(t.samples); n > 1 && t.samples[n-1].At.Before(t.samples[n-2].At) { // reports may come late
		sort.SliceStable(t.samples, func(i, j int) bool { return t.samples[i].At.Before(t.samples[j].At) })
	}
	if len(t.samples) > mostSamples {
		t.coarsen()
	}
}

// coarsen makes the older half of the samples coarser: of two neighbours the worse one stays, and what is marked stays anyhow.
// So the tide reaches back to the field's beginning, however long that is ago.
func (t *timeline) coarsen() {
	half := len(t.samples) / 2
	kept := make([]Sample, 0, len(t.samples))
	for i := 0; i < half; i++ {
		s := t.samples[i]
		if i+1 < half && s.Mark == "" && t.samples[i+1].Mark == "" {
			i++
			if next := t.samples[i]; next.Lit < s.Lit || next.Survives < s.Survives {
				next.At = s.At
				s = next
			}
		}
		kept = append(kept, s)
	}
	if len(kept) > half*9/10 { // nearly all are marked: the oldest marks go
		kept = slices.Clone(kept[len(kept)/2:])
	}
	t.samples = append(kept, t.samples[half:]...)
}

// since gives the samples from that moment on, with the one before it.
func (t *timeline) since(at time.Time) []Sample {
	i := sort.Search(len(t.samples), func(i int) bool { return !t.samples[i].At.Before(at) })
	return slices.Clone(t.samples[max(0, i-1):])
}

// moves tells whether a fact may change what is lit or wanted.
func moves(f state.Fact) bool {
	switch f.(type) {
	case state.Accepted, state.MemberReady, state.MemberUnready, state.MemberExited, state.MemberStopped, state.MemberGone,
		state.MemberOrdered, state.NodeDark, state.NodeBack, state.RosterSeen, state.FieldRetired, state.StartFailed:
		return true
	}
	return false
}

// markOf names the events that are worth a mark on the tide.
func markOf(f state.Fact) string {
	switch f := f.(type) {
	case state.Accepted:
		return "deploy"
	case state.RolloutEnded:
		return f.What + " done"
	case state.MemberExited:
		return string(f.Member) + " dark"
	case state.MemberUnready:
		return ""
	case state.NodeDark:
		return string(f.Node) + " unknown"
	case state.RolloutFailed:
		return f.What + " stopped half-way"
	case state.LeaderSeen:
		if f.Unsure != "" {
			return ""
		}
		if len(f.Beside) > 0 {
			return string(f.Member) + " leads too"
		}
		if f.Address != "" {
			return string(f.Member) + " has " + f.Address
		}
		return string(f.Member) + " leads"
	case state.StopAsked:
		return "stop"
	case state.StartAsked:
		return "start"
	case state.RestartAsked:
		return "restart"
	case state.RetireAsked:
		return "retire"
	}
	return ""
}

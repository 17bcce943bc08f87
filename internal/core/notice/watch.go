package notice

import (
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// Watch remembers since when something is so, or is so no longer, and has it told when that has lasted.
type Watch struct {
	since map[string]time.Time // found, and not told
	gone  map[string]time.Time // told, and not found
}

// Look compares what was found with what is open, and gives what is to begin and what is over. What a planned change brings about does not begin
// while that goes on: see Planned.
func (w *Watch) Look(s *state.State, found []state.Notice, now time.Time) (begin []state.Notice, over []string) {
	if w.since == nil {
		w.since, w.gone = map[string]time.Time{}, map[string]time.Time{}
	}
	var after time.Duration = field.NoticeAfter
	if s.Field != nil {
		after = s.Field.Notices.After.Or(after)
	}
	there := map[string]bool{}
	for _, n := range found {
		there[n.ID] = true
		delete(w.gone, n.ID)
		if s.Noticed(n.ID) != nil {
			delete(w.since, n.ID)
			continue
		}
		if Planned(s, n) {
			delete(w.since, n.ID)
			continue
		}
		since, known := w.since[n.ID]
		if !known || since.After(now) {
			since = now
			w.since[n.ID] = now
		}
		if now.Sub(since) >= after || n.Kind == state.NoticeFlapping || n.Kind == state.NoticeStuck { // that has lasted already
			n.Since = since
			begin = append(begin, n)
		}
	}
	for id := range w.since {
		if !there[id] {
			delete(w.since, id)
		}
	}
	for _, n := range s.OpenNotices() {
		if there[n.ID] {
			continue
		}
		since, known := w.gone[n.ID]
		if !known || since.After(now) {
			since = now
			w.gone[n.ID] = now
		}
		if now.Sub(since) >= after {
			over = append(over, n.ID)
			delete(w.gone, n.ID)
		}
	}
	slices.Sort(over)
	return begin, over
}

// Planned tells whether something is expected, since a person has asked for what brings it about: while a rollout or a task goes on, members go dark, and
// roles survive fewer losses. That a role cannot do its work any more is never expected, nor is what has nothing to do with that.
func Planned(s *state.State, n state.Notice) bool {
	if !s.UnderWay() || n.Bad {
		return false
	}
	switch n.Kind {
	case state.NoticeState, state.NoticeSurvival, state.NoticeDrift:
		return true
	}
	return false
}

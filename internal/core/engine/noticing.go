package engine

import (
	"time"

	"lanternfield/internal/core/state"
)

// Noticed says what a person is to be told of, as package notice has found it.
type Noticed struct {
	Begin []state.Notice // their numbers are given here
	Over  []string       // those that are so no longer, by ID
	At    time.Time
}

// NoticeTold says that a webhook was told of something, or why it is not tried any more.
type NoticeTold struct {
	Number int
	To     string
	Over   bool
	Why    string
}

func (in Noticed) decide(s *state.State) ([]state.Fact, error) {
	if s.Retired {
		return nil, nil
	}
	var facts []state.Fact
	number := s.NoticeCount
	for _, n := range in.Begin {
		if s.Noticed(n.ID) == nil {
			number++
			n.Number = number
			facts = append(facts, state.NoticeBegun{Notice: n})
		}
	}
	for _, id := range in.Over {
		if n := s.Noticed(id); n != nil {
			facts = append(facts, state.NoticeOver{ID: id, Text: n.Text, For: max(0, in.At.Sub(n.Since))})
		}
	}
	return facts, nil
}

func (in NoticeTold) decide(s *state.State) ([]state.Fact, error) {
	for _, n := range s.Notices {
		if n.Number == in.Number && n.Untold(in.To) {
			return []state.Fact{state.NoticeTold(in)}, nil
		}
	}
	return nil, nil
}

package control

import (
	"errors"
	"io"
	"math"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// LookJournal gives a part of the journal, taking hold of nothing. It reads the log with a handle of its own, so that reading a long one
// never holds up who writes it.
func LookJournal(f Folder, r Range) ([]Entry, error) {
	var entries []Entry
	err := EachEntry(f, r, func(e Entry) error {
		entries = append(entries, e)
		return nil
	})
	return entries, err
}

// EachEntry gives the entries of a part of the journal one by one, as they were stored, until the function fails.
func EachEntry(f Folder, r Range, each func(Entry) error) error {
	fold, done, err := f.folder(nil)
	if err != nil {
		return err
	}
	defer done()
	after, below := r.After, uint64(math.MaxInt64)
	if r.Before > 0 {
		below = r.Before
	}
	if !r.Since.IsZero() {
		after = max(after, fold.Before(r.Since))
	}
	if r.Last > 0 {
		back, err := fold.Log.Back(below, uint64(r.Last))
		if err != nil {
			return err
		}
		after = max(after, back)
	}
	n := 0
	err = fold.Log.Between(after, below-1, func(e eventlog.Stored) error {
		if r.Limit > 0 && n == r.Limit {
			return io.EOF
		}
		if e.At.Before(r.Since) {
			return nil
		}
		n++
		about := state.SubjectOf(e.Fact)
		return each(Entry{Seq: e.Seq, At: e.At, Kind: state.KindOf(e.Fact), Text: e.Fact.Sentence(),
			Level: state.LevelOf(e.Fact), Member: about.Member, Role: about.Role, Node: about.Node})
	})
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return err
}

// Wiring gives whom roles call or know, and what the members that are there are of: what events follow from is found by that.
func Wiring(f Folder) (calls map[field.RoleName][]field.RoleName, members map[field.MemberName]place.Member, err error) {
	s, err := readState(f)
	if err != nil {
		return nil, nil, err
	}
	calls, members = map[field.RoleName][]field.RoleName{}, map[field.MemberName]place.Member{}
	if s.Field != nil {
		for i := range s.Field.Roles {
			r := &s.Field.Roles[i]
			calls[r.Name] = append(r.Called(), r.Known()...)
		}
	}
	for _, m := range state.EveryMember(s) {
		members[m.Name] = m.Member
	}
	return calls, members, nil
}

// LookPast gives the field as it was at that moment, taking hold of nothing.
func LookPast(f Folder, at time.Time) (*snapshot.Snapshot, error) { return f.past(at) }

package tui

import (
	"testing"
	"time"

	"lanternfield/internal/core/snapshot"
)

// TestTheDraftIsComparedOnlyWhereSomethingHasChanged has snapshots come that bring measures, and such that bring a change, to a small field and a large one.
func TestTheDraftIsComparedOnlyWhereSomethingHasChanged(t *testing.T) {
	r, _ := lived(t)
	a := r.app
	begin := a.now
	for _, x := range []struct {
		change    uint64
		after     time.Duration // since it was compared first
		members   int
		tide, all bool
	}{
		{5, 0, 20, true, true},
		{5, time.Second, 20, false, false},
		{6, time.Second + time.Millisecond, 20, true, true},
		{6, 9 * time.Second, 20, false, false},
		{6, 12 * time.Second, 20, true, true}, // a node may lack something
		{7, 13 * time.Second, 2000, true, false},
		{7, 13*time.Second + time.Millisecond, 2000, false, false},
		{7, 15 * time.Second, 2000, true, true},
		{7, 22 * time.Second, 2000, false, false},
		{7, 26 * time.Second, 2000, true, true},
		{0, 74 * time.Second, 2000, true, true}, // nobody says what has changed
	} {
		was := *a.snap
		is := was
		is.Change = x.change
		is.Members = make([]snapshot.MemberView, x.members)
		a.snap, a.now, a.reviewing = &is, begin.Add(x.after), false
		before := &was
		if x.after == 0 {
			before, a.asked = (*snapshot.Snapshot)(nil), time.Time{}
		}
		if cmd := a.follows(before); a.reviewing != x.all || (cmd != nil) != x.tide {
			t.Errorf("%+v: compared %t, tide read %t", x, a.reviewing, cmd != nil)
		}
	}
}

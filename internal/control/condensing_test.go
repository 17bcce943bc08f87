package control

import (
	"context"
	"errors"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/sqlite"
)

// restless makes a log in which one member becomes unready and ready again, once a second.
func restless(t *testing.T, f Folder, events int) (*sqlite.Log, time.Time) {
	t.Helper()
	if err := f.make(); err != nil {
		t.Fatal(err)
	}
	log, err := sqlite.Open(f.events())
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	all := []state.Event{{At: begin, Fact: state.TermRaised{Term: 1, By: "test"}}, {At: begin, Fact: state.Accepted{Field: sleepers(1), By: "test",
		Bound: map[field.NodeName]state.Binding{"gull-1": {Address: "198.18.0.1", Dir: "/gull-1"}}}},
		{At: begin, Fact: state.MemberPlanned{Member: place.Member{Name: "crews-1", Role: "crews", Node: "gull-1"}, Number: 1}}}
	for i := len(all); i < events; i++ {
		e := state.Event{At: begin.Add(time.Duration(i) * time.Second), Fact: state.MemberReady{Member: "crews-1"}}
		if i%2 == 0 {
			e.Fact = state.MemberUnready{Member: "crews-1", Why: "it sulks"}
		}
		all = append(all, e)
	}
	if err := log.Append(0, all); err != nil {
		t.Fatal(err)
	}
	return log, all[len(all)-1].At
}

// TestOldDetailIsCondensedByAgeAndByNumber condenses what is older, or more, than a field says; what stays is there, and the state is the same.
func TestOldDetailIsCondensedByAgeAndByNumber(t *testing.T) {
	for _, test := range []struct {
		name        string
		keep        field.History
		least, most uint64 // events left, with the one that stands for the rest
	}{
		{"as it says nothing", field.History{}, 12000, 12000},
		{"by age", field.History{Detail: field.Duration(5000 * time.Second)}, 5000, 5000 + eventlog.Every + 8},
		{"by number", field.History{Events: 8000}, 5000, 8000},
	} {
		t.Run(test.name, func(t *testing.T) {
			f := folder(t)
			log, last := restless(t, f, 12000)
			defer log.Close()
			before, tide, m, err := f.foldToWrite(log)
			if err != nil {
				t.Fatal(err)
			}
			defer m.drop()
			m.take(before, tide)
			for deadline := time.Now().Add(10 * time.Second); ; { // they are written while others go on
				if all, err := m.file.Load().List(); err == nil && len(all) >= 6 {
					break
				}
				if time.Now().After(deadline) {
					t.Fatal("the checkpoints were not written")
				}
				time.Sleep(time.Millisecond)
			}
			if err := condense(context.Background(), log, m.file.Load(), test.keep, last); err != nil {
				t.Fatal(err)
			}
			n, accepted := uint64(0), 0
			err = log.Read(0, func(e eventlog.Stored) error {
				n++
				if _, is := e.Fact.(state.Accepted); is {
					accepted++
				}
				return nil
			})
			if err != nil || n < test.least || n > test.most || accepted != 1 {
				t.Errorf("%d events are left, want %d to %d; %d of what was deployed; %v", n, test.least, test.most, accepted, err)
			}
			after, _, err := eventlog.Folder{Log: log}.Fold(nil)
			if err != nil || after.Members["crews-1"].Phase != before.Members["crews-1"].Phase || !after.Members["crews-1"].Since.Equal(before.Members["crews-1"].Since) || after.Rollout != before.Rollout {
				t.Errorf("the state is another one: %+v, %v", after.Members["crews-1"], err)
			}
			_, err = f.past(last.Add(-11000 * time.Second))
			var old *eventlog.TooOld
			if condensed := n < 12000; errors.As(err, &old) != condensed {
				t.Errorf("a moment of the beginning: %v", err)
			}
			if _, err := f.past(last.Add(-100 * time.Second)); err != nil {
				t.Errorf("a moment of the end: %v", err)
			}
		})
	}
}

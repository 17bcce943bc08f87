package eventlog_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/memory"
	"lanternfield/internal/eventlog/sqlite"
)

var begin = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// history is what a rehearsed field went through: it is scaled, its members crash, its nodes are cut off so that reports come late.
func history(t *testing.T, events int) []state.Event {
	t.Helper()
	draft := func(members int) *field.Field {
		f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "a"}, {Name: "tern-1", Zone: "b"}, {Name: "gull-2", Zone: "a"}},
			Roles: []field.Role{{Name: "wardens", Members: 2, Program: &field.Program{Command: []string{"warden", "--at={{.Address}}"}}},
				{Name: "crews", Members: members, After: map[field.RoleName]field.Gate{"wardens": "all"},
					Program: &field.Program{Command: []string{"crew", `{{range .Joined}}{{.Member}} {{end}}`}}}}}
		field.FillDefaults(f)
		return f
	}
	w := rehearse.New(begin)
	w.TakeOver()
	deploy := func(members int) {
		f := draft(members)
		if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
			t.Fatal(err)
		}
	}
	deploy(4)
	w.Run(time.Minute)
	random := rand.New(rand.NewPCG(1, 2))
	for len(w.Log) < events {
		members := state.SortedMembers(w.State)
		m := members[random.IntN(len(members))]
		switch random.IntN(8) {
		case 0:
			deploy(2 + random.IntN(5))
		case 1:
			w.Cut(m.Node)
		case 2:
			w.Heal(m.Node)
		case 3:
			_ = w.Do(engine.RestartMembers{Members: []field.MemberName{m.Name}})
		case 4:
			w.Lead(m.Name, uint64(len(w.Log)))
		default:
			w.Kill(m.Name)
		}
		w.Run(time.Duration(random.IntN(4000)) * time.Millisecond)
	}
	return w.Log
}

// keep folds a log as its writer does, with a checkpoint every so many events.
func keep(t *testing.T, log eventlog.Log, checkpoints eventlog.Checkpoints, every int) {
	t.Helper()
	s, marker, n := state.NewState(), eventlog.NewMarker(eventlog.Checkpoint{}), 0
	err := log.Read(0, func(e eventlog.Stored) error {
		state.Apply(s, e.Event)
		marker.Note(e)
		if n++; n%every != 0 {
			return nil
		}
		sum, err := log.Sum(e.Seq)
		if err != nil {
			return err
		}
		c, err := marker.Take(s, sum)
		return errors.Join(err, checkpoints.Put(c))
	})
	if err != nil {
		t.Fatal(err)
	}
}

// late counts the events that were stored after others which had happened later.
func late(events []state.Event) int {
	n, newest := 0, time.Time{}
	for _, e := range events {
		if e.At.Before(newest) {
			n++
		} else {
			newest = e.At
		}
	}
	return n
}

// same compares states by all that is kept of them.
func same(t *testing.T, what string, got, want *state.State) {
	t.Helper()
	a, errA := state.Encode(got)
	b, errB := state.Encode(want)
	if errA != nil || errB != nil {
		t.Fatal(errA, errB)
	}
	x, _ := state.Decode(a)
	y, _ := state.Decode(b)
	if !reflect.DeepEqual(x, y) {
		t.Errorf("%s: the states differ:\n got %s\nwant %s", what, snapshot.Of(got, begin).Verdict, snapshot.Of(want, begin).Verdict)
	}
}

func TestAnEncodedStateIsTheSameState(t *testing.T) {
	s := state.NewState()
	for i, e := range history(t, 1500) {
		state.Apply(s, e)
		if i%97 != 0 {
			continue
		}
		data, err := state.Encode(s)
		if err != nil {
			t.Fatal(err)
		}
		again, err := state.Decode(data)
		if err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(again, s) {
			t.Fatalf("after event %d (%s) the state that was encoded and decoded is another one", i+1, e.Fact.Sentence())
		}
		if clone := s.Clone(); !reflect.DeepEqual(clone, s) {
			t.Fatalf("after event %d the clone is another state", i+1)
		}
	}
}

func TestACloneGoesItsOwnWay(t *testing.T) {
	events := history(t, 1500)
	half := len(events) / 2
	s := state.NewState()
	for _, e := range events[:half] {
		state.Apply(s, e)
	}
	before, err := state.Encode(s)
	if err != nil {
		t.Fatal(err)
	}
	clone := s.Clone()
	for _, e := range events[half:] {
		state.Apply(clone, e)
	}
	want, err := state.Decode(before)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(s, want) {
		t.Error("folding events into a clone has changed what it was made of")
	}
}

// TestAnyMomentIsTheSameWithAndWithoutCheckpoints compares the past as it is found by checkpoints with the same events folded from the
// beginning, at the times of events and between them.
func TestAnyMomentIsTheSameWithAndWithoutCheckpoints(t *testing.T) {
	events := history(t, 2500)
	if n := late(events); n < 20 {
		t.Fatalf("only %d events come late: this shows nothing", n)
	}
	for _, every := range []int{7, 64, 500, 5000} {
		log, checkpoints := &memory.Log{}, &memory.Checkpoints{}
		if err := log.Append(0, events); err != nil {
			t.Fatal(err)
		}
		keep(t, log, checkpoints, every)
		fold := eventlog.Folder{Log: log, Checkpoints: checkpoints}
		for i := 0; i < len(events); i += 101 {
			for _, at := range []time.Time{events[i].At, events[i].At.Add(time.Nanosecond), events[i].At.Add(-time.Nanosecond)} {
				got, err := fold.At(at)
				if err != nil {
					t.Fatal(err)
				}
				same(t, fmt.Sprintf("a checkpoint every %d events, at event %d", every, i+1), got, state.Rewind(events, at))
			}
		}
		s, from, err := fold.Fold(nil)
		if err != nil || every < len(events) && from.Seq == 0 {
			t.Errorf("folded from %d: %v", from.Seq, err)
		}
		same(t, "the end", s, state.Rewind(events, begin.AddDate(1, 0, 0)))
	}
}

func TestACheckpointThatDoesNotFitIsPassedOver(t *testing.T) {
	events := history(t, 600)
	want := state.Rewind(events, begin.AddDate(1, 0, 0))
	for name, harm := range map[string]func(*eventlog.Checkpoint){
		"of another log":         func(c *eventlog.Checkpoint) { c.Sum++ },
		"of another version":     func(c *eventlog.Checkpoint) { c.Version++ },
		"beyond the log's end":   func(c *eventlog.Checkpoint) { c.Seq += 10_000 },
		"that cannot be decoded": func(c *eventlog.Checkpoint) { c.State = []byte("no state") },
	} {
		log, kept, harmed := &memory.Log{}, &memory.Checkpoints{}, &memory.Checkpoints{}
		if err := log.Append(0, events); err != nil {
			t.Fatal(err)
		}
		keep(t, log, kept, 100)
		all, _ := kept.List()
		for _, c := range all {
			harm(&c)
			if err := harmed.Put(c); err != nil {
				t.Fatal(err)
			}
		}
		fold := eventlog.Folder{Log: log, Checkpoints: harmed}
		s, from, err := fold.Fold(nil)
		if err != nil || from.Seq != 0 {
			t.Errorf("checkpoints %s: folded from %d, %v", name, from.Seq, err)
		}
		same(t, "checkpoints "+name, s, want)
	}
}

// TestCondensedDetailLeavesTheStateAndTheTopology condenses a log in a file step by step, and opens it again each time.
func TestCondensedDetailLeavesTheStateAndTheTopology(t *testing.T) {
	events := history(t, 1500)
	name := filepath.Join(t.TempDir(), "events.db")
	log, err := sqlite.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	if err := log.Append(0, events[:1400]); err != nil {
		t.Fatal(err)
	}
	checkpoints := &memory.Checkpoints{}
	keep(t, log, checkpoints, 101)
	all, _ := checkpoints.List()
	want := map[string]int{}
	upTo, condensed := uint64(0), 0
	for _, c := range all[:10] {
		err := log.Condense(c)
		if errors.Is(err, sqlite.ErrStays) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		upTo = c.Seq
		condensed++
		if err := errors.Join(log.Whole(), log.DropSpecs(), log.Close()); err != nil {
			t.Fatalf("after condensing up to event %d: %v", upTo, err)
		}
		if log, err = sqlite.Open(name); err != nil {
			t.Fatal(err)
		}
	}
	if condensed < 3 {
		t.Fatalf("condensed %d times: this shows nothing", condensed)
	}
	for _, e := range events[:upTo] {
		if state.Stays(e.Fact) {
			want[state.KindOf(e.Fact)]++
		}
	}
	if err := log.Append(log.Last(), events[1400:]); err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	got, counts, rest := map[string]int{}, 0, 0
	err = log.Read(0, func(e eventlog.Stored) error {
		switch f := e.Fact.(type) {
		case state.Condensed:
			for _, n := range f.Counts {
				counts += n
			}
		default:
			if e.Seq <= upTo {
				got[state.KindOf(e.Fact)]++
			} else if rest++; !reflect.DeepEqual(e.Fact, events[e.Seq-1].Fact) {
				t.Errorf("event %d is another one", e.Seq)
			}
		}
		return nil
	})
	if err != nil || !reflect.DeepEqual(got, want) || rest != len(events)-int(upTo) {
		t.Errorf("%v; what stays is %v, want %v; %d events after, want %d", err, got, want, rest, len(events)-int(upTo))
	}
	stays := 0
	for _, n := range want {
		stays += n
	}
	if counts+stays != int(upTo) {
		t.Errorf("%d events are condensed and %d stay; there were %d", counts, stays, upTo)
	}
	fold := eventlog.Folder{Log: log, Checkpoints: checkpoints}
	for _, c := range []eventlog.Checkpoints{nil, checkpoints} {
		fold.Checkpoints = c
		s, _, err := fold.Fold(nil)
		if err != nil {
			t.Fatal(err)
		}
		end := state.Rewind(events, begin.AddDate(1, 0, 0))
		end.Condensed = s.Condensed
		same(t, "the end of a condensed log", s, end)
		at := events[1390].At
		if s, err = fold.At(at); err != nil {
			t.Fatal(err)
		}
		then := state.Rewind(events, at)
		then.Condensed = s.Condensed
		same(t, "a moment after what is condensed", s, then)
		var old *eventlog.TooOld
		if _, err := fold.At(events[100].At); !errors.As(err, &old) {
			t.Errorf("a moment whose detail is condensed: %v", err)
		}
	}
}

func TestTwoWritersAreToldApart(t *testing.T) {
	events := history(t, 50)
	file, err := sqlite.Open(filepath.Join(t.TempDir(), "events.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for _, log := range []eventlog.Log{&memory.Log{}, file} {
		if err := log.Append(0, events[:20]); err != nil {
			t.Fatal(err)
		}
		var conflict *eventlog.Conflict
		if err := log.Append(10, events[20:]); !errors.As(err, &conflict) || conflict.Last != 20 {
			t.Errorf("%T: appended after event 10 of 20: %v", log, err)
		}
		if log.Last() != 20 {
			t.Errorf("%T: the log ends with %d", log, log.Last())
		}
		if err := log.Append(20, events[20:]); err != nil || log.Last() != uint64(len(events)) {
			t.Errorf("%T: %v, the log ends with %d", log, err, log.Last())
		}
		after, err := log.Back(31, 5)
		if err != nil || after != 25 {
			t.Errorf("%T: the five before event 31 come after %d, %v; want 25", log, after, err)
		}
	}
}

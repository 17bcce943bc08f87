package sqlite

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"

	"lanternfield/internal/core/field"
)

func ready(n int) state.Event {
	return state.Event{At: time.Unix(0, int64(n)).UTC(), Fact: state.MemberReady{Member: field.RoleName("crews").Member(n)}}
}

func read(t *testing.T, s *Log, after uint64) []eventlog.Stored {
	t.Helper()
	var all []eventlog.Stored
	if err := s.Read(after, func(e eventlog.Stored) error { all = append(all, e); return nil }); err != nil {
		t.Fatal(err)
	}
	return all
}

func TestEventsComeBackInOrderWithTheirTimes(t *testing.T) {
	name := filepath.Join(t.TempDir(), "with space & ümlaut.db")
	s, err := Open(name)
	if err != nil {
		t.Fatal(err)
	}
	for _, batch := range [][]state.Event{{ready(1), ready(2)}, nil, {ready(3)}} {
		if err := s.Append(s.Last(), batch); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(name); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if s.Last() != 3 {
		t.Errorf("last is %d, want 3", s.Last())
	}
	if err := s.Append(s.Last(), []state.Event{ready(4)}); err != nil {
		t.Fatal(err)
	}
	all := read(t, s, 1)
	for i, e := range all {
		n := i + 2
		if e.Seq != uint64(n) || !e.At.Equal(time.Unix(0, int64(n))) || e.Fact != ready(n).Fact {
			t.Errorf("event %d: got %+v", n, e)
		}
	}
	if len(all) != 3 {
		t.Errorf("%d events after the first, want 3", len(all))
	}
}

func TestAReaderSeesWhatAWriterHasStored(t *testing.T) {
	name := filepath.Join(t.TempDir(), "events.db")
	if _, err := OpenToRead(name); !errors.Is(err, eventlog.ErrNone) {
		t.Errorf("no log: got %v", err)
	}
	if err := os.WriteFile(name, nil, 0o600); err != nil { // a writer that has made the file and not yet the table
		t.Fatal(err)
	}
	if _, err := OpenToRead(name); !errors.Is(err, eventlog.ErrNone) {
		t.Errorf("an empty file: got %v", err)
	}
	w, err := Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	for n := 1; n <= 20; n++ {
		if err := w.Append(w.Last(), []state.Event{ready(n)}); err != nil {
			t.Fatal(err)
		}
		r, err := OpenToRead(name)
		if err != nil {
			t.Fatal(err)
		}
		if got := len(read(t, r, 0)); got != n {
			t.Errorf("a reader sees %d events, want %d", got, n)
		}
		if err := r.Append(r.Last(), []state.Event{ready(99)}); err == nil {
			t.Error("a reader could write")
		}
		r.Close()
	}
}

// TestABatchIsWholeOrNotThere ends a batch half-way: by an event that cannot be encoded.
func TestABatchIsWholeOrNotThere(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "events.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	bad := state.Event{Fact: state.Accepted{Field: &field.Field{Nodes: []field.Node{{Size: field.Size{CPU: inf()}}}}}}
	if err := s.Append(s.Last(), []state.Event{ready(1), bad}); err == nil {
		t.Fatal("an infinite number was encoded")
	}
	if got := read(t, s, 0); len(got) != 0 || s.Last() != 0 {
		t.Errorf("half a batch is there: %v", got)
	}
	if err := s.Append(s.Last(), []state.Event{ready(1)}); err != nil || s.Last() != 1 {
		t.Errorf("after a failed batch: %v, last %d", err, s.Last())
	}
}

func inf() float64 {
	zero := 0.0
	return 1 / zero
}

func TestDamagedAndForeignLogsAreToldApart(t *testing.T) {
	dir := t.TempDir()
	damaged := filepath.Join(dir, "damaged.db")
	if err := os.WriteFile(damaged, []byte(strings.Repeat("not a database ", 500)), 0o600); err != nil {
		t.Fatal(err)
	}
	want := fmt.Sprintf("the events in %s cannot be opened: the file is damaged; put it back from a copy; members go on running meanwhile", damaged)
	if _, err := Open(damaged); err == nil || err.Error() != want {
		t.Errorf("got %v\nwant %s", err, want)
	}
	newer := filepath.Join(dir, "newer.db")
	s, err := Open(newer)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.db.Exec(`INSERT INTO events VALUES (1, 1, 'member-sang', x'7b7d', ?)`, sumOf(0, 1, 1, "member-sang", []byte("{}"))); err != nil {
		t.Fatal(err)
	}
	err = s.Read(0, func(eventlog.Stored) error { return nil })
	want = `event 1 in ` + newer + ` cannot be read: an event of kind "member-sang" is unknown to this version: a newer version has written it; ` +
		`put the file back from a copy, or, if a newer version has written it, use that one. Members go on running meanwhile`
	if err == nil || err.Error() != want {
		t.Errorf("got %v\nwant %s", err, want)
	}
}

func TestAFolderThatIsMissingIsSaid(t *testing.T) {
	_, err := Open(filepath.Join(t.TempDir(), "missing", "events.db"))
	if err == nil || !strings.Contains(err.Error(), "no permission, or the folder is missing; make the folder") {
		t.Errorf("got %v", err)
	}
}

// BenchmarkAppend is one batch of ten events, synced.
func BenchmarkAppend(b *testing.B) {
	s, err := Open(filepath.Join(b.TempDir(), "events.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	batch := make([]state.Event, 10)
	for i := range batch {
		batch[i] = ready(i)
	}
	for b.Loop() {
		if err := s.Append(s.Last(), batch); err != nil {
			b.Fatal(err)
		}
	}
}

// TestAChangedEventIsNamed changes a byte of an event, takes one out and puts one in; then the log goes on with what came before.
func TestAChangedEventIsNamed(t *testing.T) {
	for what, change := range map[string]string{
		"a changed byte":        `UPDATE events SET fact = CAST(replace(CAST(fact AS TEXT), 'Term":2', 'Term":9') AS BLOB) WHERE seq = 2`,
		"a changed time":        `UPDATE events SET at = at + 1 WHERE seq = 2`,
		"one that was put in":   `INSERT INTO events (seq, at, kind, fact, sum) VALUES (2, 0, 'field-retired', CAST('{}' AS BLOB), 7)`,
		"one that is taken out": `DELETE FROM events WHERE seq = 1`,
	} {
		name := filepath.Join(t.TempDir(), "events.db")
		s, err := Open(name)
		if err != nil {
			t.Fatal(err)
		}
		for term := uint64(1); term <= 3; term++ {
			if err := s.Append(s.Last(), []state.Event{{At: time.Now(), Fact: state.TermRaised{Term: term, By: "test"}}}); err != nil {
				t.Fatal(err)
			}
		}
		if what == "one that was put in" {
			change = "DELETE FROM events WHERE seq = 2; " + change
		}
		if _, err := s.db.Exec(change); err != nil {
			t.Fatal(err)
		}
		s.Close()
		if s, err = OpenToRead(name); err != nil {
			t.Fatal(err)
		}
		var broken *eventlog.Broken
		err = s.Read(0, func(eventlog.Stored) error { return nil })
		s.Close()
		if !errors.As(err, &broken) || broken.Seq != 2 || !strings.Contains(err.Error(), "event 2 in ") {
			t.Errorf("%s: got %v", what, err)
			continue
		}
		if _, err := Cut(name, broken.Seq); err != nil {
			t.Fatal(err)
		}
		if s, err = Open(name); err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(s.Append(s.Last(), []state.Event{{At: time.Now(), Fact: state.TermRaised{Term: 9, By: "test"}}}), s.Read(0, func(eventlog.Stored) error { return nil })); err != nil {
			t.Errorf("%s, after it was cut: %v", what, err)
		}
		s.Close()
	}
}

// TestALogOfAnOlderVersionIsGivenChecksums opens one without.
func TestALogOfAnOlderVersionIsGivenChecksums(t *testing.T) {
	name := filepath.Join(t.TempDir(), "events.db")
	s, err := Open(name)
	if err == nil {
		err = s.Append(s.Last(), []state.Event{{At: time.Now(), Fact: state.TermRaised{Term: 1, By: "test"}}})
	}
	if err == nil {
		_, err = s.db.Exec(`ALTER TABLE events DROP COLUMN sum`)
	}
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	if s, err = OpenToRead(name); err != nil {
		t.Fatal(err)
	}
	if err := s.Read(0, func(eventlog.Stored) error { return nil }); err != nil {
		t.Errorf("looked at as it was: %v", err)
	}
	s.Close()
	if s, err = Open(name); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Append(s.Last(), []state.Event{{At: time.Now(), Fact: state.TermRaised{Term: 2, By: "test"}}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Read(0, func(eventlog.Stored) error { return nil }); err != nil || !s.sums {
		t.Errorf("with checksums: %v", err)
	}
}

package eventlog

import (
	"errors"
	"fmt"
	"log/slog"
	"time"

	"lanternfield/internal/core/state"
)

// Checkpoint is a state with all events folded up to one of them. It is a cache: whoever finds that it does not fit throws it away.
type Checkpoint struct {
	Seq      uint64    // of the last event that is in it
	After    uint64    // of the last event in the checkpoint before; 0 for the first
	Sum      int64     // of the log up to there; one of another log does not fit
	Version  int       // of the folding, see state.Version
	Newest   time.Time // the latest time of an event in it
	Earliest time.Time // the earliest time of an event since the checkpoint before
	State    []byte    // see state.Encode
}

// Checkpoints keeps them. Their order is that of their numbers.
type Checkpoints interface {
	// List gives all of them without their states.
	List() ([]Checkpoint, error)
	// State gives the state of one of them.
	State(seq uint64) ([]byte, error)
	// Put keeps one.
	Put(Checkpoint) error
	// Drop throws away those from that number on.
	Drop(from uint64) error
	Close() error
}

// Every is how many events there are between two checkpoints, at least.
const Every = 2048

// Folder folds a log with the help of its checkpoints, which may be nil.
type Folder struct {
	Log         Reader
	Checkpoints Checkpoints
	// Progress hears how far the folding of a long log has come; it may be nil.
	Progress func(done, of uint64)
}

// Fold gives the state at the end of the log, and the checkpoint that it began with (zero where there was none). Each hears every event
// that is folded after that one; it may be nil.
func (f Folder) Fold(each func(*state.State, Stored)) (*state.State, Checkpoint, error) {
	s, from := f.start(func(c Checkpoint) bool { return true })
	last := f.Log.Last()
	n := 0
	err := f.Log.Read(from.Seq, func(e Stored) error {
		state.Apply(s, e.Event)
		if each != nil {
			each(s, e)
		}
		if n++; f.Progress != nil && n%10000 == 0 {
			f.Progress(e.Seq, last)
		}
		return nil
	})
	return s, from, err
}

// From folds the log in the order in which it was stored, from before a moment on: each hears the events after the newest checkpoint that is wholly
// before it, until it gives false.
func (f Folder) From(at time.Time, each func(*state.State, Stored) bool) error {
	if _, until := f.Log.Begin(); until.After(at) {
		return &TooOld{At: at, From: until}
	}
	s, from := f.start(func(c Checkpoint) bool { return c.Newest.Before(at) })
	err := f.Log.Read(from.Seq, func(e Stored) error {
		state.Apply(s, e.Event)
		if !each(s, e) {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// errEnough ends a reading.
var errEnough = errors.New("enough was read")

// At gives the state as it was at a moment: all events folded, in the order in which they were stored, that had happened by then. Reports
// of agents may be stored late; they count from when they happened.
func (f Folder) At(at time.Time) (*state.State, error) {
	if _, until := f.Log.Begin(); until.After(at) {
		return nil, &TooOld{At: at, From: until}
	}
	s, from := f.start(func(c Checkpoint) bool { return !c.Newest.After(at) })
	after := from.Seq
	fold := func(upTo uint64) error {
		err := f.Log.Between(after, upTo, func(e Stored) error {
			if !e.At.After(at) && s.Knows(e.Fact) {
				state.Apply(s, e.Event)
			}
			return nil
		})
		after = upTo
		return err
	}
	for _, c := range f.list() {
		if c.Seq <= from.Seq {
			continue
		}
		if c.After <= after && c.Earliest.After(at) { // nothing of it had happened
			after = c.Seq
			continue
		}
		if err := fold(c.Seq); err != nil {
			return nil, err
		}
	}
	if err := fold(f.Log.Last()); err != nil {
		return nil, err
	}
	return s, nil
}

// Before gives a number of an event up to which all had happened before a moment.
func (f Folder) Before(at time.Time) uint64 {
	seq := uint64(0)
	for _, c := range f.list() {
		if c.Newest.Before(at) {
			seq = c.Seq
		}
	}
	return seq
}

// TooOld says that the detail of a moment was condensed.
type TooOld struct{ At, From time.Time }

func (e *TooOld) Error() string {
	return fmt.Sprintf("how the field was at %s is not kept: detail from before %s was condensed; the journal has what stays",
		e.At.Local().Format("2006-01-02 15:04:05"), e.From.Local().Format("2006-01-02 15:04:05"))
}

// start gives the state of the newest checkpoint that fits and is wanted; the state before any event where there is none.
func (f Folder) start(wanted func(Checkpoint) bool) (*state.State, Checkpoint) {
	all := f.list()
	for i := len(all) - 1; i >= 0; i-- {
		c := all[i]
		if !wanted(c) {
			continue
		}
		sum, err := f.Log.Sum(c.Seq)
		if err != nil || sum != c.Sum {
			continue
		}
		data, err := f.Checkpoints.State(c.Seq)
		if err == nil {
			var s *state.State
			if s, err = state.Decode(data); err == nil {
				return s, c
			}
		}
		slog.Warn("a checkpoint cannot be used", "seq", c.Seq, "error", err)
	}
	after, _ := f.Log.Begin()
	return state.NewState(), Checkpoint{Seq: after}
}

// list gives the checkpoints of this version that end within the log.
func (f Folder) list() []Checkpoint {
	if f.Checkpoints == nil {
		return nil
	}
	all, err := f.Checkpoints.List()
	if err != nil {
		slog.Warn("checkpoints cannot be read; the log is folded from its beginning", "error", err)
		return nil
	}
	var fit []Checkpoint
	for _, c := range all {
		if c.Version == state.Version && c.Seq <= f.Log.Last() {
			fit = append(fit, c)
		}
	}
	return fit
}

// Marker notes checkpoints as a log is folded.
type Marker struct {
	next Checkpoint
	last uint64
}

// NewMarker goes on after a checkpoint; the zero one stands for the beginning.
func NewMarker(from Checkpoint) *Marker {
	return &Marker{next: Checkpoint{Seq: from.Seq, Newest: from.Newest, After: from.Seq}, last: from.Seq}
}

// Note takes in an event. Due tells whether it is time for a checkpoint.
func (m *Marker) Note(e Stored) (due bool) {
	if m.next.Earliest.IsZero() || e.At.Before(m.next.Earliest) {
		m.next.Earliest = e.At
	}
	if e.At.After(m.next.Newest) {
		m.next.Newest = e.At
	}
	m.next.Seq = e.Seq
	return m.next.Seq >= m.last+Every
}

// Last is the number of the newest event that was noted.
func (m *Marker) Last() uint64 { return m.next.Seq }

// Since is how many events there are since the last checkpoint.
func (m *Marker) Since() uint64 { return m.next.Seq - min(m.next.Seq, m.last) }

// Take gives the checkpoint that is due, of that state, for a log with that sum up to its last event.
func (m *Marker) Take(s *state.State, sum int64) (Checkpoint, error) {
	c := m.next
	data, err := state.Encode(s)
	c.State, c.Sum, c.Version = data, sum, state.Version
	m.last, m.next = c.Seq, Checkpoint{Newest: c.Newest, Seq: c.Seq, After: c.Seq}
	return c, err
}

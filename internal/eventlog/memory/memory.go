// Package memory keeps a log in memory, for rehearsals and tests.
package memory

import (
	"hash/fnv"
	"slices"
	"sync"
	"time"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// Log is a log in memory. Events are kept as they would be on a disk, so that nothing is shared with who appends or reads.
type Log struct {
	mu     sync.Mutex
	stored []kept
}

type kept struct {
	event eventlog.Stored
	kind  string
	fact  []byte
	sum   int64
}

var _ eventlog.Log = (*Log)(nil)

// Append stores a batch.
func (l *Log) Append(expected uint64, events []state.Event) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if last := uint64(len(l.stored)); last != expected {
		return &eventlog.Conflict{Expected: expected, Last: last}
	}
	sum := int64(0)
	if n := len(l.stored); n > 0 {
		sum = l.stored[n-1].sum
	}
	var batch []kept
	for i, e := range events {
		kind, fact, err := state.EncodeFact(e.Fact)
		if err != nil {
			return err
		}
		h := fnv.New64a()
		h.Write([]byte{byte(sum), byte(sum >> 8), byte(sum >> 16), byte(sum >> 24), byte(sum >> 32), byte(sum >> 40), byte(sum >> 48), byte(sum >> 56)})
		h.Write([]byte(kind))
		h.Write(fact)
		sum = int64(h.Sum64())
		batch = append(batch, kept{eventlog.Stored{Seq: expected + uint64(i) + 1, Event: state.Event{At: e.At.UTC()}}, kind, fact, sum})
	}
	l.stored = append(l.stored, batch...)
	return nil
}

// Last is the number of the newest event.
func (l *Log) Last() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return uint64(len(l.stored))
}

// Read gives the events above that number.
func (l *Log) Read(after uint64, each func(eventlog.Stored) error) error {
	return l.Between(after, l.Last(), each)
}

// Between gives the events above one number up to another.
func (l *Log) Between(after, upTo uint64, each func(eventlog.Stored) error) error {
	l.mu.Lock()
	part := l.stored[min(after, uint64(len(l.stored))):min(upTo, uint64(len(l.stored)))]
	l.mu.Unlock()
	for _, k := range part {
		fact, err := state.DecodeFact(k.kind, k.fact)
		if err != nil {
			return err
		}
		e := k.event
		e.Fact = fact
		if err := each(e); err != nil {
			return err
		}
	}
	return nil
}

// Begin is always the beginning: nothing is condensed here.
func (l *Log) Begin() (uint64, time.Time) { return 0, time.Time{} }

// Back gives the number after which the n newest events below a number come.
func (l *Log) Back(below, n uint64) (uint64, error) {
	end := min(below, l.Last()+1)
	return end - 1 - min(n, end-1), nil
}

// Sum is the checksum of the log up to that event.
func (l *Log) Sum(seq uint64) (int64, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if seq == 0 || seq > uint64(len(l.stored)) {
		return 0, eventlog.ErrNone
	}
	return l.stored[seq-1].sum, nil
}

// Close does nothing: whoever opens the log again is given the same one.
func (l *Log) Close() error { return nil }

// Checkpoints keeps checkpoints in memory.
type Checkpoints struct {
	mu  sync.Mutex
	all []eventlog.Checkpoint
}

var _ eventlog.Checkpoints = (*Checkpoints)(nil)

// List gives all of them.
func (c *Checkpoints) List() ([]eventlog.Checkpoint, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.all), nil
}

// State gives the state of one.
func (c *Checkpoints) State(seq uint64) ([]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, x := range c.all {
		if x.Seq == seq {
			return x.State, nil
		}
	}
	return nil, eventlog.ErrNone
}

// Put keeps one.
func (c *Checkpoints) Put(x eventlog.Checkpoint) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = append(slices.DeleteFunc(c.all, func(o eventlog.Checkpoint) bool { return o.Seq >= x.Seq }), x)
	return nil
}

// Drop throws away those from that number on.
func (c *Checkpoints) Drop(from uint64) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = slices.DeleteFunc(c.all, func(o eventlog.Checkpoint) bool { return o.Seq >= from })
	return nil
}

// Close does nothing.
func (c *Checkpoints) Close() error { return nil }

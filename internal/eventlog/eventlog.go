// Package eventlog is the log of one field: the events, in the order in which they were stored, with a number each. Everything else
// about a field follows from it. Where events are kept is another matter: package sqlite keeps them in a file, package memory for tests
// and rehearsals.
//
// Opening a long log need not fold all of it: checkpoints are folded states, kept beside the log and worth nothing without it. See Fold.
package eventlog

import (
	"errors"
	"fmt"
	"time"

	"lanternfield/internal/core/state"
)

// Stored is an event with its number. Numbers rise, from 1; where old detail was condensed, some are missing.
type Stored struct {
	Seq uint64
	state.Event
}

// Reader reads a log.
type Reader interface {
	// Last is the number of the newest event; 0 when there is none.
	Last() uint64
	// Read gives the events above that number, oldest first, to the function, until that one fails.
	Read(after uint64, each func(Stored) error) error
	// Between gives those above one number up to another, as Read does.
	Between(after, upTo uint64, each func(Stored) error) error
	// Begin gives the number after which folding begins: 0, or that before the event that stands for what was condensed, with the newest
	// time of that.
	Begin() (after uint64, until time.Time)
	// Back gives the number after which the n newest events come that are below a number; 0 where there are no more than that.
	Back(below, n uint64) (after uint64, err error)
	// Sum is the checksum of the log up to that event: over it, and over all before.
	Sum(seq uint64) (int64, error)
	Close() error
}

// Log is a log that is written. One writer at a time; who that is, a lease says (see control.Folder).
type Log interface {
	Reader
	// Append stores a batch of events after the one with the expected number. When it returns nil they are on the disk. An error of
	// type *Conflict means that the log has gone on meanwhile.
	Append(expected uint64, events []state.Event) error
}

// ErrNone says that there is no log.
var ErrNone = errors.New("nothing is stored")

// Conflict says that a log does not end where its writer thinks.
type Conflict struct{ Expected, Last uint64 }

func (c *Conflict) Error() string {
	return fmt.Sprintf("the log ends with event %d, and event %d was to be followed: somebody else has written it", c.Last, c.Expected)
}

// Broken says that an event is not as it was written.
type Broken struct {
	Seq  uint64
	Name string // of the log
	Says string // the event, as it is now
	At   time.Time
}

func (b *Broken) Error() string {
	return fmt.Sprintf("event %d in %s (%s, %s) is not as it was written, so nothing from there on can be trusted. Put the file back from a copy; or go on with what comes before it: "+
		"`lanternfield deploy` or `retire` with --take-over and the field's name. Members go on running meanwhile", b.Seq, b.Name, b.At.Local().Format("2006-01-02 15:04:05"), b.Says)
}

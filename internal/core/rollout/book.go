package rollout

import (
	"slices"

	"lanternfield/internal/core/state"
)

// Book follows all that goes on: a recorder for each rollout and task that has not ended, and for those that ended last. The zero value is ready to use.
type Book struct {
	recorders []*Recorder // oldest first
}

// How much of what has ended a book keeps, so that it can be looked at without reading the log: so many, with so many rows between them.
const (
	mostEnded = 8
	mostRows  = 20000
)

// Note takes in an event, which has just been applied to the state.
func (b *Book) Note(s *state.State, e state.Event) {
	for _, r := range b.recorders {
		r.Note(s, e)
	}
	if next := Begins(s, e); next != nil {
		b.recorders = append(b.recorders, next)
		b.forget()
	}
}

// forget lets go of the oldest that have ended.
func (b *Book) forget() {
	ended, rows := 0, 0
	for i := len(b.recorders) - 1; i >= 0; i-- {
		r := b.recorders[i]
		if rows += len(r.rows); !r.Done() {
			continue
		}
		if ended++; ended > mostEnded || rows > mostRows {
			b.recorders = slices.Delete(b.recorders, i, i+1)
		}
	}
}

// Keep adds a recorder that was made elsewhere, of what began before the book.
func (b *Book) Keep(r *Recorder) { b.recorders = slices.Insert(b.recorders, 0, r) }

// Newest gives the newest that goes on, else the one that ended last; nil where there is none.
func (b *Book) Newest() *Recorder {
	var newest *Recorder
	for _, r := range b.recorders {
		switch {
		case newest == nil, !r.Done(), newest.Done() && !r.record.Ended.Before(newest.record.Ended):
			newest = r
		}
	}
	return newest
}

// Of gives the one of those numbers; nil where the book has none.
func (b *Book) Of(number, task int) *Recorder {
	for _, r := range b.recorders {
		if r.Is(number, task) {
			return r
		}
	}
	return nil
}

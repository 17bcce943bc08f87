package sqlite

import (
	"errors"
	"time"

	"lanternfield/internal/core/state"
)

// Excerpt writes a new log that begins with a state, as bytes (see state.Encode), and goes on with events after it. Until is up to when the state tells what
// had happened. Without a state it begins with the events.
func Excerpt(name string, encoded []byte, until time.Time, events []state.Event) (err error) {
	s, err := Open(name)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if encoded == nil {
		return s.Append(0, events)
	}
	kind, data, err := state.EncodeFact(state.Condensed{Version: state.CondensedVersion, Until: until, State: encoded})
	if err != nil {
		return err
	}
	at := until.UnixNano()
	sum := sumOf(0, 1, at, kind, data)
	tx, err := s.db.Begin()
	if err != nil {
		return s.plain("written", err)
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.Exec(`INSERT INTO events (seq, at, kind, fact, sum) VALUES (1, ?, ?, ?, ?)`, at, kind, data, sum); err != nil {
		return s.plain("written", err)
	}
	if _, err := tx.Exec(`INSERT INTO begin (seq, until) VALUES (1, ?)`, at); err != nil {
		return s.plain("written", err)
	}
	if err := tx.Commit(); err != nil {
		return s.plain("written", err)
	}
	s.last, s.sum = 1, sum
	return s.Append(1, events)
}

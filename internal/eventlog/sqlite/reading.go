package sqlite

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// Read gives the events above that number, oldest first, to the function, until it fails.
func (s *Log) Read(after uint64, each func(eventlog.Stored) error) error {
	return s.Between(after, math.MaxInt64, each)
}

// Between gives the events above one number up to another, oldest first, to the function, until it fails.
func (s *Log) Between(after, upTo uint64, each func(eventlog.Stored) error) error {
	column, before := "0", int64(0)
	if s.sums {
		column = "sum"
		var err error
		if before, err = s.Sum(after); err != nil {
			return err
		}
	}
	rows, err := s.db.Query(`SELECT seq, at, kind, fact, `+column+` FROM events WHERE seq > ? AND seq <= ? ORDER BY seq`, int64(after), int64(min(upTo, math.MaxInt64)))
	if err != nil {
		return s.plain("read", err)
	}
	defer rows.Close()
	for rows.Next() {
		var seq, at, sum int64
		var kind string
		var data []byte
		if err := rows.Scan(&seq, &at, &kind, &data, &sum); err != nil {
			return s.plain("read", err)
		}
		if wanted := sumOf(before, seq, at, kind, data); s.sums && wanted != sum {
			return s.broken(uint64(seq), at, kind, data)
		}
		before = sum
		fact, err := state.DecodeFact(kind, data)
		if err == nil {
			fact, err = s.whole(fact)
		}
		if err != nil {
			return fmt.Errorf("event %d in %s cannot be read: %w; put the file back from a copy, or, if a newer version has written it, use that one. Members go on running meanwhile", seq, s.name, err)
		}
		if c, is := fact.(state.Condensed); is && c.Sum != 0 {
			before = c.Sum // what follows was written after what is condensed here
		}
		if err := each(eventlog.Stored{Seq: uint64(seq), Event: state.Event{At: time.Unix(0, at).UTC(), Fact: fact}}); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return s.plain("read", err)
	}
	return nil
}

// Begin gives the number after which folding begins.
func (s *Log) Begin() (after uint64, until time.Time) {
	var seq, newest int64
	if err := s.lookup.QueryRow(`SELECT seq, until FROM begin`).Scan(&seq, &newest); err != nil || seq == 0 {
		return 0, time.Time{} // nothing was condensed, or by no version that could have
	}
	return uint64(seq) - 1, time.Unix(0, newest).UTC()
}

// Back gives the number after which the n newest events below a number come.
func (s *Log) Back(below, n uint64) (after uint64, err error) {
	err = s.lookup.QueryRow(`SELECT seq FROM events WHERE seq < ? ORDER BY seq DESC LIMIT 1 OFFSET ?`, int64(min(below, math.MaxInt64)), int64(min(n, math.MaxInt64))).Scan(&after)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	if err != nil {
		return 0, s.plain("read", err)
	}
	return after, nil
}

// Sum is the checksum of the log up to that event, by which the next one is checked; 0 for one before the first.
func (s *Log) Sum(seq uint64) (int64, error) {
	if !s.sums || seq == 0 {
		return 0, nil
	}
	var at uint64
	var sum int64
	var kind string
	var fact []byte
	err := s.lookup.QueryRow(`SELECT seq, sum, kind, CASE kind WHEN 'condensed' THEN fact END FROM events WHERE seq <= ? ORDER BY seq DESC LIMIT 1`, int64(seq)).Scan(&at, &sum, &kind, &fact)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return 0, nil
	case err != nil:
		return 0, s.plain("read", err)
	case kind == "condensed":
		var c struct{ Sum int64 }
		if err := json.Unmarshal(fact, &c); err == nil && c.Sum != 0 {
			return c.Sum, nil
		}
	}
	return sum, nil
}

// Whole reads all events and tells whether each is as it was written. It decodes none of them.
func (s *Log) Whole() error {
	if !s.sums {
		return nil
	}
	rows, err := s.db.Query(`SELECT seq, at, kind, fact, sum FROM events ORDER BY seq`)
	if err != nil {
		return s.plain("read", err)
	}
	defer rows.Close()
	before := int64(0)
	for rows.Next() {
		var seq, at, sum int64
		var kind string
		var data sql.RawBytes
		if err := rows.Scan(&seq, &at, &kind, &data, &sum); err != nil {
			return s.plain("read", err)
		}
		if sumOf(before, seq, at, kind, data) != sum {
			return s.broken(uint64(seq), at, kind, data)
		}
		if before = sum; kind == "condensed" {
			var c struct{ Sum int64 }
			if err := json.Unmarshal(data, &c); err == nil && c.Sum != 0 {
				before = c.Sum
			}
		}
	}
	if err := rows.Err(); err != nil {
		return s.plain("read", err)
	}
	return nil
}

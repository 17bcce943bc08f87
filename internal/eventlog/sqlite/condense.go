package sqlite

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// ErrStays says that the log cannot be condensed just up to an event, since that one stays.
var ErrStays = errors.New("that event stays")

// Condense replaces the detail of a log up to an event by one event in its place, which carries the state that all of it led to. What stays
// (see state.Stays) is left for the journal. The events after it are not touched.
func (s *Log) Condense(checkpoint eventlog.Checkpoint) error {
	tx, err := s.db.Begin()
	if err != nil {
		return s.plain("condensed", err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := s.condense(tx, checkpoint); err != nil {
		if errors.Is(err, ErrStays) {
			return err
		}
		return s.plain("condensed", err)
	}
	return tx.Commit()
}

func (s *Log) condense(tx *sql.Tx, checkpoint eventlog.Checkpoint) error {
	upTo := int64(checkpoint.Seq)
	var begin int64
	if err := tx.QueryRow(`SELECT coalesce(max(seq), 0) FROM begin`).Scan(&begin); err != nil {
		return err
	}
	c := state.Condensed{Version: state.CondensedVersion, Until: checkpoint.Newest, State: checkpoint.State, Counts: map[string]int{}}
	// What stays is chained anew; the sum by which the events after these go on is kept in the event.
	var sum int64
	if err := tx.QueryRow(`SELECT coalesce((SELECT sum FROM events WHERE seq < ? ORDER BY seq DESC LIMIT 1), 0)`, begin).Scan(&sum); err != nil {
		return err
	}
	rows, err := tx.Query(`SELECT seq, at, kind, fact, sum FROM events WHERE seq >= ? AND seq <= ? ORDER BY seq`, begin, upTo)
	if err != nil {
		return err
	}
	sums := map[int64]int64{}
	var gone []int64
	for rows.Next() {
		var seq, at, was int64
		var kind string
		var data []byte
		if err := rows.Scan(&seq, &at, &kind, &data, &was); err != nil {
			return errors.Join(err, rows.Close())
		}
		fact, err := state.DecodeFact(kind, data)
		if err != nil {
			return errors.Join(err, rows.Close())
		}
		stays := state.Stays(fact)
		if seq == upTo {
			if stays {
				return errors.Join(ErrStays, rows.Close())
			}
			c.Sum = was
		}
		if before, is := fact.(state.Condensed); is {
			c = c.Plus(before.Counts)
		} else if stays {
			sum = sumOf(sum, seq, at, kind, data)
			sums[seq] = sum
			continue
		} else {
			c.Counts[kind]++
		}
		gone = append(gone, seq)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	if c.Sum == 0 {
		return fmt.Errorf("there is no event %d", upTo)
	}
	remove, err := tx.Prepare(`DELETE FROM events WHERE seq = ?`)
	if err != nil {
		return err
	}
	defer remove.Close()
	for _, seq := range gone {
		if _, err := remove.Exec(seq); err != nil {
			return err
		}
	}
	change, err := tx.Prepare(`UPDATE events SET sum = ? WHERE seq = ?`)
	if err != nil {
		return err
	}
	defer change.Close()
	for seq, sum := range sums {
		if _, err := change.Exec(sum, seq); err != nil {
			return err
		}
	}
	kind, data, err := state.EncodeFact(c)
	if err != nil {
		return err
	}
	at := checkpoint.Newest.UnixNano()
	if _, err := tx.Exec(`INSERT INTO events (seq, at, kind, fact, sum) VALUES (?, ?, ?, ?, ?)`, upTo, at, kind, data, sumOf(sum, upTo, at, kind, data)); err != nil {
		return err
	}
	if _, err := tx.Exec(`DELETE FROM begin`); err != nil {
		return err
	}
	_, err = tx.Exec(`INSERT INTO begin (seq, until) VALUES (?, ?)`, upTo, at)
	return err
}

// DropSpecs removes what members were run with that no event tells of any more.
func (s *Log) DropSpecs() error {
	tx, err := s.db.Begin() // as one: what is stored again meanwhile must not go
	if err != nil {
		return s.plain("written", err)
	}
	defer func() { _ = tx.Rollback() }()
	rows, err := tx.Query(`SELECT kind, fact FROM events WHERE kind IN ('member-ordered', 'operation-asked')`)
	if err != nil {
		return s.plain("read", err)
	}
	type ref struct {
		Spec *struct {
			Ref string `json:"ref"`
		} `json:"spec"`
	}
	used := map[string]bool{}
	for rows.Next() {
		var kind string
		var data sql.RawBytes
		if err := rows.Scan(&kind, &data); err != nil {
			return errors.Join(err, rows.Close())
		}
		var fact struct{ Order, Operation ref }
		if err := json.Unmarshal(data, &fact); err != nil {
			return errors.Join(err, rows.Close())
		}
		for _, r := range []ref{fact.Order, fact.Operation} {
			if r.Spec != nil {
				used[r.Spec.Ref] = true
			}
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	all, err := tx.Query(`SELECT hash FROM specs`)
	if err != nil {
		return s.plain("read", err)
	}
	var unused []string
	for all.Next() {
		var hash string
		if err := all.Scan(&hash); err != nil {
			return errors.Join(err, all.Close())
		}
		if !used[hash] {
			unused = append(unused, hash)
		}
	}
	if err := errors.Join(all.Err(), all.Close()); err != nil {
		return err
	}
	for _, hash := range unused {
		if _, err := tx.Exec(`DELETE FROM specs WHERE hash = ?`, hash); err != nil {
			return s.plain("written", err)
		}
	}
	return tx.Commit()
}

package sqlite

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

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
	d, err := sift(tx, int64(checkpoint.Seq))
	if err != nil {
		return err
	}
	if err := each(tx, `DELETE FROM events WHERE seq = ?`, d.gone, func(seq int64) []any { return []any{seq} }); err != nil {
		return err
	}
	if err := each(tx, `UPDATE events SET sum = ? WHERE seq = ?`, slices.Collect(maps.Keys(d.sums)), func(seq int64) []any { return []any{d.sums[seq], seq} }); err != nil {
		return err
	}
	d.event.Version, d.event.Until, d.event.State = state.CondensedVersion, checkpoint.Newest, checkpoint.State
	kind, data, err := state.EncodeFact(d.event)
	if err != nil {
		return err
	}
	seq, at := int64(checkpoint.Seq), checkpoint.Newest.UnixNano()
	if _, err := tx.Exec(`INSERT INTO events (seq, at, kind, fact, sum) VALUES (?, ?, ?, ?, ?)`, seq, at, kind, data, sumOf(d.sum, seq, at, kind, data)); err != nil {
		return err
	}
	if _, err := tx.Exec(`DELETE FROM begin`); err != nil {
		return err
	}
	_, err = tx.Exec(`INSERT INTO begin (seq, until) VALUES (?, ?)`, seq, at)
	return err
}

// sifted is which of the oldest events go, and what becomes of those that stay.
type sifted struct {
	event state.Condensed // that stands for those that go; its sum is the one by which the events after it go on
	gone  []int64
	sums  map[int64]int64 // of those that stay, which are chained anew
	sum   int64           // the last of these
}

// sift goes through the events from where folding begins up to one, which goes itself; ErrStays says that it may not.
func sift(tx *sql.Tx, upTo int64) (*sifted, error) {
	var begin int64
	if err := tx.QueryRow(`SELECT coalesce(max(seq), 0) FROM begin`).Scan(&begin); err != nil {
		return nil, err
	}
	d := &sifted{event: state.Condensed{Counts: map[string]int{}}, sums: map[int64]int64{}}
	if err := tx.QueryRow(`SELECT coalesce((SELECT sum FROM events WHERE seq < ? ORDER BY seq DESC LIMIT 1), 0)`, begin).Scan(&d.sum); err != nil {
		return nil, err
	}
	rows, err := tx.Query(`SELECT seq, at, kind, fact, sum FROM events WHERE seq >= ? AND seq <= ? ORDER BY seq`, begin, upTo)
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		var seq, at, was int64
		var kind string
		var data []byte
		if err = rows.Scan(&seq, &at, &kind, &data, &was); err == nil {
			err = d.take(seq, at, kind, data, seq == upTo)
		}
		if err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		if seq == upTo {
			d.event.Sum = was
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	if d.event.Sum == 0 {
		return nil, fmt.Errorf("there is no event %d", upTo)
	}
	return d, nil
}

// take decides about one event.
func (d *sifted) take(seq, at int64, kind string, data []byte, last bool) error {
	fact, err := state.DecodeFact(kind, data)
	if err != nil {
		return err
	}
	before, condensed := fact.(state.Condensed)
	switch stays := state.Stays(fact); {
	case stays && last:
		return ErrStays
	case condensed:
		d.event = d.event.Plus(before.Counts)
	case stays:
		d.sum = sumOf(d.sum, seq, at, kind, data)
		d.sums[seq] = d.sum
		return nil
	default:
		d.event.Counts[kind]++
	}
	d.gone = append(d.gone, seq)
	return nil
}

// each carries out one statement for many events.
func each(tx *sql.Tx, statement string, events []int64, values func(seq int64) []any) error {
	prepared, err := tx.Prepare(statement)
	if err != nil {
		return err
	}
	defer prepared.Close()
	for _, seq := range events {
		if _, err := prepared.Exec(values(seq)...); err != nil {
			return err
		}
	}
	return nil
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

package sqlite

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"time"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// sumOf is the checksum of an event: over all that it is, and over the sum of the event before, so that one that is changed, lost or
// put in between shows. It is no proof against who can write the file.
func sumOf(before, seq, at int64, kind string, fact []byte) int64 {
	text := make([]byte, 0, 32+len(kind)+len(fact))
	for _, n := range []int64{before, seq, at, int64(len(kind))} {
		text = binary.LittleEndian.AppendUint64(text, uint64(n))
	}
	text = append(append(text, kind...), fact...)
	sum := sha256.Sum256(text)
	return int64(binary.LittleEndian.Uint64(sum[:]))
}

// summed finds out whether the events have checksums; it gives them to a log of an older version where that is wanted.
func (s *Log) summed(give bool) error {
	var n int
	if err := s.db.QueryRow(`SELECT count(*) FROM pragma_table_info('events') WHERE name = 'sum'`).Scan(&n); err != nil {
		return err
	}
	if s.sums = n > 0; s.sums || !give {
		return nil
	}
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.Exec(`ALTER TABLE events ADD COLUMN sum INTEGER NOT NULL DEFAULT 0`); err != nil {
		return err
	}
	rows, err := tx.Query(`SELECT seq, at, kind, fact FROM events ORDER BY seq`)
	if err != nil {
		return err
	}
	sums, sum := map[int64]int64{}, int64(0)
	for rows.Next() {
		var seq, at int64
		var kind string
		var fact []byte
		if err := rows.Scan(&seq, &at, &kind, &fact); err != nil {
			return errors.Join(err, rows.Close())
		}
		sum = sumOf(sum, seq, at, kind, fact)
		sums[seq] = sum
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for seq, sum := range sums {
		if _, err := tx.Exec(`UPDATE events SET sum = ? WHERE seq = ?`, sum, seq); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	s.sums = true
	return nil
}

func (s *Log) broken(seq uint64, at int64, kind string, data []byte) error {
	says := "which cannot be read any more"
	if fact, err := state.DecodeFact(kind, data); err == nil {
		says = "now “" + fact.Sentence() + "”"
	}
	return &eventlog.Broken{Seq: seq, Name: s.name, Says: says, At: time.Unix(0, at)}
}

// Cut takes a log back to what comes before an event, and keeps the whole as it was beside it, under the name that it gives.
func Cut(name string, seq uint64) (kept string, err error) {
	kept = fmt.Sprintf("%s.broken-%s", name, time.Now().UTC().Format("20060102T150405"))
	s, err := Open(name)
	if err != nil {
		return "", err
	}
	defer s.Close()
	if _, err := s.db.Exec(`VACUUM INTO ?`, kept); err != nil {
		return "", s.plain("copied", err)
	}
	if err := os.Chmod(kept, 0o600); err != nil {
		return "", err
	}
	if _, err := s.db.Exec(`DELETE FROM events WHERE seq >= ?`, int64(seq)); err != nil {
		return "", s.plain("cut", err)
	}
	return kept, nil
}

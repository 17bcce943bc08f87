package sqlite

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"time"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// Checkpoints keeps checkpoints in a file beside the log. The file may be deleted at any time.
type Checkpoints struct{ db *sql.DB }

var _ eventlog.Checkpoints = (*Checkpoints)(nil)

const checkpointSchema = `CREATE TABLE IF NOT EXISTS checkpoints (
	seq      INTEGER PRIMARY KEY, -- of the last event in it
	after    INTEGER NOT NULL,
	sum      INTEGER NOT NULL,
	version  INTEGER NOT NULL,
	newest   INTEGER NOT NULL, -- nanoseconds since 1970, UTC
	earliest INTEGER NOT NULL,
	state    BLOB NOT NULL
) STRICT;
CREATE TABLE IF NOT EXISTS extras (
	name    TEXT PRIMARY KEY,
	seq     INTEGER NOT NULL,
	sum     INTEGER NOT NULL,
	version INTEGER NOT NULL,
	data    BLOB NOT NULL
) STRICT`

// OpenCheckpoints opens the file of that name, making it where it is missing or cannot be read.
func OpenCheckpoints(name string) (*Checkpoints, error) {
	if f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600); err == nil { // whatever the umask is; what SQLite makes beside it follows it
		_ = errors.Join(f.Chmod(0o600), f.Close())
	}
	c, err := openCheckpoints(name, url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(NORMAL)", "busy_timeout(1000)", "cache_size(-1024)"}})
	if err == nil {
		if _, err = c.db.Exec(checkpointSchema); err == nil {
			return c, os.Chmod(name, 0o600)
		}
		c.Close()
	}
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(name + end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	if f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600); err == nil {
		f.Close()
	}
	c, err = openCheckpoints(name, url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(NORMAL)", "busy_timeout(1000)", "cache_size(-1024)"}})
	if err != nil {
		return nil, err
	}
	if _, err = c.db.Exec(checkpointSchema); err != nil {
		c.Close()
		return nil, fmt.Errorf("checkpoints cannot be kept: %w", err)
	}
	return c, nil
}

// OpenCheckpointsToRead opens the file of that name without changing it; eventlog.ErrNone says that it is not there.
func OpenCheckpointsToRead(name string) (*Checkpoints, error) {
	if _, err := os.Stat(name); err != nil {
		return nil, eventlog.ErrNone
	}
	return openCheckpoints(name, url.Values{"_pragma": {"query_only(1)", "busy_timeout(1000)", "cache_size(-1024)"}})
}

func openCheckpoints(name string, query url.Values) (*Checkpoints, error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: name}).EscapedPath(), RawQuery: query.Encode()}).String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	if err := db.Ping(); err != nil {
		db.Close()
		return nil, err
	}
	return &Checkpoints{db}, nil
}

// List gives all of them, oldest first, without their states.
func (c *Checkpoints) List() ([]eventlog.Checkpoint, error) {
	rows, err := c.db.Query(`SELECT seq, after, sum, version, newest, earliest FROM checkpoints ORDER BY seq`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []eventlog.Checkpoint
	for rows.Next() {
		var seq, after, newest, earliest int64
		var x eventlog.Checkpoint
		if err := rows.Scan(&seq, &after, &x.Sum, &x.Version, &newest, &earliest); err != nil {
			return nil, err
		}
		x.Seq, x.After, x.Newest, x.Earliest = uint64(seq), uint64(after), time.Unix(0, newest).UTC(), time.Unix(0, earliest).UTC()
		all = append(all, x)
	}
	return all, rows.Err()
}

// State gives the state of one of them.
func (c *Checkpoints) State(seq uint64) (data []byte, err error) {
	return data, c.db.QueryRow(`SELECT state FROM checkpoints WHERE seq = ?`, int64(seq)).Scan(&data)
}

// Put keeps one; those of older versions of the folding go.
func (c *Checkpoints) Put(x eventlog.Checkpoint) error {
	if _, err := c.db.Exec(`DELETE FROM checkpoints WHERE version <> ? OR seq >= ?`, state.Version, int64(x.Seq)); err != nil {
		return err
	}
	_, err := c.db.Exec(`INSERT INTO checkpoints (seq, after, sum, version, newest, earliest, state) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		int64(x.Seq), int64(x.After), x.Sum, x.Version, x.Newest.UnixNano(), x.Earliest.UnixNano(), x.State)
	return err
}

// Drop throws away those from that number on.
func (c *Checkpoints) Drop(from uint64) error {
	_, err := c.db.Exec(`DELETE FROM checkpoints WHERE seq >= ?`, int64(from))
	return err
}

// PutExtra keeps something else that follows from the log, as it was up to an event.
func (c *Checkpoints) PutExtra(name string, seq uint64, sum int64, data []byte) error {
	_, err := c.db.Exec(`INSERT OR REPLACE INTO extras (name, seq, sum, version, data) VALUES (?, ?, ?, ?, ?)`, name, int64(seq), sum, state.Version, data)
	return err
}

// Extra gives what PutExtra kept, where it is as it was up to that event of that log.
func (c *Checkpoints) Extra(name string, seq uint64, sum int64) (data []byte, err error) {
	return data, c.db.QueryRow(`SELECT data FROM extras WHERE name = ? AND seq = ? AND sum = ? AND version = ?`, name, int64(seq), sum, state.Version).Scan(&data)
}

// Close closes the file.
func (c *Checkpoints) Close() error { return c.db.Close() }

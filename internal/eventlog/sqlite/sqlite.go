// Package sqlite keeps the log of a field in a file of SQLite. A batch of events is one transaction and one sync, and is on
// the disk before anything that follows from it leaves the controller. What members are run with is stored once, by its hash.
package sqlite

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"

	"golang.org/x/sys/unix"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Log is the log of one field. Only one process at a time may write it; see package control for the lock.
type Log struct {
	sums bool  // events have checksums
	sum  int64 // of the newest event
	db   *sql.DB
	// Specs are looked up while events are being read, so on a connection of their own.
	lookup *sql.DB
	name   string
	last   uint64

	mu    sync.Mutex
	specs map[string]*order.Spec // those that were read or written last, by their hash
}

var _ eventlog.Log = (*Log)(nil)

const schema = `CREATE TABLE IF NOT EXISTS events (
	seq  INTEGER PRIMARY KEY,
	at   INTEGER NOT NULL, -- nanoseconds since 1970, UTC
	kind TEXT NOT NULL,
	fact BLOB NOT NULL,    -- JSON, see engine.DecodeFact
	sum INTEGER NOT NULL DEFAULT 0 -- over this event and the sum of the one before, see sumOf
) STRICT;
CREATE TABLE IF NOT EXISTS specs (
	hash TEXT PRIMARY KEY,
	spec BLOB NOT NULL     -- JSON, see order.Spec
) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS begin (
	seq   INTEGER NOT NULL, -- of the event that stands for what was condensed
	until INTEGER NOT NULL
) STRICT`

// Open opens the log of that name for writing, making it when there is none.
func Open(name string) (*Log, error) {
	// Whatever the umask is, the log is for its owner only; what SQLite makes beside it follows it.
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err == nil {
		err = errors.Join(f.Chmod(0o600), f.Close())
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, unix.EROFS) && !errors.Is(err, unix.ENOSPC) && !errors.Is(err, fs.ErrPermission) {
		return nil, fmt.Errorf("the events in %s cannot be opened: %w", name, err)
	}
	pragmas := url.Values{"_pragma": {"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(5000)", "cache_size(-1024)"}}
	s, err := open(name, pragmas)
	if err != nil {
		return nil, err
	}
	_, err = s.db.Exec(schema)
	if err == nil {
		err = s.summed(true)
	}
	if err != nil {
		s.Close()
		return nil, s.plain("opened", err)
	}
	return s, s.number()
}

// OpenToRead opens the log of that name without changing anything.
func OpenToRead(name string) (*Log, error) {
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return nil, eventlog.ErrNone
	}
	query := url.Values{"_pragma": {"query_only(1)", "busy_timeout(5000)", "cache_size(-1024)"}}
	s, err := open(name, query)
	if err == nil {
		err = s.number()
	}
	if errors.Is(err, eventlog.ErrNone) { // its first writer is just making it
		return nil, err
	}
	if wal, missing := os.Stat(name + "-wal"); err != nil && (errors.Is(missing, fs.ErrNotExist) || missing == nil && wal.Size() == 0) {
		// Nobody writes it, and the disk is full or the folder read-only: it can be read as it lies there.
		query.Set("immutable", "1")
		if s, err = open(name, query); err == nil {
			err = s.number()
		}
	}
	return s, err
}

func open(name string, query url.Values) (*Log, error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: name}).EscapedPath(), RawQuery: query.Encode()}).String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s := &Log{db: db, name: name}
	if err := db.Ping(); err != nil {
		db.Close()
		return nil, s.plain("opened", err)
	}
	query = maps.Clone(query)
	query["_pragma"] = []string{"query_only(1)", "busy_timeout(5000)", "cache_size(-256)"}
	if s.lookup, err = sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: name}).EscapedPath(), RawQuery: query.Encode()}).String()); err != nil {
		db.Close()
		return nil, err
	}
	s.lookup.SetMaxOpenConns(1)
	return s, nil
}

func (s *Log) number() error {
	err := s.summed(false)
	if err == nil {
		err = s.db.QueryRow(`SELECT coalesce(max(seq), 0) FROM events`).Scan(&s.last)
	}
	if err == nil {
		s.sum, err = s.Sum(s.last)
	}
	if err != nil {
		s.Close()
		if strings.Contains(err.Error(), "no such table: events") {
			return eventlog.ErrNone
		}
		return s.plain("read", err)
	}
	return nil
}

// Close closes the log.
func (s *Log) Close() error { return errors.Join(s.lookup.Close(), s.db.Close()) }

// Last is the number of the newest event; 0 when there is none.
func (s *Log) Last() uint64 { return s.last }

// Append stores a batch of events. When it returns nil they are on the disk.
func (s *Log) Append(expected uint64, events []state.Event) error {
	if expected != s.last {
		return &eventlog.Conflict{Expected: expected, Last: s.last}
	}
	if len(events) == 0 {
		return nil
	}
	tx, err := s.db.Begin()
	if err != nil {
		return s.plain("written", err)
	}
	defer func() { _ = tx.Rollback() }()
	insert, err := tx.Prepare(`INSERT INTO events (seq, at, kind, fact, sum) VALUES (?, ?, ?, ?, ?)`)
	if err != nil {
		return s.plain("written", err)
	}
	defer insert.Close()
	seq, sum := s.last, s.sum
	for _, e := range events {
		fact, err := state.WithSpecs(e.Fact, func(spec *order.Spec) (*order.Spec, error) { return s.keepSpec(tx, spec) })
		if err != nil {
			return s.plain("written", err)
		}
		kind, data, err := state.EncodeFact(fact)
		if err != nil {
			return fmt.Errorf("an event of kind %s cannot be encoded: %w", kind, err)
		}
		seq++
		sum = sumOf(sum, int64(seq), e.At.UnixNano(), kind, data)
		if _, err := insert.Exec(int64(seq), e.At.UnixNano(), kind, data, sum); err != nil {
			var taken *sqlite.Error
			if errors.As(err, &taken) && taken.Code()&0xff == sqlite3.SQLITE_CONSTRAINT {
				return &eventlog.Conflict{Expected: expected, Last: seq}
			}
			return s.plain("written", err)
		}
	}
	if err := tx.Commit(); err != nil {
		return s.plain("written", err)
	}
	s.last, s.sum = seq, sum
	slog.Debug("batch stored", "events", len(events), "last", seq)
	return nil
}

// keepSpec stores a spec and gives what stands for it in the event.
func (s *Log) keepSpec(tx *sql.Tx, spec *order.Spec) (*order.Spec, error) {
	data, hash, err := state.EncodeSpec(spec)
	if err != nil {
		return nil, err
	}
	_, err = tx.Exec(`INSERT OR IGNORE INTO specs (hash, spec) VALUES (?, ?)`, hash, data)
	return &order.Spec{Ref: hash}, err
}

// mostSpecs is how many specs are remembered; when there are more, all are forgotten.
const mostSpecs = 4096

func (s *Log) known(hash string) *order.Spec {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.specs[hash]
}

// spec gives the spec of that hash.
func (s *Log) spec(hash string) (*order.Spec, error) {
	if spec := s.known(hash); spec != nil {
		return spec, nil
	}
	var data []byte
	if err := s.lookup.QueryRow(`SELECT spec FROM specs WHERE hash = ?`, hash).Scan(&data); err != nil {
		return nil, fmt.Errorf("what a member was to be run with (%s) is not in the log: %w", hash, err)
	}
	spec := &order.Spec{}
	if err := json.Unmarshal(data, spec); err != nil {
		return nil, err
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:16]) != hash {
		return nil, fmt.Errorf("what a member was to be run with (%s) is not as it was written", hash)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.specs == nil || len(s.specs) >= mostSpecs {
		s.specs = map[string]*order.Spec{}
	}
	s.specs[hash] = spec
	return spec, nil
}

// whole gives a fact with the specs that it refers to.
func (s *Log) whole(f state.Fact) (state.Fact, error) {
	return state.WithSpecs(f, func(spec *order.Spec) (*order.Spec, error) {
		if spec.Ref == "" {
			return spec, nil
		}
		return s.spec(spec.Ref)
	})
}

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

// plain words an error of the database for people.
func (s *Log) plain(what string, err error) error {
	var e *sqlite.Error
	code := 0
	if errors.As(err, &e) {
		code = e.Code() & 0xff
	}
	if code == sqlite3.SQLITE_IOERR || code == sqlite3.SQLITE_CANTOPEN {
		var fs unix.Statfs_t
		if unix.Statfs(filepath.Dir(s.name), &fs) == nil && fs.Bavail*uint64(fs.Bsize) < 64<<10 {
			code = sqlite3.SQLITE_FULL
		}
	}
	text, remedy := err.Error(), "look at the disk and the permissions of that folder, then try again"
	switch code {
	case sqlite3.SQLITE_FULL:
		text, remedy = "the disk is full", "free some space there, then give the command again; what was stored before is whole"
	case sqlite3.SQLITE_READONLY:
		if unix.Access(filepath.Dir(s.name), unix.W_OK) == unix.EROFS {
			text, remedy = "the disk is mounted read-only", "mount it writable again (a disk with faults is often remounted like that; the kernel's log says so), or name another folder with --state"
			break
		}
		fallthrough
	case sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN:
		text, remedy = "no permission, or the folder is missing", "make the folder "+filepath.Dir(s.name)+" writable, or name another one with --state"
	case sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT:
		text, remedy = "the file is damaged", "put it back from a copy; members go on running meanwhile"
	case sqlite3.SQLITE_BUSY:
		text, remedy = "another process is writing it", "wait for it to end, then try again"
	case sqlite3.SQLITE_IOERR:
		text = "the disk does not do its work (" + err.Error() + ")"
	}
	return fmt.Errorf("the events in %s cannot be %s: %s; %s", s.name, what, text, remedy)
}

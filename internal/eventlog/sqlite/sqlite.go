// Package sqlite keeps the log of a field in a file of SQLite. A batch of events is one transaction and one sync, and is on
// the disk before anything that follows from it leaves the controller. What members are run with is stored once, by its hash.
package sqlite

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"

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

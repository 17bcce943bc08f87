// Package store keeps the events of one field in SQLite. A batch of events is one transaction and one sync, and is on
// the disk before anything that follows from it leaves the controller.
package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lanternfield/internal/core/state"

	"golang.org/x/sys/unix"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Store is the log of one field. Only one process at a time may write it; see package control for the lock.
type Store struct {
	sums bool  // events have checksums
	sum  int64 // of the newest event
	db   *sql.DB
	name string
	last uint64
}

// Stored is an event with its number; numbers rise by one, from 1.
type Stored struct {
	Seq uint64
	state.Event
}

// ErrNone says that there is no log.
var ErrNone = errors.New("nothing is stored")

const schema = `CREATE TABLE IF NOT EXISTS events (
	seq  INTEGER PRIMARY KEY,
	at   INTEGER NOT NULL, -- nanoseconds since 1970, UTC
	kind TEXT NOT NULL,
	fact BLOB NOT NULL,    -- JSON, see engine.DecodeFact
	sum INTEGER NOT NULL DEFAULT 0 -- over this event and the sum of the one before, see sumOf
) STRICT`

// Open opens the log of that name for writing, making it when there is none.
func Open(name string) (*Store, error) {
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
		s.db.Close()
		return nil, s.plain("opened", err)
	}
	return s, s.number()
}

// OpenToRead opens the log of that name without changing anything.
func OpenToRead(name string) (*Store, error) {
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	query := url.Values{"_pragma": {"query_only(1)", "busy_timeout(5000)", "cache_size(-1024)"}}
	s, err := open(name, query)
	if err == nil {
		err = s.number()
	}
	if errors.Is(err, ErrNone) { // its first writer is just making it
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

func open(name string, query url.Values) (*Store, error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: name}).EscapedPath(), RawQuery: query.Encode()}).String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	s := &Store{db: db, name: name}
	if err := db.Ping(); err != nil {
		db.Close()
		return nil, s.plain("opened", err)
	}
	return s, nil
}

func (s *Store) number() error {
	err := s.summed(false)
	if err == nil {
		err = s.db.QueryRow(`SELECT coalesce(max(seq), 0) FROM events`).Scan(&s.last)
	}
	if err == nil && s.sums && s.last > 0 {
		err = s.db.QueryRow(`SELECT sum FROM events WHERE seq = ?`, int64(s.last)).Scan(&s.sum)
	}
	if err != nil {
		s.db.Close()
		if strings.Contains(err.Error(), "no such table: events") {
			return ErrNone
		}
		return s.plain("read", err)
	}
	return nil
}

// Close closes the log.
func (s *Store) Close() error { return s.db.Close() }

// Last is the number of the newest event; 0 when there is none.
func (s *Store) Last() uint64 { return s.last }

// Append stores a batch of events. When it returns nil they are on the disk.
func (s *Store) Append(events []state.Event) error {
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
		kind, fact, err := state.EncodeFact(e.Fact)
		if err != nil {
			return fmt.Errorf("an event of kind %s cannot be encoded: %w", kind, err)
		}
		seq++
		sum = sumOf(sum, int64(seq), e.At.UnixNano(), kind, fact)
		if _, err := insert.Exec(int64(seq), e.At.UnixNano(), kind, fact, sum); err != nil {
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

// Read gives the events above that number, oldest first, to the function, until it fails.
func (s *Store) Read(after uint64, each func(Stored) error) error {
	column, before := "0", int64(0)
	if s.sums {
		column = "sum"
		if err := s.db.QueryRow(`SELECT coalesce((SELECT sum FROM events WHERE seq = ?), 0)`, int64(after)).Scan(&before); err != nil {
			return s.plain("read", err)
		}
	}
	rows, err := s.db.Query(`SELECT seq, at, kind, fact, `+column+` FROM events WHERE seq > ? ORDER BY seq`, int64(after))
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
		if err != nil {
			return fmt.Errorf("event %d in %s cannot be read: %w; put the file back from a copy, or, if a newer version has written it, use that one. Members go on running meanwhile", seq, s.name, err)
		}
		if err := each(Stored{Seq: uint64(seq), Event: state.Event{At: time.Unix(0, at).UTC(), Fact: fact}}); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return s.plain("read", err)
	}
	return nil
}

// plain words an error of the database for people.
func (s *Store) plain(what string, err error) error {
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

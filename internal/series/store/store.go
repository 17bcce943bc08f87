// Package store keeps series on disk: raw for hours, then the means of minutes with their extremes for weeks, within a bound of bytes. What is damaged
// is passed over and said; the rest is read.
//
// Raw points are in a file an hour, means in a file a day. Points are written once a minute, in small pieces, and packed together when their hour, or
// their day, is over; at most a minute is lost when the process ends at once.
package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/series/chunk"
)

// Limits bound what is kept. Zero values stand for those of Usual.
type Limits struct {
	Raw     time.Duration // how long single points are kept
	Minutes time.Duration // how long means of minutes are kept
	Bytes   int64         // of all of it; then the oldest goes
}

// Usual are the limits of a field where nothing else is said.
var Usual = Limits{Raw: 48 * time.Hour, Minutes: 35 * 24 * time.Hour, Bytes: 512 << 20}

// Loss is something that could not be read.
type Loss struct {
	File  string `json:"file"`
	Bytes int64  `json:"bytes"`
	Why   string `json:"why"`
}

func (l Loss) String() string {
	return fmt.Sprintf("%d bytes of %s are lost: %s", l.Bytes, l.File, l.Why)
}

// Store is the series of one field. It may be used by several goroutines.
type Store struct {
	dir    string
	limits Limits

	mu    sync.Mutex
	heads map[string]*head
	hour  time.Time // that is being written; zero before the first point was
	out   *writer
	known map[string]*index // of segments that were read last
	used  []string          // their names, the newest last
	lost  map[string]Loss
	room  [4][]chunk.Point // for points that are being read
}

// head is what was not written yet, and the time of the newest point that was.
type head struct {
	chunk  chunk.Chunk
	before []chunk.Chunk // of hours before
	last   int64
}

// Open opens the series in a folder, making it where there is none.
func Open(dir string, limits Limits) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*.new")) // of a packing that did not come to its end
	for _, name := range left {
		_ = os.Remove(name)
	}
	return OpenToRead(dir, limits), nil
}

// OpenToRead gives the series in a folder to who only reads them, beside one that may be writing.
func OpenToRead(dir string, limits Limits) *Store {
	if limits.Raw == 0 {
		limits.Raw = Usual.Raw
	}
	if limits.Minutes == 0 {
		limits.Minutes = Usual.Minutes
	}
	if limits.Bytes == 0 {
		limits.Bytes = Usual.Bytes
	}
	return &Store{dir: dir, limits: limits, heads: map[string]*head{}, known: map[string]*index{}, lost: map[string]Loss{}}
}

// Add adds a point of a series. Points of a series come in the order of their times; one that does not is left out.
func (s *Store) Add(key string, at time.Time, value float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.heads[key]
	if h == nil {
		h = &head{last: s.newest(key)}
		s.heads[key] = h
	}
	t := at.UnixMilli()
	if h.chunk.Len() > 0 && hourOf(h.chunk.First()) != hourOf(t) && t > h.last { // no piece goes over the end of an hour
		h.before = append(h.before, h.chunk)
		h.chunk = chunk.Chunk{}
	}
	if t > h.last && h.chunk.Add(t, value) {
		h.last = t
	}
}

// newest is the time of the newest point of a series that is on disk, as far as it is in one of the last files; 0 where it is in none.
func (s *Store) newest(key string) int64 {
	last, looked := int64(0), 0
	for _, g := range slices.Backward(s.segments()) {
		if !g.raw {
			continue
		}
		for _, r := range s.of(g, s.index(g), key) {
			last = max(last, r.last)
		}
		if looked++; last > 0 || looked == 3 {
			break
		}
	}
	return last
}

func hourOf(t int64) int64 { return t / time.Hour.Milliseconds() }

// Flush writes what was added since, and begins another file where another hour has begun. What did not change for an hour is let go of.
func (s *Store) Flush(now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.flush(now)
}

func (s *Store) flush(now time.Time) error {
	failed := s.flushBefore()
	present := int64(0)
	for _, h := range s.heads {
		if h.chunk.Len() > 0 {
			present = max(present, hourOf(h.chunk.First()))
		}
	}
	for _, only := range []bool{false, true} { // those of the hour before first: files are written one after the other
		for key, h := range s.heads {
			if h.chunk.Len() == 0 || (hourOf(h.chunk.First()) == present) != only {
				continue
			}
			if err := s.write(key, &h.chunk); err != nil {
				failed = err
				continue
			}
			h.chunk.Reset()
		}
	}
	for key, h := range s.heads {
		if h.chunk.Len() == 0 && now.UnixMilli()-h.last > time.Hour.Milliseconds() {
			delete(s.heads, key)
		}
	}
	if s.out != nil {
		if err := s.out.out.Flush(); err != nil {
			failed = err
		}
		delete(s.known, filepath.Base(s.out.file.Name()))
	}
	if failed != nil { // begin another file: what the end of this one is like is not known
		if s.out != nil {
			_ = s.out.file.Close()
		}
		s.out, s.hour = nil, time.Time{}
		for _, h := range s.heads { // what cannot be kept must not grow
			if h.before = nil; h.chunk.Len() > 1000 {
				h.chunk.Reset()
			}
		}
	}
	return failed
}

// flushBefore writes what is from hours before the present one, the oldest first.
func (s *Store) flushBefore() error {
	type piece struct {
		key string
		c   *chunk.Chunk
	}
	var all []piece
	for key, h := range s.heads {
		for i := range h.before {
			all = append(all, piece{key, &h.before[i]})
		}
	}
	slices.SortFunc(all, func(a, b piece) int { return int(hourOf(a.c.First()) - hourOf(b.c.First())) })
	for _, p := range all {
		if err := s.write(p.key, p.c); err != nil {
			return err
		}
	}
	for _, h := range s.heads {
		h.before = nil
	}
	return nil
}

// write appends packed points to the file of their hour.
func (s *Store) write(key string, c *chunk.Chunk) error {
	hour := time.UnixMilli(c.First()).UTC().Truncate(time.Hour)
	if s.out == nil || hour.After(s.hour) {
		if s.out != nil {
			if err := s.out.close(); err != nil {
				return err
			}
			s.out = nil
		}
		w, err := s.fresh("raw-" + hour.Format(hourForm))
		if err != nil {
			return err
		}
		s.out, s.hour = w, hour
	}
	return s.out.chunk(key, c)
}

// How hours and days stand in the names of files.
const (
	hourForm = "20060102T15"
	dayForm  = "20060102"
)

// fresh makes a file that is not there yet.
func (s *Store) fresh(stem string) (*writer, error) {
	for n := 0; ; n++ {
		w, err := create(filepath.Join(s.dir, fmt.Sprintf("%s-%d.seg", stem, n)))
		if !errors.Is(err, os.ErrExist) {
			return w, err
		}
	}
}

// segment is a file with what its name says of it.
type segment struct {
	name   string
	raw    bool
	packed bool
	from   time.Time
	span   time.Duration
	size   int64
}

func (g segment) to() time.Time { return g.from.Add(g.span) }

// segments lists the files, oldest first, raw ones after the means of the same time.
func (s *Store) segments() []segment {
	entries, _ := os.ReadDir(s.dir)
	var out []segment
	for _, e := range entries {
		kind, rest, _ := strings.Cut(strings.TrimSuffix(e.Name(), ".seg"), "-")
		when, number, _ := strings.Cut(rest, "-")
		g := segment{name: e.Name(), raw: kind == "raw", packed: number == "p"}
		form := dayForm
		if g.span = 24 * time.Hour; g.raw {
			form, g.span = hourForm, time.Hour
		}
		var err error
		if g.from, err = time.Parse(form, when); err != nil || kind != "raw" && kind != "min" || !strings.HasSuffix(e.Name(), ".seg") {
			continue
		}
		if info, err := e.Info(); err == nil {
			g.size = info.Size()
		}
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b segment) int {
		if c := a.from.Compare(b.from); c != 0 {
			return c
		}
		return strings.Compare(a.name, b.name)
	})
	return out
}

func (s *Store) path(g segment) string { return filepath.Join(s.dir, g.name) }

// mostKnown is how many bytes of indexes, with small files as a whole, are held at the same time.
const mostKnown = 24 << 20

// index gives the index of a segment, read where it is not at hand.
func (s *Store) index(g segment) *index {
	if x := s.known[g.name]; x != nil && x.size+x.lost == g.size {
		return x
	}
	x := s.known[g.name]
	var err error
	if x != nil && x.names != nil && !g.packed && x.size <= g.size { // more was appended
		err = x.goOn(s.path(g))
	} else {
		x, err = read(s.path(g))
	}
	if err != nil {
		s.lost[g.name] = Loss{g.name, g.size, err.Error()}
		return &index{}
	}
	if x.lost > 0 && !(s.out != nil && filepath.Base(s.out.file.Name()) == g.name) { // the one that is being written may end anywhere
		s.lost[g.name] = Loss{g.name, x.lost, x.why}
	}
	s.known[g.name] = x
	s.used = append(slices.DeleteFunc(s.used, func(n string) bool { return n == g.name }), g.name)
	total := int64(0)
	for _, name := range slices.Backward(s.used) {
		if k := s.known[name]; k != nil {
			if total += k.weight(); total > mostKnown && name != g.name {
				delete(s.known, name)
			}
		}
	}
	s.used = slices.DeleteFunc(s.used, func(n string) bool { return s.known[n] == nil })
	return x
}

// Size is how many bytes all files have.
func (s *Store) Size() int64 {
	total := int64(0)
	for _, g := range s.segments() {
		total += g.size
	}
	return total
}

// Lost lists what could not be read so far.
func (s *Store) Lost() []Loss {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []Loss
	for _, l := range s.lost {
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b Loss) int { return strings.Compare(a.File, b.File) })
	return out
}

// Close writes what is waiting.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	err := s.flush(time.Now())
	if s.out != nil {
		err = errors.Join(err, s.out.close())
		s.out = nil
	}
	return err
}

package store

import (
	"cmp"
	"errors"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"time"

	"lanternfield/internal/series/chunk"
)

// Tidy packs the hours and days that are over, makes means of minutes, and lets go of what is too old or too much. It takes its time; it is for a
// goroutine of its own, now and then.
func (s *Store) Tidy(now time.Time) error {
	now = now.UTC()
	var failed error
	for _, g := range s.segments() {
		over := now.After(g.to().Add(2 * time.Minute))
		switch {
		case !over || g.packed:
		case g.raw:
			failed = errors.Join(failed, s.packHour(g.from))
		default:
			failed = errors.Join(failed, s.packDay(g.from))
		}
	}
	return errors.Join(failed, s.forget(now))
}

// group lists the files of one hour or one day.
func (s *Store) group(raw bool, from time.Time) []segment {
	return slices.DeleteFunc(s.segments(), func(g segment) bool { return g.raw != raw || !g.from.Equal(from) })
}

// packHour makes one file of those of an hour, with each series in one piece, and adds the means of its minutes to its day.
func (s *Store) packHour(hour time.Time) error {
	group := s.group(true, hour)
	if len(group) == 0 || len(group) == 1 && group[0].packed {
		return nil
	}
	s.mu.Lock()
	if s.out != nil && s.hour.Equal(hour) { // nothing more is written to it
		err := s.out.close()
		s.out, s.hour = nil, time.Time{}
		if err != nil {
			s.mu.Unlock()
			return err
		}
	}
	s.mu.Unlock()
	minutes, err := s.fresh("min-" + hour.Format(dayForm))
	if err != nil {
		return err
	}
	minutes.refs = map[string][]ref{} // nothing more is written to that file either
	err = s.pack(group, "raw-"+hour.Format(hourForm)+"-p.seg", func(key string, all []chunk.Point) error { return means(minutes, key, all) })
	return errors.Join(err, minutes.close())
}

// packDay makes one file of those of a day.
func (s *Store) packDay(day time.Time) error {
	return s.pack(s.group(false, day), "min-"+day.Format(dayForm)+"-p.seg", nil)
}

// pack makes one file of several, each series in one piece; each hears every series.
func (s *Store) pack(group []segment, name string, each func(string, []chunk.Point) error) error {
	tmp := filepath.Join(s.dir, name+".new")
	w, err := create(tmp)
	if err != nil {
		return err
	}
	w.refs = map[string][]ref{}
	indexes := make([]*index, len(group))
	seen := map[string]bool{}
	s.mu.Lock()
	for i, g := range group {
		indexes[i] = s.index(g)
		s.keys(g, indexes[i], func(key string) { seen[key] = true })
		indexes[i].file, _ = os.Open(s.path(g)) // else it is tried again, piece by piece
	}
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, x := range indexes {
			_ = x.file.Close()
			x.file = nil
		}
	}()
	for _, key := range slices.Sorted(maps.Keys(seen)) {
		var all []chunk.Point
		for i, g := range group {
			s.mu.Lock()
			s.each(g, indexes[i], key, time.UnixMilli(0), time.UnixMilli(math.MaxInt64/4), func(p chunk.Point) { all = append(all, p) })
			s.mu.Unlock()
		}
		if byTime := func(a, b chunk.Point) int { return cmp.Compare(a.T, b.T) }; !slices.IsSortedFunc(all, byTime) {
			slices.SortStableFunc(all, byTime)
		}
		var c chunk.Chunk
		for _, p := range all {
			c.Add(p.T, p.V)
		}
		if c.Len() > 0 {
			err = errors.Join(err, w.chunk(key, &c))
		}
		if each != nil {
			err = errors.Join(err, each(key, all))
		}
	}
	if err = errors.Join(err, w.close()); err != nil {
		_ = os.Remove(tmp)
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := os.Rename(tmp, filepath.Join(s.dir, name)); err != nil {
		return err
	}
	for _, g := range group {
		delete(s.known, g.name)
		if g.name != name {
			err = errors.Join(err, os.Remove(filepath.Join(s.dir, g.name)))
		}
	}
	return err
}

// means writes the mean, the least and the most of each minute.
func means(w *writer, key string, all []chunk.Point) error {
	var mean, least, most chunk.Chunk
	var b Bucket
	minute := int64(-1)
	end := func() {
		if b.settle(); b.N > 0 {
			at := minute*60_000 + 30_000
			mean.Add(at, b.Mean)
			least.Add(at, b.Min)
			most.Add(at, b.Max)
		}
		b = Bucket{}
	}
	for _, p := range all {
		if m := p.T / 60_000; m != minute {
			end()
			minute = m
		}
		if !math.IsNaN(p.V) {
			b.take(p.V, p.V, p.V)
		}
	}
	end()
	if mean.Len() == 0 {
		return nil
	}
	return errors.Join(w.chunk(key, &mean), w.chunk(key+leastOf, &least), w.chunk(key+mostOf, &most))
}

// forget removes what is too old, and then, while there is too much, the oldest: single points first, of which the means stay.
func (s *Store) forget(now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var failed error
	all, total := s.segments(), int64(0)
	for _, g := range all {
		total += g.size
	}
	drop := func(g segment) {
		failed = errors.Join(failed, os.Remove(filepath.Join(s.dir, g.name)))
		delete(s.known, g.name)
		delete(s.lost, g.name)
		total -= g.size
	}
	all = slices.DeleteFunc(all, func(g segment) bool {
		old := g.raw && now.Sub(g.to()) > s.limits.Raw || !g.raw && now.Sub(g.to()) > s.limits.Minutes
		if old {
			drop(g)
		}
		return old
	})
	for _, raw := range []bool{true, false} {
		for _, g := range all {
			if total > s.limits.Bytes && g.raw == raw && !(s.out != nil && filepath.Base(s.out.file.Name()) == g.name) {
				drop(g)
			}
		}
	}
	return failed
}

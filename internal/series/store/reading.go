package store

import (
	"math"
	"os"
	"slices"
	"time"

	"lanternfield/internal/series/chunk"
)

// Bucket sums up the points of a part of time. Without points N is 0, and the rest means nothing.
type Bucket struct {
	N    int     `json:"n"`
	Min  float64 `json:"min"`
	Max  float64 `json:"max"`
	Mean float64 `json:"mean"`
	Last float64 `json:"last"`
}

func (b *Bucket) take(mean, least, most float64) {
	if b.N == 0 || least < b.Min {
		b.Min = least
	}
	if b.N == 0 || most > b.Max {
		b.Max = most
	}
	b.N++
	b.Mean += mean // their sum, until all are taken
	b.Last = mean
}

// settle makes the mean of the sum.
func (b *Bucket) settle() {
	if b.N > 1 {
		b.Mean /= float64(b.N)
	}
}

// The extremes of minutes are series of their own, beside their means.
const leastOf, mostOf = "\x00<", "\x00>"

// Summaries gives series from one moment to another, each in n parts. Where single points are not kept any more, or would be too many, the means of
// minutes stand for them, with their extremes.
func (s *Store) Summaries(keys []string, from, to time.Time, n int) [][]Bucket {
	out := make([][]Bucket, len(keys))
	for i := range out {
		out[i] = make([]Bucket, n)
	}
	if n == 0 || !to.After(from) {
		return out
	}
	start, span := from.UnixMilli(), max(1, to.Sub(from).Milliseconds())
	at := func(t int64) int {
		if t < start || t >= start+span {
			return -1
		}
		return int((t - start) * int64(n) / span)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.segments()
	fine := to.Sub(from) <= finest
	means := map[int64]bool{} // hours of which means are taken, by when they begin
	for _, g := range all {
		if g.raw || !overlaps(g, from, to) {
			continue
		}
		x := s.index(g)
		skips := map[int64]bool{}
		if fine {
			for _, r := range all {
				skips[r.from.UnixMilli()] = skips[r.from.UnixMilli()] || r.raw
			}
		}
		for k, key := range keys {
			last, skipped := int64(-1), false
			s.means(g, x, key, from, to, func(p chunk.Point, least, most float64) {
				if hour := p.T - p.T%time.Hour.Milliseconds(); hour != last {
					last, skipped = hour, skips[hour]
					means[hour] = means[hour] || !skipped
				}
				if skipped {
					return
				}
				if i := at(p.T); i >= 0 {
					out[k][i].take(p.V, least, most)
				}
			})
		}
	}
	for _, g := range all {
		if !g.raw || !overlaps(g, from, to) || means[g.from.UnixMilli()] {
			continue
		}
		x := s.index(g)
		for k, key := range keys {
			s.each(g, x, key, from, to, func(p chunk.Point) { put(out[k], at(p.T), p.V) })
		}
	}
	for k, key := range keys {
		if h := s.heads[key]; h != nil {
			for i := range h.before {
				_ = chunk.Each(h.before[i].Bytes(), func(p chunk.Point) bool { put(out[k], at(p.T), p.V); return true })
			}
			_ = chunk.Each(h.chunk.Bytes(), func(p chunk.Point) bool { put(out[k], at(p.T), p.V); return true })
		}
	}
	for _, all := range out {
		for i := range all {
			all[i].settle()
		}
	}
	return out
}

func put(out []Bucket, i int, v float64) {
	if i >= 0 && !math.IsNaN(v) {
		out[i].take(v, v, v)
	}
}

// means gives the means of minutes in a segment, each with its extremes.
func (s *Store) means(g segment, x *index, key string, from, to time.Time, take func(p chunk.Point, least, most float64)) {
	r := &s.room
	for i, key := range [3]string{key, key + leastOf, key + mostOf} {
		r[i] = s.all(r[i][:0], g, x, key, from, to)
	}
	mean, least, most := r[0], r[1], r[2]
	for i, p := range mean {
		low, high := p.V, p.V
		if i < len(least) && least[i].T == p.T { // they were written together
			low = least[i].V
		}
		if i < len(most) && most[i].T == p.T {
			high = most[i].V
		}
		take(p, low, high)
	}
}

// finest is up to what span single points are read.
const finest = 3 * time.Hour

// overlaps tells whether a segment may have points of a time; a chunk may begin a little before its hour, and go on after it.
func overlaps(g segment, from, to time.Time) bool {
	return g.from.Add(-5*time.Minute).Before(to) && g.to().Add(5*time.Minute).After(from)
}

// each gives the points of a series in a segment that are of a time. What is damaged is noted, and passed over.
func (s *Store) each(g segment, x *index, key string, from, to time.Time, take func(chunk.Point)) {
	for _, p := range s.all(s.room[3][:0], g, x, key, from, to) {
		take(p)
	}
}

// all appends the points of a series in a segment that are of a time.
func (s *Store) all(out []chunk.Point, g segment, x *index, key string, from, to time.Time) []chunk.Point {
	least, most := from.UnixMilli(), to.UnixMilli()
	f := x.file
	for _, r := range s.of(g, x, key) {
		if r.last < least || r.first > most {
			continue
		}
		var err error
		before := len(out)
		if x.data != nil {
			out, err = chunk.Append(out, x.data[r.at:r.at+r.size])
		} else {
			if f == nil {
				if f, err = os.Open(s.path(g)); err != nil {
					s.lost[g.name] = Loss{g.name, g.size, err.Error()}
					return out
				}
				defer f.Close()
			}
			out, err = points(out, f, r)
		}
		if err != nil {
			s.lost[g.name] = Loss{g.name, r.size, err.Error()}
		}
		if r.first < least || r.last > most {
			fit := slices.DeleteFunc(out[before:], func(p chunk.Point) bool { return p.T < least || p.T > most })
			out = out[:before+len(fit)]
		}
	}
	return out
}

// Keys lists the series of which there are points at or after a moment.
func (s *Store) Keys(since time.Time) []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	seen := map[string]bool{}
	for key := range s.heads {
		seen[key] = true
	}
	for _, g := range s.segments() {
		if g.to().Before(since) {
			continue
		}
		s.keys(g, s.index(g), func(key string) {
			if k := len(key); k < 2 || key[k-2] != 0 {
				seen[key] = true
			}
		})
	}
	var out []string
	for key := range seen {
		out = append(out, key)
	}
	slices.Sort(out)
	return out
}

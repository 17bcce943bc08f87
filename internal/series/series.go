// Package series keeps the newest values of something that is measured over and over: a ring that forgets the oldest. Series are for looking
// at; nothing is decided by them, and some values may be lost.
package series

import (
	"sort"
	"sync"
	"time"
)

// Point is a value with its time.
type Point[T any] struct {
	At    time.Time `json:"at"`
	Value T         `json:"value"`
}

// Ring holds the newest points, in the order of their times. It may be used by several goroutines.
type Ring[T any] struct {
	mu     sync.Mutex
	most   int
	points []Point[T] // once full, oldest at next
	next   int
}

// New makes a ring for that many points, at least one.
func New[T any](most int) *Ring[T] { return &Ring[T]{most: max(1, most)} }

// Add adds a point. Points come in the order of their times.
func (r *Ring[T]) Add(at time.Time, value T) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.points) < r.most {
		r.points = append(r.points, Point[T]{at, value})
		return
	}
	r.points[r.next] = Point[T]{at, value}
	r.next = (r.next + 1) % r.most
}

// After gives the points that are newer than a moment, oldest first.
func (r *Ring[T]) After(at time.Time) []Point[T] {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.points)
	first := sort.Search(n, func(i int) bool { return r.points[(r.next+i)%n].At.After(at) })
	out := make([]Point[T], 0, n-first)
	for i := first; i < n; i++ {
		out = append(out, r.points[(r.next+i)%n])
	}
	return out
}

// Last gives the newest point; ok is false where there is none.
func (r *Ring[T]) Last() (p Point[T], ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.points)
	if n == 0 {
		return p, false
	}
	return r.points[(r.next+n-1)%n], true
}

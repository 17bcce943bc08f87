package journal

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"

	"lanternfield/internal/core/logline"
)

// Bar is one part of a histogram.
type Bar struct {
	N      int `json:"n"`
	Errors int `json:"errors,omitempty"`
	Warns  int `json:"warnings,omitempty"`
}

// Histogram counts what happened in each of some equal parts of a span of time.
type Histogram struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Bars []Bar     `json:"bars"`
}

// NewHistogram makes an empty one.
func NewHistogram(from, to time.Time, parts int) *Histogram {
	if !to.After(from) {
		to = from.Add(time.Second)
	}
	return &Histogram{From: from, To: to, Bars: make([]Bar, max(parts, 1))}
}

// Part is the part in which a moment lies; the first or the last for what lies before or after all of them.
func (h *Histogram) Part(at time.Time) int {
	if !at.After(h.From) {
		return 0
	}
	i := int(float64(at.Sub(h.From)) / float64(h.To.Sub(h.From)) * float64(len(h.Bars)))
	return min(max(i, 0), len(h.Bars)-1)
}

// Begin is when a part begins.
func (h *Histogram) Begin(part int) time.Time {
	return h.From.Add(time.Duration(float64(h.To.Sub(h.From)) / float64(len(h.Bars)) * float64(part)))
}

// Add counts something.
func (h *Histogram) Add(at time.Time, level logline.Level) {
	if at.Before(h.From) || at.After(h.To) {
		return
	}
	b := &h.Bars[h.Part(at)]
	b.N++
	switch level {
	case logline.Error:
		b.Errors++
	case logline.Warning:
		b.Warns++
	}
}

// Most is the largest count of a part.
func (h *Histogram) Most() int {
	n := 0
	for _, b := range h.Bars {
		n = max(n, b.N)
	}
	return n
}

// Line draws it in one line, a cell a part. Heights go by the root of the counts, so that a few can be seen beside many.
func (h *Histogram) Line(ascii bool) string {
	shapes := []rune("▁▂▃▄▅▆▇█")
	if ascii {
		shapes = []rune(".:-=+*#@")
	}
	out, most := make([]rune, len(h.Bars)), float64(max(h.Most(), 1))
	for i, b := range h.Bars {
		out[i] = ' '
		if b.N > 0 {
			out[i] = shapes[min(len(shapes)-1, int(math.Sqrt(float64(b.N)/most)*float64(len(shapes))))]
		}
	}
	return string(out)
}

// Counts is how much there is of what.
type Counts struct {
	All    int            `json:"all"`
	Events int            `json:"events"`
	Errors int            `json:"errors"`
	Warns  int            `json:"warnings"`
	By     map[string]int `json:"by"` // role, or what else it is of
}

// Add counts something.
func (c *Counts) Add(x *Of) {
	if c.By == nil {
		c.By = map[string]int{}
	}
	c.All++
	if x.Event {
		c.Events++
	}
	switch x.Level {
	case logline.Error:
		c.Errors++
	case logline.Warning:
		c.Warns++
	}
	if of := cmp.Or(string(x.Role), string(x.Node)); of != "" {
		c.By[of]++
	}
}

// Largest lists of what there is most, up to so many.
func (c *Counts) Largest(most int) []string {
	names := slices.SortedFunc(maps.Keys(c.By), func(a, b string) int { return cmp.Or(c.By[b]-c.By[a], cmp.Compare(a, b)) })
	return names[:min(len(names), most)]
}

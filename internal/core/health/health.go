// Package health is what is measured of a role over time: which charts there are, what they count, and how many members become one band.
package health

import (
	"slices"
	"time"
)

// Part is one part of time of a chart: the middle of what was measured, and its spread. Without values N is 0, and the rest means nothing.
type Part struct {
	N    int     `json:"n"`
	Mid  float64 `json:"mid"`
	Low  float64 `json:"low"`
	High float64 `json:"high"`
}

// Line is one member's, or the role's own, over time.
type Line struct {
	Of    string `json:"of,omitempty"` // the member; empty for the role as a whole
	Parts []Part `json:"parts"`
}

// Chart is one kind of measure of a role over time.
type Chart struct {
	Name  string  `json:"name"`
	About string  `json:"about"`           // for people
	Unit  string  `json:"unit,omitempty"`  // ms, cores, bytes, bytes/s, /s, members
	Shape Shape   `json:"shape"`           // how it is drawn
	Band  []Part  `json:"band,omitempty"`  // of all members together: their median, and from the least to the most
	Bound float64 `json:"bound,omitempty"` // what it may not go beyond; 0 where nothing is said
	Lines []Line  `json:"lines,omitempty"` // each alone, where that was asked for; a second line that belongs to it, else
}

// Shape says how a chart is drawn.
type Shape string

// The shapes.
const (
	Curve  Shape = "curve"  // a number that goes up and down
	Steps  Shape = "steps"  // a count that jumps
	Ribbon Shape = "ribbon" // which of several: a colour for each
)

// Told is the health of a role from one moment to another.
type Told struct {
	Role   string    `json:"role"`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Parts  int       `json:"parts"`
	Charts []Chart   `json:"charts"`
	Marks  []Mark    `json:"marks,omitempty"` // what happened meanwhile
	Bytes  int64     `json:"bytes"`           // that all series of the field have on disk
	Limit  int64     `json:"limit"`
	Lost   []string  `json:"lost,omitempty"` // what could not be read
}

// Mark is an event that is drawn into charts.
type Mark struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// At is the moment in the middle of a part.
func (t *Told) At(part int) time.Time {
	return t.From.Add(t.To.Sub(t.From) * time.Duration(2*part+1) / time.Duration(2*max(1, t.Parts)))
}

// Part is the part of a moment; -1 where it lies outside.
func (t *Told) Part(at time.Time) int {
	if at.Before(t.From) || !at.Before(t.To) {
		return -1
	}
	return int(int64(t.Parts) * int64(at.Sub(t.From)) / int64(t.To.Sub(t.From)))
}

// Chart finds a chart by name; nil where there is none.
func (t *Told) Chart(name string) *Chart {
	for i := range t.Charts {
		if t.Charts[i].Name == name {
			return &t.Charts[i]
		}
	}
	return nil
}

// Band makes one of many lines: of each part the median of the members' middles, the least of their lows and the most of their highs.
func Band(lines []Line, parts int) []Part {
	out := make([]Part, parts)
	var mids []float64
	for i := range out {
		mids = mids[:0]
		p := &out[i]
		for _, l := range lines {
			if x := l.Parts[i]; x.N > 0 {
				if p.N == 0 || x.Low < p.Low {
					p.Low = x.Low
				}
				if p.N == 0 || x.High > p.High {
					p.High = x.High
				}
				p.N++
				mids = append(mids, x.Mid)
			}
		}
		if p.N > 0 {
			slices.Sort(mids)
			p.Mid = mids[(len(mids)-1)/2]
		}
	}
	return out
}

// Range is the least and the most of a chart; ok is false where it has nothing.
func (c *Chart) Range() (low, high float64, ok bool) {
	take := func(p Part) {
		if p.N == 0 {
			return
		}
		if !ok || p.Low < low {
			low = p.Low
		}
		if !ok || p.High > high {
			high = p.High
		}
		ok = true
	}
	for _, p := range c.Band {
		take(p)
	}
	for _, l := range c.Lines {
		for _, p := range l.Parts {
			take(p)
		}
	}
	if ok && c.Bound > high && c.Bound <= nearBound*high { // it is drawn where that leaves something to be seen of the rest
		high = c.Bound
	}
	if c.Shape == Steps { // a count stands on nothing
		low = min(low, 0)
	}
	return low, high, ok
}

// nearBound is how many times what was measured a bound may be and still be drawn.
const nearBound = 4

// Rate is how much a counter rose in a second between two readings. A counter that is less than before began anew; then all that it has counts.
func Rate(before, now float64, between time.Duration) (float64, bool) {
	if between <= 0 {
		return 0, false
	}
	if now < before {
		before = 0
	}
	return (now - before) / between.Seconds(), true
}

package notice

import (
	"math"
	"slices"
	"time"
)

// Point is what was measured of a member at a moment.
type Point struct {
	At   time.Time
	Free int64    // bytes, of the disk where its data is; 0 where that is not known
	Size int64    // of that disk
	Lag  *float64 // how far it is behind; nil where its program does not tell
}

// Trend is what was measured of a member in the last minutes, and what was found of its files.
type Trend struct {
	Points  []Point  // oldest first, no closer than pointsApart
	Unsent  string   // why its lines cannot be forwarded
	Altered []string // files of its configuration that are not as they were ordered
}

// How much of the past a trend holds: what is longer ago says nothing of how it goes now.
const (
	pointsApart = 5 * time.Second
	mostPoints  = 15
)

// Add takes a point in.
func (t *Trend) Add(p Point) {
	if n := len(t.Points); n > 0 {
		since := p.At.Sub(t.Points[n-1].At)
		switch {
		case since < 0:
			t.Points = nil // a clock was set back
		case since < pointsApart-time.Second:
			t.Points[n-1].Free, t.Points[n-1].Size, t.Points[n-1].Lag = p.Free, p.Size, p.Lag
			return
		case since > time.Minute:
			t.Points = nil // there is a gap
		}
	}
	t.Points = append(t.Points, p)
	if n := len(t.Points); n > mostPoints {
		t.Points = slices.Clone(t.Points[n-mostPoints:])
	}
}

// Last is the newest point; nothing where there is none.
func (t *Trend) Last() Point {
	if len(t.Points) == 0 {
		return Point{}
	}
	return t.Points[len(t.Points)-1]
}

// What counts as growing: over a minute at least, in each quarter of the time more than in the one before, by half and by ten in all.
const (
	growsFor   = time.Minute
	growsBy    = 1.5
	growsLeast = 10
)

// Growing tells by how much the lag grows in a second, where it grows steadily.
func (t *Trend) Growing() (rate float64, grows bool) {
	var at []time.Time
	var values []float64
	for _, p := range t.Points {
		if p.Lag != nil && !math.IsNaN(*p.Lag) && !math.IsInf(*p.Lag, 0) {
			at, values = append(at, p.At), append(values, *p.Lag)
		}
	}
	n := len(values)
	if n < 8 || at[n-1].Sub(at[0]) < growsFor {
		return 0, false
	}
	var quarters [4]float64
	for q := range quarters {
		part := slices.Clone(values[q*n/4 : (q+1)*n/4])
		slices.Sort(part)
		quarters[q] = part[len(part)/2]
		if q > 0 && quarters[q] <= quarters[q-1] {
			return 0, false
		}
	}
	rise := quarters[3] - quarters[0]
	if rise < growsLeast || quarters[3] < growsBy*quarters[0] || values[n-1] < quarters[2] {
		return 0, false
	}
	return rise / (at[n-1].Sub(at[0]).Seconds() * 3 / 4), true
}

// What counts as filling: at the pace of the last minute and more, full within that time, and less than a quarter free.
const (
	fillsFor    = time.Minute
	fillsWithin = time.Hour
	fillsBelow  = 0.25
)

// Filling tells in what time the disk is full, where that is soon.
func (t *Trend) Filling() (left time.Duration, fills bool) {
	last := t.Last()
	if last.Size == 0 || float64(last.Free) > fillsBelow*float64(last.Size) {
		return 0, false
	}
	i := slices.IndexFunc(t.Points, func(p Point) bool { return p.Size == last.Size })
	first := t.Points[i]
	over := last.At.Sub(first.At)
	half := t.Points[(i+len(t.Points))/2]
	if over < fillsFor || first.Free <= half.Free || half.Free <= last.Free {
		return 0, false
	}
	left = time.Duration(float64(last.Free) / (float64(first.Free-last.Free) / over.Seconds()) * float64(time.Second))
	return left, left < fillsWithin
}

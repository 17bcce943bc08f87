package journal

import (
	"sort"
	"time"

	"lanternfield/internal/core/field"
	core "lanternfield/internal/core/journal"
	"lanternfield/internal/tui/grid"
)

// View is how somebody looks at a book.
type View struct {
	Text   string // of the filter
	Typing bool
	Follow bool
	Open   bool // what goes on with the line under the cursor is shown
	filter core.Filter
	counts core.Counts     // of what is shown
	hist   *core.Histogram // likewise, over time
	trail  []time.Time     // where it was asked what an event follows from
	cursor int             // which of the shown lines
	when   time.Time       // its time, by which it is found again when others come in
	words  string          // what it says, which tells it from others of the same time
	shown  []int           // which of the book's lines
	grown  int             // the state of the book that shown was made for
	book   *Book
	typed  string // the filter's text that shown was made for
	page   int    // lines that fit
	room   int    // columns for what a line says, as it was drawn last
	top    int
}

// Sync chooses the lines that are shown, if anything has changed since.
func (v *View) Sync(b *Book, names func() core.Names) {
	if v.book == b && v.grown == b.grown && v.typed == v.Text && v.shown != nil {
		return
	}
	at := v.when
	if v.typed != v.Text || v.book == nil {
		v.filter = core.Parse(v.Text, names())
	}
	v.book, v.grown, v.typed = b, b.grown, v.Text
	v.shown = make([]int, 0, len(b.Lines))
	v.counts = core.Counts{}
	for i := range b.Lines {
		if v.filter.Fits(&b.Lines[i].Of) {
			v.shown = append(v.shown, i)
			v.counts.Add(&b.Lines[i].Of)
		}
	}
	v.hist = nil
	if v.Follow || at.IsZero() {
		v.stand(len(v.shown) - 1)
	} else {
		v.seek(at, v.words)
	}
}

// At is the time of the line under the cursor; zero where there is none.
func (v *View) At() time.Time {
	if v.book == nil || v.cursor < 0 || v.cursor >= len(v.shown) || v.shown[v.cursor] >= len(v.book.Lines) {
		return time.Time{}
	}
	return v.book.Lines[v.shown[v.cursor]].At
}

// Seek stands on the last line up to that moment.
func (v *View) Seek(at time.Time) {
	n := sort.Search(len(v.shown), func(i int) bool { return v.book.Lines[v.shown[i]].At.After(at) })
	v.stand(n - 1)
}

// seek stands on the line of that moment that says that; where there is none, on the last one up to it.
func (v *View) seek(at time.Time, words string) {
	v.Seek(at)
	for i := v.cursor; i >= 0 && i < len(v.shown); i-- {
		l := &v.book.Lines[v.shown[i]]
		if !l.At.Equal(at) {
			return
		}
		if l.Text == words {
			v.stand(i)
			return
		}
	}
}

// stand stands on one of the shown lines.
func (v *View) stand(i int) {
	if i != v.cursor {
		v.Open = false
	}
	v.cursor = min(max(i, 0), len(v.shown)-1)
	v.when, v.words = v.At(), ""
	if l := v.Under(); l != nil {
		v.words = l.Text
	}
}

// Move goes that many lines and tells whether it stands on the last one.
func (v *View) Move(by int) (last bool) {
	v.stand(v.cursor + by)
	v.Follow = v.cursor == len(v.shown)-1
	return v.Follow
}

// AtTop tells whether it stands on the first line.
func (v *View) AtTop() bool { return v.cursor == 0 }

// Event stands on the next event in that direction among the shown lines, and tells whether there is one.
func (v *View) Event(by int) bool {
	for i := v.cursor + by; i >= 0 && i < len(v.shown); i += by {
		if v.book.Lines[v.shown[i]].Event {
			v.stand(i)
			v.Follow = v.cursor == len(v.shown)-1
			return true
		}
	}
	return false
}

// Page is how many lines are shown.
func (v *View) Page() int { return max(1, v.page-1) }

// Empty tells whether there is no line to stand on.
func (v *View) Empty() bool { return len(v.shown) == 0 }

// Click stands on the line on that row of the area, or in the part of the histogram.
func (v *View) Click(column, row int) bool {
	i := v.top + row - 2
	if row == 1 && v.hist != nil {
		return v.standIn(v.hist.Part(v.hist.Begin(column-1)), 1)
	}
	if row < 2 || i < 0 || i >= len(v.shown) {
		return false
	}
	v.stand(i)
	v.Follow = i == len(v.shown)-1
	return true
}

// Under is the line under the cursor; nil where there is none.
func (v *View) Under() *Line {
	if v.book == nil || v.cursor < 0 || v.cursor >= len(v.shown) || v.shown[v.cursor] >= len(v.book.Lines) {
		return nil
	}
	return &v.book.Lines[v.shown[v.cursor]]
}

// Opens tells whether there is more of the line under the cursor than is shown.
func (v *View) Opens() bool {
	l := v.Under()
	return l != nil && (len(l.More) > 0 || v.room > 0 && grid.Width(l.Text) > v.room)
}

// Stride goes to the next part of the histogram in that direction in which there is something, and tells whether there is one.
func (v *View) Stride(by int) bool {
	if v.hist == nil {
		return false
	}
	return v.standIn(v.hist.Part(v.At())+by, by)
}

func (v *View) standIn(part, by int) bool {
	for ; part >= 0 && part < len(v.hist.Bars); part += by {
		if v.hist.Bars[part].N > 0 {
			begin := v.hist.Begin(part)
			n := sort.Search(len(v.shown), func(i int) bool {
				return v.hist.Part(v.book.Lines[v.shown[i]].At) >= part && !v.book.Lines[v.shown[i]].At.Before(begin.Add(-time.Second))
			})
			v.stand(n)
			v.Follow = v.cursor == len(v.shown)-1
			return true
		}
	}
	return false
}

// Cause stands on the event that the one under the cursor follows from, and says how; what a member wrote follows from the event of it before. Where there
// is none, it says so. The filter is taken off where it does not show that event.
func (v *View) Cause(names func() core.Names, calls map[field.RoleName][]field.RoleName) (how string, found bool) {
	l := v.Under()
	if l == nil {
		return "", false
	}
	at := v.shown[v.cursor]
	cause := -1
	if !l.Event {
		for i := at - 1; i >= 0 && cause < 0; i-- {
			if b := &v.book.Lines[i]; b.Event && b.Member == l.Member {
				cause, how = i, "the event of that member before it wrote this"
			}
		}
	} else {
		var events []core.Event
		var where []int
		for i := range v.book.Lines[:at+1] {
			if b := &v.book.Lines[i]; b.Event {
				events, where = append(events, core.Event{At: b.At, Kind: b.Kind, Member: b.Member, Role: b.Role, Node: b.Node}), append(where, i)
			}
		}
		var i int
		if i, how = core.Cause(events, len(events)-1, calls); i >= 0 {
			cause = where[i]
		}
	}
	if cause < 0 {
		return "", false
	}
	v.trail = append(v.trail, l.At)
	if !v.filter.Fits(&v.book.Lines[cause].Of) {
		v.Text = ""
		v.Sync(v.book, names)
	}
	v.stand(sort.SearchInts(v.shown, cause))
	v.Follow = false
	return how, true
}

// Return stands where it was asked last what an event follows from, and tells whether there is such a place.
func (v *View) Return() bool {
	n := len(v.trail)
	if n == 0 {
		return false
	}
	v.Seek(v.trail[n-1])
	v.trail = v.trail[:n-1]
	return true
}

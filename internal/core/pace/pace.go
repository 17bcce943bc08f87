// Package pace says whether something that takes long is slow or stuck: by what it took before, by how far its program says it has come, and by
// whether its log and its processor are silent. Slow and stuck are different words, and each comes with its evidence.
package pace

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
)

// Usual is what something took before. The zero value says that it was never seen.
type Usual struct {
	Times   int           `json:"times"`          // how often it was seen
	Median  time.Duration `json:"median_ns"`      // half of the times it took no longer
	High    time.Duration `json:"high_ns"`        // the 95th percentile, by nearest rank
	Longest time.Duration `json:"longest_ns"`     // that it ever took
	Said    bool          `json:"said,omitempty"` // it was never seen: its kit says so
}

// Of sums up durations, in whatever order.
func Of(took []time.Duration) Usual {
	n := len(took)
	if n == 0 {
		return Usual{}
	}
	sorted := slices.Sorted(slices.Values(took))
	at := func(percent int) time.Duration { return sorted[max(0, (n*percent+99)/100-1)] }
	return Usual{Times: n, Median: at(50), High: at(95), Longest: sorted[n-1]}
}

// Or gives what a kit says where nothing was seen yet.
func (u Usual) Or(said time.Duration) Usual {
	if u.Times > 0 || said <= 0 {
		return u
	}
	return Usual{Median: said, High: said, Longest: said, Said: true}
}

// Known tells whether there is anything to compare with.
func (u Usual) Known() bool { return u.Times > 0 || u.Said }

// Words says it: "usually 14 s, at most 22 s (20 times)". Empty where nothing is known.
func (u Usual) Words() string {
	switch {
	case u.Said:
		return "its kit says " + field.Span(u.Median)
	case u.Times == 0:
		return ""
	case u.Times == 1:
		return field.Span(u.Median) + " the time before"
	case field.Span(u.Median) == field.Span(u.Longest):
		return fmt.Sprintf("usually %s (%d times)", field.Span(u.Median), u.Times)
	}
	return fmt.Sprintf("usually %s, at most %s (%d times)", field.Span(u.Median), field.Span(u.Longest), u.Times)
}

// Measures of patience.
const (
	Least   = 5 * time.Second  // nothing is slow before
	Unknown = time.Minute      // after this something long is said to be slow that was never seen
	Quiet   = 20 * time.Second // that a log or a processor must have been silent to speak against a member
)

// Limit is after how long it is slow: the 95th percentile where it was seen often enough for that to say something.
func (u Usual) Limit() time.Duration {
	switch {
	case !u.Known():
		return Unknown
	case u.Times < 5:
		return max(Least, 2*u.Longest)
	}
	return max(Least, u.High+u.Median/2) // one of twenty takes longer than the 95th percentile, and is well
}

// Signs are what shows that a member is at work. What is not known is zero.
type Signs struct {
	Wrote  time.Time      // when its log grew last
	Worked time.Time      // when its processes used the processor last
	Gauge  *field.Reading // how far its program says that it has come
}

// Word is how a wait goes.
type Word string

// The words for a wait.
const (
	AsUsual Word = "as usual"
	Slow    Word = "slow"
	Stuck   Word = "stuck"
)

// Judgement is how a wait goes, and why that is said.
type Judgement struct {
	Word     Word          `json:"word"`
	For      time.Duration `json:"for_ns"`
	Left     time.Duration `json:"left_ns,omitempty"` // about how long it still takes; 0 where that is not known
	Evidence []string      `json:"evidence,omitempty"`
}

// Judge judges what began at a moment and is not done.
func Judge(since, now time.Time, usual Usual, signs Signs) Judgement {
	j := Judgement{Word: AsUsual, For: max(0, now.Sub(since))}
	j.say(usual.Words())
	if !usual.Known() {
		j.say("it was never seen here before, so there is nothing to compare it with")
	}
	silent, idle := quiet(signs.Wrote, since, now), quiet(signs.Worked, since, now)
	moves := signs.Gauge != nil && signs.Gauge.Pace != 0 && now.Sub(signs.Gauge.Moved) <= field.Still
	still := signs.Gauge != nil && now.Sub(signs.Gauge.Moved) >= max(Quiet, usual.Median)
	if signs.Gauge != nil {
		j.say(signs.Gauge.Words(now))
	}
	long := j.For > usual.Limit()
	lasting := max(Quiet, min(usual.Median, 10*Quiet))
	dead := silent >= lasting && idle >= lasting
	switch {
	case moves && long:
		j.Word = Slow
	case moves:
	case long && (dead || still && silent >= Quiet), !usual.Known() && dead && j.For > 2*Quiet:
		j.Word = Stuck
	case long:
		j.Word = Slow
	}
	if j.Word != AsUsual {
		j.say(silence("its log has been silent", "its log grew", silent, signs.Wrote, now))
		j.say(silence("its processor has been idle", "it used the processor", idle, signs.Worked, now))
	}
	j.Left = left(j, usual, signs, moves)
	return j
}

func (j *Judgement) say(text string) {
	if text != "" {
		j.Evidence = append(j.Evidence, text)
	}
}

// quiet is for how long there was no sign, at most since the wait began; 0 where that is not known.
func quiet(last, since, now time.Time) time.Duration {
	if last.IsZero() {
		return 0
	}
	if last.Before(since) {
		last = since
	}
	return max(0, now.Sub(last))
}

// silence words a sign, or that there was none.
func silence(none, some string, lasts time.Duration, last, now time.Time) string {
	switch {
	case last.IsZero():
		return ""
	case lasts >= Quiet:
		return none + " for " + field.Span(lasts)
	}
	return some + " " + field.Span(now.Sub(last)) + " ago"
}

// left is about how long it still takes: as its program says, else as long as it took before.
func left(j Judgement, usual Usual, signs Signs, moves bool) time.Duration {
	switch {
	case moves && signs.Gauge.Lag && signs.Gauge.Pace < 0:
		return time.Duration(signs.Gauge.Value / -signs.Gauge.Pace * float64(time.Second))
	case j.Word == Stuck || !usual.Known():
		return 0
	case j.For < usual.Median:
		return usual.Median - j.For
	}
	return max(0, usual.High-j.For)
}

// Told says for how long it has lasted, with the evidence: "41 s, usually 14 s, …".
func (j Judgement) Told() string {
	text := field.Span(j.For)
	for _, e := range j.Evidence {
		text += ", " + e
	}
	return text
}

package pace

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

// Estimate is how much longer something may take.
type Estimate struct {
	Left    time.Duration    `json:"left_ns"`           // half of the time it takes no longer
	Low     time.Duration    `json:"low_ns"`            // one in ten times it takes no longer
	High    time.Duration    `json:"high_ns"`           // one in ten times it takes longer
	Unknown []field.RoleName `json:"unknown,omitempty"` // roles of which some phase was never seen and of which no kit says how long it takes: they are not in it
	Awaits  []string         `json:"awaits,omitempty"`  // what has to come first, and of which nobody can say when: that is not in it either
}

// Words says it: "about 4 min more (3 to 6 min)". What nobody can know is said, not guessed.
func (e *Estimate) Words() string {
	if e == nil {
		return ""
	}
	return e.words(" more", "almost done", "how much longer is not known: ")
}

// Any tells whether anything is known of how long it takes.
func (e *Estimate) Any() bool { return e != nil && (e.Left > 0 || len(e.Unknown) == 0) }

// Whole says how long all of it may take: "about 4 min (3 to 6 min)".
func (e *Estimate) Whole() string {
	if e == nil {
		return ""
	}
	return e.words("", "less than a second", "how long is not known: ")
}

func (e *Estimate) words(more, soon, unknown string) string {
	text := fmt.Sprintf("about %s%s", Rough(e.Left), more)
	if e.Left < time.Second {
		text = soon
	}
	if low, high := Rough(e.Low), Rough(e.High); low != high && e.Left >= time.Second {
		text += fmt.Sprintf(" (%s to %s)", low, high)
	}
	switch {
	case len(e.Awaits) > 0:
		return text + ", once " + e.Awaits[0]
	case len(e.Unknown) > 0 && e.Left < time.Second:
		return unknown + fmt.Sprintf("how long %s %s was never seen", wording.Roles(e.Unknown), wording.Plural(len(e.Unknown), "takes", "take"))
	case len(e.Unknown) > 0:
		return text + fmt.Sprintf(", and what %s %s, which was never seen", wording.Roles(e.Unknown), wording.Plural(len(e.Unknown), "takes", "take"))
	}
	return text
}

// Compared says how what was done compares with the time before: ", 12 s faster than last time". Empty where there was none.
func Compared(took, before time.Duration) string {
	differ := took - before
	switch least := max(200*time.Millisecond, took/20); {
	case before <= 0:
		return ""
	case differ > least:
		return fmt.Sprintf(", %s slower than last time", field.Brief(differ))
	case differ < -least:
		return fmt.Sprintf(", %s faster than last time", field.Brief(-differ))
	}
	return ", as long as last time"
}

// Rough words a duration that nobody knows to the second.
func Rough(d time.Duration) string {
	switch {
	case d < time.Second:
		return "1 s"
	case d < 20*time.Second:
		return fmt.Sprintf("%d s", int(d.Round(time.Second).Seconds()))
	case d < 90*time.Second:
		return fmt.Sprintf("%d s", int(d.Round(5*time.Second).Seconds()))
	case d < 10*time.Minute:
		d = d.Round(30 * time.Second)
		if half := d % time.Minute; half != 0 {
			return fmt.Sprintf("%d½ min", int(d.Minutes()))
		}
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 100*time.Minute:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
	}
	return field.Span(d.Round(time.Minute))
}

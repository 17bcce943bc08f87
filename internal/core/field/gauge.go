package field

import (
	"fmt"
	"strconv"
	"time"
)

// Gauge reads a number that a program gives of itself: how far it has come, or how far it is behind.
type Gauge struct {
	Call
	Value   string   `json:"value"`          // an expression over the answer that gives the number
	Unit    string   `json:"unit,omitempty"` // bytes, or what is counted: entries, transactions
	Most    Text     `json:"most,omitempty"` // of lag: a member with more is not ready; any will do when empty
	Every   Duration `json:"every,omitempty"`
	Timeout Duration `json:"timeout,omitempty"`
}

// Reading is a number as a gauge read it.
type Reading struct {
	Value float64   `json:"value"`
	Unit  string    `json:"unit,omitempty"`
	Lag   bool      `json:"lag,omitempty"`  // it is how far it is behind; else how far it has come
	Pace  float64   `json:"pace,omitempty"` // how much it changes in a second, over the last while
	At    time.Time `json:"at"`
	Moved time.Time `json:"moved"` // since when it has been the same
}

// Still is how long a number must have stayed the same for that to be worth saying.
const Still = 10 * time.Second

// Amount words an amount in a gauge's unit: "12.3 MiB", "40 entries".
func Amount(value float64, unit string) string {
	if unit == "bytes" {
		return Bytes(value).String()
	}
	text := strconv.FormatFloat(float64(int64(value*10+0.5))/10, 'f', -1, 64)
	if unit != "" {
		text += " " + unit
	}
	return text
}

// Words says what was read, how fast it moves, and how long that may take, or since when it has not moved.
func (r *Reading) Words(now time.Time) string {
	text := Amount(r.Value, r.Unit)
	still := now.Sub(r.Moved) > Still
	if !r.Lag {
		switch text += " so far"; {
		case still:
			text += ", unchanged for " + Span(now.Sub(r.Moved))
		case r.Pace > 0:
			text += ", " + Amount(r.Pace, r.Unit) + " a second"
		}
		return text
	}
	switch {
	case r.Value <= 0:
		return "nothing behind"
	case still:
		return text + " behind, unchanged for " + Span(now.Sub(r.Moved))
	case r.Pace < 0:
		return fmt.Sprintf("%s behind, %s less a second, %s left", text, Amount(-r.Pace, r.Unit), Span(time.Duration(r.Value/-r.Pace*float64(time.Second))))
	}
	return text + " behind"
}

// Limit reads Most; ok is false where there is none.
func (g *Gauge) Limit() (most float64, ok bool, err error) {
	if g.Most == "" {
		return 0, false, nil
	}
	b, err := ParseBytes(string(g.Most))
	return float64(b), err == nil, err
}

// Beyond says that a lag is more than the most that is borne; nil when it is not.
func (g *Gauge) Beyond(value float64) error {
	most, limited, err := g.Limit()
	if err != nil || !limited || value <= most {
		return nil
	}
	return fmt.Errorf("it answers, and is more than %s behind", Amount(most, g.Unit)) // the same as long as it is: the number is read apart
}

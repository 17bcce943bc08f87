package field

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Bytes is a size in bytes, written as 512MiB or 4GiB.
type Bytes int64

var byteUnits = []struct {
	name string
	size int64
}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"B", 1}}

// ParseBytes reads a size such as 4GiB, 512MiB, 1.5GiB or 1048576.
func ParseBytes(text string) (Bytes, error) {
	number, factor := strings.TrimSpace(text), int64(1)
	for _, u := range byteUnits {
		if rest, ok := strings.CutSuffix(number, u.name); ok {
			number, factor = strings.TrimSpace(rest), u.size
			break
		}
	}
	value, err := strconv.ParseFloat(number, 64)
	if err != nil || !(value*float64(factor) >= 0 && value*float64(factor) <= 1<<60) { // not a number fails too
		return 0, fmt.Errorf("%q is not a size; write a number with B, KiB, MiB, GiB or TiB, such as 512MiB", text)
	}
	return Bytes(value * float64(factor)), nil
}

// String gives the size with the largest unit that keeps it at one or more, e.g. "1.5 GiB".
func (b Bytes) String() string {
	for _, u := range byteUnits {
		if int64(b) >= u.size {
			return strconv.FormatFloat(float64(int64(float64(b)/float64(u.size)*10+0.5))/10, 'f', -1, 64) + " " + u.name
		}
	}
	return "0 B"
}

// UnmarshalJSON reads a number of bytes or a text that ParseBytes understands.
func (b *Bytes) UnmarshalJSON(data []byte) error {
	var err error
	*b, err = ParseBytes(strings.Trim(string(data), `"`))
	return err
}

// Duration is a time.Duration that is written as 10s or 1m30s.
type Duration time.Duration

// MarshalJSON writes the duration as text.
func (d Duration) MarshalJSON() ([]byte, error) { return json.Marshal(time.Duration(d).String()) }

// UnmarshalJSON reads a text such as "10s".
func (d *Duration) UnmarshalJSON(data []byte) error {
	text := strings.Trim(string(data), `"`)
	rest, days := text, 0.0
	if before, after, any := strings.Cut(text, "d"); any {
		n, err := strconv.ParseFloat(before, 64)
		if err != nil || n < 0 || n > 100_000 {
			return fmt.Errorf("%q is not a length of time; write it like 500ms, 10s, 1m30s or 90d", text)
		}
		if rest, days = after, n; rest == "" {
			rest = "0s"
		}
	}
	value, err := time.ParseDuration(rest)
	if err != nil || value < 0 {
		return fmt.Errorf("%q is not a length of time; write it like 500ms, 10s, 1m30s or 90d", text)
	}
	value += time.Duration(days * float64(24*time.Hour))
	*d = Duration(value)
	return nil
}

// Or gives the duration, or fallback where it was left out.
func (d Duration) Or(fallback time.Duration) time.Duration {
	if d == 0 {
		return fallback
	}
	return time.Duration(d)
}

// Brief words a length of time that is often less than a second: "12 ms", else as Span does.
func Brief(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	}
	return Span(d)
}

// Span words a length of time for people: "0.4 s", "23 s", "1 min 42 s", "3 h 5 min", "90 days".
func Span(d time.Duration) string {
	switch {
	case d < 0:
		return "0 s"
	case d < 10*time.Second:
		return strconv.FormatFloat(float64(d.Milliseconds()/100)/10, 'f', 1, 64) + " s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 100*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	default:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
}

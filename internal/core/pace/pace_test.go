package pace

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
)

var began = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

func after(seconds float64) time.Time {
	return began.Add(time.Duration(seconds * float64(time.Second)))
}

func seconds(all ...float64) []time.Duration {
	var out []time.Duration
	for _, s := range all {
		out = append(out, time.Duration(s*float64(time.Second)))
	}
	return out
}

func TestUsualIsMedianAndPercentile(t *testing.T) {
	var hundred []time.Duration
	for i := range 100 {
		hundred = append(hundred, time.Duration(100-i)*time.Second)
	}
	for _, c := range []struct {
		took  []time.Duration
		want  Usual
		words string
	}{
		{nil, Usual{}, ""},
		{seconds(14), Usual{Times: 1, Median: 14 * time.Second, High: 14 * time.Second, Longest: 14 * time.Second}, "14 s the time before"},
		{seconds(30, 10, 20), Usual{Times: 3, Median: 20 * time.Second, High: 30 * time.Second, Longest: 30 * time.Second}, "usually 20 s, at most 30 s (3 times)"},
		{hundred, Usual{Times: 100, Median: 50 * time.Second, High: 95 * time.Second, Longest: 100 * time.Second}, "usually 50 s, at most 1 min 40 s (100 times)"},
	} {
		if got := Of(c.took); got != c.want || got.Words() != c.words {
			t.Errorf("%d durations: %+v %q, want %+v %q", len(c.took), got, got.Words(), c.want, c.words)
		}
	}
	if u := Of(nil).Or(time.Minute); !u.Said || u.Words() != "its kit says 1 min 0 s" || u.Limit() != 2*time.Minute {
		t.Errorf("what a kit says: %+v, %q, slow after %s", u, u.Words(), u.Limit())
	}
	if u := Of(seconds(3)).Or(time.Minute); u.Said {
		t.Errorf("what was seen counts for more than what a kit says: %+v", u)
	}
}

// TestSlowIsNotStuck tells the two apart by their signs, one after the other.
func TestSlowIsNotStuck(t *testing.T) {
	known := Of(seconds(12, 13, 14, 14, 15, 16, 22))
	moving := func(at float64) *field.Reading {
		return &field.Reading{Value: 4 << 20, Unit: "bytes", Lag: true, Pace: -(1 << 20), At: after(at), Moved: after(at)}
	}
	still := func(since float64) *field.Reading {
		return &field.Reading{Value: 40, Unit: "entries", Lag: true, At: after(100), Moved: after(since)}
	}
	for name, c := range map[string]struct {
		at    float64
		usual Usual
		signs Signs
		word  Word
		says  []string
		left  time.Duration
	}{
		"young":                              {at: 4, usual: known, word: AsUsual, left: 10 * time.Second},
		"beyond the median":                  {at: 20, usual: known, word: AsUsual, left: 2 * time.Second},
		"long, and nothing is known of it":   {at: 41, usual: known, word: Slow, says: []string{"usually 14 s, at most 22 s (7 times)"}},
		"long, and it writes":                {at: 41, usual: known, signs: Signs{Wrote: after(40), Worked: after(2)}, word: Slow, says: []string{"its log grew 1.0 s ago", "its processor has been idle for 39 s"}},
		"long, and it works":                 {at: 41, usual: known, signs: Signs{Wrote: after(2), Worked: after(39)}, word: Slow, says: []string{"its log has been silent for 39 s", "it used the processor 2.0 s ago"}},
		"long, silent and idle":              {at: 41, usual: known, signs: Signs{Wrote: after(11), Worked: after(9)}, word: Stuck, says: []string{"its log has been silent for 30 s", "its processor has been idle for 32 s"}},
		"silent since before it began":       {at: 41, usual: known, signs: Signs{Wrote: after(-300), Worked: after(-300)}, word: Stuck, says: []string{"its log has been silent for 41 s"}},
		"long, and it comes on":              {at: 41, usual: known, signs: Signs{Wrote: after(1), Worked: after(1), Gauge: moving(41)}, word: Slow, says: []string{"4 MiB behind, 1 MiB less a second, 4.0 s left"}, left: 4 * time.Second},
		"long, busy, and it stays behind":    {at: 100, usual: known, signs: Signs{Wrote: after(60), Worked: after(100), Gauge: still(50)}, word: Stuck, says: []string{"40 entries behind, unchanged for 50 s"}},
		"stays behind, and writes":           {at: 100, usual: known, signs: Signs{Wrote: after(99), Worked: after(100), Gauge: still(50)}, word: Slow},
		"never seen before":                  {at: 30, word: AsUsual, says: []string{"never seen here before"}},
		"never seen before, long":            {at: 70, signs: Signs{Wrote: after(69), Worked: after(69)}, word: Slow},
		"never seen before, silent and idle": {at: 45, signs: Signs{Wrote: after(1), Worked: after(1)}, word: Stuck},
		"short things are never slow":        {at: 4, usual: Of(seconds(0.1, 0.1)), signs: Signs{Wrote: after(0), Worked: after(0)}, word: AsUsual},
		"a clock that went back":             {at: -5, usual: known, word: AsUsual, left: 14 * time.Second},
	} {
		j := Judge(began, after(c.at), c.usual, c.signs)
		if j.Word != c.word {
			t.Errorf("%s: %s, want %s (%v)", name, j.Word, c.word, j.Evidence)
		}
		for _, want := range c.says {
			if !strings.Contains(j.Told(), want) {
				t.Errorf("%s: %q does not say %q", name, j.Told(), want)
			}
		}
		if c.left != j.Left && (c.left > 0 || j.Left > 0) {
			t.Errorf("%s: %s left, want %s", name, j.Left, c.left)
		}
	}
}

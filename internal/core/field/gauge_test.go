package field

import (
	"testing"
	"time"
)

func TestWhatWasReadIsSaid(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for _, test := range []struct {
		r    Reading
		want string
	}{
		{Reading{Value: 5 << 20, Unit: "bytes", Pace: 1 << 20, Moved: now}, "5 MiB so far, 1 MiB a second"},
		{Reading{Value: 5 << 20, Unit: "bytes", Moved: now.Add(-30 * time.Second)}, "5 MiB so far, unchanged for 30 s"},
		{Reading{Value: 3, Unit: "steps", Moved: now}, "3 steps so far"},
		{Reading{Lag: true, Unit: "bytes", Moved: now.Add(-time.Hour)}, "nothing behind"},
		{Reading{Value: 40, Lag: true, Unit: "entries", Pace: -8, Moved: now}, "40 entries behind, 8 entries less a second, 5.0 s left"},
		{Reading{Value: 40, Lag: true, Unit: "entries", Pace: 8, Moved: now}, "40 entries behind"},
		{Reading{Value: 40.25, Lag: true, Moved: now.Add(-11 * time.Second)}, "40.3 behind, unchanged for 11 s"},
	} {
		if got := test.r.Words(now); got != test.want {
			t.Errorf("%q, want %q", got, test.want)
		}
	}
	for most, beyond := range map[Text]bool{"": false, "10": false, "9": true, "1KiB": false} {
		g := Gauge{Most: most}
		if err := g.Beyond(10); (err != nil) != beyond {
			t.Errorf("10, where %q is the most: %v", most, err)
		}
	}
}

package fieldfile

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
)

const pinned = `# The ferries.
format: 1
field: saltmarsh
nodes:
  - {name: "gull-{1..4}"}   # four
roles:
  crews: {members: 2, program: {command: [x]}}   # two
  lookout:
    members:   1   # aligned
    program: {command: [x]}
`

func set(t *testing.T, text string, members int, pins ...field.NodeName) string {
	t.Helper()
	f, err := Parse("it.field.yaml", []byte(text), nil)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	data, err := f.Set(arrange.Change{Role: "crews", Members: members, Pins: pins})
	if err != nil {
		t.Fatalf("%v: %v\n%s", pins, err, text)
	}
	return string(data)
}

// TestPinsAreSplicedIn writes pins into files that are written in different ways: nothing else changes.
func TestPinsAreSplicedIn(t *testing.T) {
	for _, test := range []struct {
		place, want string
		pins        []field.NodeName
	}{
		{"", "place:\n  crews: [gull-1]\n", []field.NodeName{"gull-1"}},
		{"", "place:\n  crews: [gull-1, gull-2]\n", []field.NodeName{"gull-1", "gull-2"}},
		{"place:\n  crews: [gull-1, gull-2]  # by hand\n", "place:\n  crews: [gull-1, gull-3]  # by hand\n", []field.NodeName{"gull-1", "gull-3"}},
		{"place:\n  crews: [gull-1,  gull-2 ]  # by hand\n", "place:\n  crews: [gull-2 ]  # by hand\n", []field.NodeName{"gull-2"}},
		{"place:\n  crews: [gull-1, gull-2]  # by hand\n", "place:\n  crews: [gull-1]  # by hand\n", []field.NodeName{"gull-1"}},
		{"place:\n  crews: [gull-1]\n", "", nil},
		{"place:\n  crews: [gull-1]\n  lookout: [gull-4]   # high\n", "place:\n  lookout: [gull-4]   # high\n", nil},
		{"place:\n  # why\n  lookout: [gull-4]   # high\n", "place:\n  # why\n  lookout: [gull-4]   # high\n  crews: [gull-2]\n", []field.NodeName{"gull-2"}},
		{"place:\n  crews:\n    - gull-1   # dry\n    - gull-2\n", "place:\n  crews:\n    - gull-1   # dry\n    - gull-3\n", []field.NodeName{"gull-1", "gull-3"}},
		{"place:\n  crews:\n  - gull-1   # dry\n", "place:\n  crews:\n  - gull-1   # dry\n  - gull-1\n", []field.NodeName{"gull-1", "gull-1"}},
		{"place: {lookout: [gull-4]}\n", "place: {lookout: [gull-4], crews: [gull-2]}\n", []field.NodeName{"gull-2"}},
		{"place: {crews: [gull-4]} # x\n", "place: {crews: []} # x\n", nil},
		{"place: {crews: []} # x\n", "place: {crews: [gull-1]} # x\n", []field.NodeName{"gull-1"}},
		{"place: # x\n  # why\n  crews: [gull-4]\n", "place: # x\n  # why\n  crews: []\n", nil},
	} {
		if got := set(t, pinned+test.place, 2, test.pins...); got != pinned+test.want {
			t.Errorf("%q with %v: got\n%s\nwant\n%s", test.place, test.pins, strings.TrimPrefix(got, pinned), test.want)
		}
	}
	counted := set(t, pinned, 3, "gull-1")
	if counted != strings.Replace(pinned, "members: 2", "members: 3", 1)+"place:\n  crews: [gull-1]\n" {
		t.Errorf("count and pin:\n%s", counted)
	}
	if crlf := set(t, strings.ReplaceAll(pinned, "\n", "\r\n"), 3); crlf != strings.ReplaceAll(strings.Replace(pinned, "members: 2", "members: 3", 1), "\n", "\r\n") {
		t.Errorf("lines that end in CR LF: %q", crlf)
	}
	if bare := set(t, strings.TrimSuffix(pinned, "\n"), 2, "gull-1"); bare != pinned+"place:\n  crews: [gull-1]\n" {
		t.Errorf("no end of the last line: %q", bare)
	}
}

// TestRandomPins edits at random and reads back; comments are always still there.
func TestRandomPins(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, place := range []string{"", "place:\n  lookout: [gull-1] # keep\n", "place:\n  crews:\n    - gull-1 # keep\n", "place: {crews: [gull-1, gull-2]} # keep\n"} {
		text := pinned + place
		for step := range 60 {
			pins := make([]field.NodeName, r.IntN(4))
			for i := range pins {
				pins[i] = field.NodeName(fmt.Sprintf("gull-%d", 1+r.IntN(4)))
			}
			text = set(t, text, len(pins)+r.IntN(3), pins...)
			f, err := Parse("it.field.yaml", []byte(text), nil)
			if err != nil || !samePins(f.Field.Place["crews"], pins) {
				t.Fatalf("step %d, %v: %v\n%s", step, pins, err, text)
			}
			for _, comment := range []string{"# The ferries.", "# four", "# two", "members:   1   # aligned"} {
				if !strings.Contains(text, comment) {
					t.Fatalf("step %d: %q is gone:\n%s", step, comment, text)
				}
			}
		}
		if slices.Contains(strings.Split(text, "\n"), "place:") && strings.Contains(place, "lookout") && !strings.Contains(text, "# keep") {
			t.Errorf("somebody else's pins went:\n%s", text)
		}
	}
}

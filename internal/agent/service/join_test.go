package service

import (
	"net/netip"
	"strings"
	"testing"
)

func TestWhatAMachineCallsItselfMayStandInALine(t *testing.T) {
	for name, want := range map[string]string{"gull-1": "gull-1", "gull-1.quay.example": "gull-1", "": "machine", "\x1b[31m": "31m", "räuber": "ruber", strings.Repeat("x", 200): strings.Repeat("x", 40)} {
		if got := plainName(name); got != want {
			t.Errorf("%q is called %q; want %q", name, got, want)
		}
	}
	from := netip.MustParseAddr("127.0.0.1")
	if a, b := thisMachine(from), thisMachine(from); a != b {
		t.Errorf("the same machine is %s and %s", a, b)
	}
}

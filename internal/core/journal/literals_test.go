package journal

import (
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestWhatAPatternAlwaysHas names what must stand in what patterns fit, and holds it against what they fit.
func TestWhatAPatternAlwaysHas(t *testing.T) {
	for _, x := range []struct {
		pattern, fits string
		want          []string
	}{
		{`time[d ]?out after \d+ ms`, "Timeout After 30 ms", []string{"time", "out", "after"}},
		{`adr[i]ft`, "ADRIFT", []string{"adrift"}},
		{`(lost|gave) touch`, "gave touch", []string{"touch"}},
		{`lost|gave`, "lost", nil},
		{`(refused)+`, "refusedrefused", []string{"refu"}},
		{`(refused)*`, "", nil},
		{`(?:refu){2,}`, "refurefu", []string{"refu"}},
		{`(?:refu){0,2}`, "", nil},
		{`connections`, "CONNECTION\u017f", []string{"connection"}},
		{`kilo`, "\u212ailo", []string{"ilo"}},
		{`a/bcd="efg"`, `A/BCD="EFG"`, []string{"bcd", "efg"}},
		{`^\S+ gone$`, "crews-1 gone", []string{"gone"}},
		{`(`, "", nil},
		{`..`, "ab", nil},
	} {
		got := literalsOf(x.pattern)
		if !slices.Equal(got, x.want) {
			t.Errorf("%s always has %q, want %q", x.pattern, got, x.want)
		}
		re, err := regexp.Compile("(?i)" + x.pattern)
		if err != nil {
			continue
		}
		if !re.MatchString(x.fits) {
			t.Errorf("%s does not fit %s", x.pattern, x.fits)
		}
		for _, part := range got {
			if !strings.Contains(strings.ToLower(x.fits), part) {
				t.Errorf("%s fits %s, which has no %q", x.pattern, x.fits, part)
			}
		}
	}
	if got := Parse(`-/adrift/ /oars lost/ tide`, Names{}).Literals(); !slices.Equal(got, []string{"oar", "tide"}) {
		t.Errorf("a filter must have %q", got)
	}
}

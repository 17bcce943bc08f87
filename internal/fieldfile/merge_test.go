package fieldfile

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestTwoPeopleChangeOneFile(t *testing.T) {
	for _, test := range []struct{ name, base, mine, theirs, keep, take string }{
		{"different lines", "a b c d", "A b c d", "a b c D", "A b c D", "A b c D"},
		{"the same change", "a b c", "a X c", "a X c", "a X c", "a X c"},
		{"the same line", "a b c", "a X c", "a Y c", "a Y c", "a X c"},
		{"one inserts, one changes elsewhere", "a b c d", "a b i c d", "A b c d", "A b i c d", "A b i c d"},
		{"both append", "a b", "a b m", "a b t", "a b t", "a b m"},
		{"one deletes what the other changes", "a b c d", "a d", "a b C d", "a b C d", "a d"},
		{"neighbours", "a b", "A b", "a B", "A B", "A B"},
		{"several hunks that hang together", "a b c d e f", "a B c d E f", "a x y z f", "a x y z f", "a B c d E f"},
		{"only they", "a b", "a b", "x", "x", "x"},
	} {
		lines := func(s string) []byte { return []byte(strings.ReplaceAll(s, " ", "\n") + "\n") }
		for _, keep := range []bool{true, false} {
			want := test.take
			if keep {
				want = test.keep
			}
			got, conflicts := Merge(lines(test.base), lines(test.mine), lines(test.theirs), keep)
			if string(got) != string(lines(want)) || (len(conflicts) > 0) != (test.keep != test.take) {
				t.Errorf("%s, keep %v: got %q, %v", test.name, keep, got, conflicts)
			}
		}
	}
}

// TestMergesOfRandomChanges changes different lines on both sides: each change must be in the result.
func TestMergesOfRandomChanges(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		base, mine, theirs, want := []string{}, []string{}, []string{}, []string{}
		for i := range 30 {
			line := fmt.Sprintf("line %d\n", i%7)
			m, o, w := line, line, line
			switch r.IntN(8) {
			case 0:
				m = fmt.Sprintf("mine %d\n", i)
				w = m
			case 1:
				o = fmt.Sprintf("theirs %d\n", i)
				w = o
			}
			keep := fmt.Sprintf("between %d\n", i) // so that changes do not touch
			base, mine, theirs, want = append(base, line, keep), append(mine, m, keep), append(theirs, o, keep), append(want, w, keep)
		}
		join := func(s []string) []byte { return []byte(strings.Join(s, "")) }
		got, conflicts := Merge(join(base), join(mine), join(theirs), true)
		if string(got) != string(join(want)) || len(conflicts) > 0 {
			t.Fatalf("%v\ngot\n%s\nwant\n%s", conflicts, got, join(want))
		}
		if back, _ := Merge(join(mine), join(base), got, true); string(back) != string(join(theirs)) {
			t.Fatal("undoing one's own change did not leave theirs alone")
		}
	}
}

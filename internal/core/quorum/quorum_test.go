package quorum

import "testing"

func TestAnEvenNumberOfVotersSurvivesNoMore(t *testing.T) {
	for _, test := range []struct{ voters, needed, tolerates int }{
		{0, 0, 0}, {1, 1, 0}, {2, 2, 0}, {3, 2, 1}, {4, 3, 1}, {5, 3, 2}, {6, 4, 2}, {7, 4, 3},
	} {
		if got := Needed(test.voters); got != test.needed {
			t.Errorf("%d voters need %d, want %d", test.voters, got, test.needed)
		}
		if got := Tolerates(test.voters); got != test.tolerates {
			t.Errorf("%d voters tolerate %d, want %d", test.voters, got, test.tolerates)
		}
	}
}

// TestTwoMajoritiesAlwaysMeet is why a majority is enough: no two of them can decide apart from each other.
func TestTwoMajoritiesAlwaysMeet(t *testing.T) {
	for n := 1; n <= 10; n++ {
		for a := range 1 << n {
			for b := range 1 << n {
				if ones(a) >= Needed(n) && ones(b) >= Needed(n) && a&b == 0 {
					t.Fatalf("of %d voters, %b and %b are both majorities", n, a, b)
				}
			}
		}
	}
}

func ones(x int) (n int) {
	for ; x > 0; x &= x - 1 {
		n++
	}
	return n
}

func TestSurvives(t *testing.T) {
	for _, test := range []struct{ voters, ready, want int }{{3, 3, 1}, {3, 2, 0}, {3, 1, -1}, {5, 4, 1}, {0, 0, -1}, {1, 1, 0}} {
		if got := Survives(test.voters, test.ready); got != test.want {
			t.Errorf("%d of %d ready survive %d, want %d", test.ready, test.voters, got, test.want)
		}
	}
}

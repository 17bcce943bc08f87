package floating

import (
	"testing"
	"time"

	"lanternfield/internal/core/lease"
)

func TestWhatAHolderDoesNext(t *testing.T) {
	const lasts = 4 * time.Second
	holds := func(change func(*Seen)) Seen {
		s := Seen{Ready: true, Known: true, Mine: true, Holds: true, Left: 3 * time.Second, Renewed: 100 * time.Millisecond, Lasts: lasts}
		change(&s)
		return s
	}
	waits := func(change func(*Seen)) Seen {
		s := Seen{Ready: true, Known: true, Lasts: lasts}
		change(&s)
		return s
	}
	for name, x := range map[string]struct {
		in   Seen
		want Act
	}{
		"it holds it":                                    {holds(func(*Seen) {}), Wait},
		"a quarter of the time has passed":               {holds(func(s *Seen) { s.Renewed = time.Second }), Renew},
		"the store was not heard lately":                 {holds(func(s *Seen) { s.Known, s.Renewed = false, time.Second }), Renew},
		"the member does its work no more":               {holds(func(s *Seen) { s.Ready, s.Renewed = false, time.Second }), Lay},
		"the member goes":                                {holds(func(s *Seen) { s.Ends = true }), Lay},
		"its time is over":                               {holds(func(s *Seen) { s.Left = 0 }), Lost},
		"its time is over and the member goes":           {holds(func(s *Seen) { s.Left, s.Ends = 0, true }), Lost},
		"another holds it":                               {holds(func(s *Seen) { s.Mine = false }), Lost},
		"it is said that another did, a while ago":       {holds(func(s *Seen) { s.Mine, s.Known = false, false }), Wait},
		"nobody holds it":                                {waits(func(s *Seen) { s.Free = true }), Take},
		"nobody holds it, and the member is not ready":   {waits(func(s *Seen) { s.Free, s.Ready = true, false }), Wait},
		"nobody holds it, and the member goes":           {waits(func(s *Seen) { s.Free, s.Ends = true, true }), Wait},
		"nobody held it a while ago":                     {waits(func(s *Seen) { s.Free, s.Known = true, false }), Wait},
		"another does":                                   {waits(func(*Seen) {}), Wait},
		"an earlier life does":                           {waits(func(s *Seen) { s.Mine = true }), Adopt},
		"an earlier life does, and it is not ready":      {waits(func(s *Seen) { s.Mine, s.Ready = true, false }), Wait},
		"an earlier life did when it was heard of, once": {waits(func(s *Seen) { s.Mine, s.Known = true, false }), Wait},
	} {
		if got := Next(x.in); got != x.want {
			t.Errorf("%s: %s, want %s", name, got, x.want)
		}
	}
}

// TestTheSystemTakesAnAddressAwayBeforeItsLeaseEnds goes through leases of every length, renewed late by all that is allowed: the system, which counts in seconds and is late
// itself, has taken the address away before anybody else can have the lease; and it is there from one renewal to the next, one of which fails.
func TestTheSystemTakesAnAddressAwayBeforeItsLeaseEnds(t *testing.T) {
	for lasts := 3 * time.Second; lasts <= time.Minute; lasts += 100 * time.Millisecond {
		for used := time.Duration(0); used < lasts; used += 50 * time.Millisecond { // between asking and having it
			left := lease.Deadline(0, lasts) - used
			life := Lifetime(left)
			if life == 0 {
				continue
			}
			if life%time.Second != 0 || used+life+late > lasts {
				t.Fatalf("a lease of %s, had %s after it was asked for: the address is there for %s", lasts, used, life)
			}
		}
		if next := 2 * lasts / RenewedBy; Lifetime(lease.Deadline(0, lasts)) < next-lasts/RenewedBy {
			t.Errorf("a lease of %s: the address is gone before the second renewal", lasts)
		}
	}
	if Lifetime(1500*time.Millisecond) != 0 || Lifetime(1600*time.Millisecond) != time.Second || Lifetime(-time.Second) != 0 {
		t.Error("what is too short to have an address at all")
	}
}

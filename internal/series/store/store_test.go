package store

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/series/chunk"
)

var begin = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func open(t testing.TB, dir string, l Limits) *Store {
	t.Helper()
	s, err := Open(dir, l)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// live writes what a number of members measure every five seconds, as a keeper does: written once a minute, tidied once an hour.
func live(t testing.TB, s *Store, members int, from, to time.Time) {
	t.Helper()
	random := rand.New(rand.NewPCG(1, 2))
	for at := from; at.Before(to); at = at.Add(5 * time.Second) {
		for m := range members {
			s.Add(key(m), at, 100+float64(m)+math.Sin(at.Sub(begin).Hours())+random.Float64()/10)
		}
		if at.Second() == 0 {
			if err := s.Flush(at); err != nil {
				t.Fatal(err)
			}
		}
		if at.Minute() == 5 && at.Second() == 0 {
			if err := s.Tidy(at); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func key(m int) string { return fmt.Sprintf("member/crews-%d/latency", m+1) }

func truth(m int, at time.Time) float64 {
	return 100 + float64(m) + math.Sin(at.Sub(begin).Hours()) + 0.05
}

// near checks that a summary is what was written, without holes in between.
func near(t *testing.T, what string, s *Store, m int, from, to time.Time, n int) {
	t.Helper()
	got := s.Summaries([]string{key(m)}, from, to, n)[0]
	for i, b := range got {
		at := from.Add(to.Sub(from) * time.Duration(2*i+1) / time.Duration(2*n))
		if b.N == 0 {
			t.Errorf("%s: nothing at %s", what, at.Format("15:04:05"))
			return
		}
		span := to.Sub(from).Hours() / float64(n)
		if want := truth(m, at); math.Abs(b.Mean-want) > 0.1+span || b.Min > b.Mean || b.Max < b.Mean || b.Max-b.Min > 0.2+2*span {
			t.Errorf("%s: %+v at %s, want about %.2f", what, b, at.Format("15:04:05"), want)
			return
		}
	}
}

// TestADayIsKept lives through a day and a bit: every span shows what was measured, by points or by means, and two to three bytes hold a point.
func TestADayIsKept(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, Limits{Raw: 20 * time.Hour})
	end := begin.Add(26*time.Hour + 20*time.Minute)
	live(t, s, 3, begin, end)
	near(t, "the last ten minutes", s, 1, end.Add(-10*time.Minute), end, 60)
	near(t, "an hour of long ago", s, 2, begin.Add(7*time.Hour), begin.Add(8*time.Hour), 100)
	near(t, "an hour of which there are means only", s, 0, begin.Add(2*time.Hour), begin.Add(3*time.Hour), 50)
	near(t, "all of it", s, 1, begin, end, 200)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir, Limits{Raw: 20 * time.Hour})
	near(t, "all of it, opened again", s, 1, begin, end, 200)
	if keys := s.Keys(begin); len(keys) != 3 || keys[0] != key(0) {
		t.Errorf("the series are %q", keys)
	}
	if lost := s.Lost(); len(lost) > 0 {
		t.Errorf("lost: %v", lost)
	}
	samples := 3 * (20 * 720)
	if per := float64(s.Size()) / float64(samples); per > 3 {
		t.Errorf("%.2f bytes a point", per)
	} else {
		t.Logf("%.2f bytes a point, means included", per)
	}
	raw, means := 0, 0
	for _, g := range s.segments() {
		if g.raw {
			raw++
		} else {
			means++
		}
	}
	if raw > 23 || means > 12 { // of the day that goes on there is one an hour
		t.Errorf("%d files of hours and %d of days", raw, means)
	}
}

// TestTooMuchGoes keeps within a bound of bytes: single points go before the means.
func TestTooMuchGoes(t *testing.T) {
	s := open(t, t.TempDir(), Limits{Bytes: 100 << 10})
	end := begin.Add(12 * time.Hour)
	live(t, s, 5, begin, end)
	if err := s.Tidy(end); err != nil {
		t.Fatal(err)
	}
	if size := s.Size(); size > 100<<10 {
		t.Errorf("it has %d bytes", size)
	}
	near(t, "the first hours", s, 1, begin, begin.Add(4*time.Hour), 50)
	near(t, "the last hour", s, 1, end.Add(-time.Hour), end, 50)
}

// TestDamageIsPassedOver cuts and spoils a file at every place, a byte at a time: it is opened as far as it goes, what is lost is said, and what is
// written afterwards is kept.
func TestDamageIsPassedOver(t *testing.T) {
	whole := t.TempDir()
	s := open(t, whole, Limits{})
	live(t, s, 2, begin, begin.Add(10*time.Minute))
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	name := s.segments()[0].name
	data, err := os.ReadFile(filepath.Join(whole, name))
	if err != nil {
		t.Fatal(err)
	}
	at := begin.Add(20 * time.Minute)
	for i := 0; i < len(data); i += 1 + len(data)/400 {
		for kind, spoiled := range map[string][]byte{"cut": data[:i], "spoiled": append(append(bytes.Clone(data[:i]), data[i]^0x55), data[i+1:]...)} {
			dir := t.TempDir()
			if err := os.WriteFile(filepath.Join(dir, name), spoiled, 0o600); err != nil {
				t.Fatal(err)
			}
			s := open(t, dir, Limits{})
			n := 0
			for _, b := range s.Summaries([]string{key(0)}, begin, begin.Add(10*time.Minute), 120)[0] {
				if n += b.N; b.N > 0 && (b.Mean < 98 || b.Mean > 103) {
					t.Fatalf("%s at %d: it says %+v", kind, i, b)
				}
			}
			if n > 120 || i > len(data)/2 && n < 30 {
				t.Errorf("%s at %d of %d: %d points of 120 are read", kind, i, len(data), n)
			}
			x, err := read(filepath.Join(dir, name))
			if err != nil {
				t.Fatal(err)
			}
			if lost := s.Lost(); len(lost) == 0 && n < 120 && !(kind == "cut" && x.lost == 0) { // cut between two records it is whole
				t.Errorf("%s at %d: %d points of 120, and nothing is said to be lost", kind, i, n)
			}
			s.Add(key(0), at, 100)
			if err := s.Flush(at); err != nil {
				t.Fatal(err)
			}
			if b := s.Summaries([]string{key(0)}, at.Add(-time.Second), at.Add(time.Second), 1)[0][0]; b.N != 1 {
				t.Errorf("%s at %d: what was written afterwards is not there", kind, i)
			}
			if err := s.Tidy(begin.Add(3 * time.Hour)); err != nil {
				t.Fatal(err)
			}
			if b := s.Summaries([]string{key(0)}, at.Add(-time.Minute), at.Add(time.Minute), 1)[0][0]; b.N == 0 {
				t.Errorf("%s at %d: what was written afterwards did not outlive the packing", kind, i)
			}
			_ = s.Close()
		}
	}
}

// TestDeathInThePackingLosesNothing leaves behind what a process leaves that ends while it packs.
func TestDeathInThePackingLosesNothing(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir, Limits{})
	live(t, s, 2, begin, begin.Add(50*time.Minute))
	_ = s.Close()
	if err := os.WriteFile(filepath.Join(dir, "raw-20261120T08-p.seg.new"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir, Limits{})
	if err := s.Tidy(begin.Add(2 * time.Hour)); err != nil {
		t.Fatal(err)
	}
	near(t, "after another packing", s, 1, begin, begin.Add(50*time.Minute), 50)
	names, _ := filepath.Glob(filepath.Join(dir, "*"))
	if strings.Contains(strings.Join(names, " "), ".new") {
		t.Errorf("left behind: %v", names)
	}
}

// TestGapsStayGaps has a hole in a series, and values that are none.
func TestGapsStayGaps(t *testing.T) {
	s := open(t, t.TempDir(), Limits{})
	s.Add("a", begin, 1)
	s.Add("a", begin.Add(5*time.Second), math.NaN())
	s.Add("a", begin.Add(30*time.Second), 3)
	s.Add("a", begin.Add(20*time.Second), 9) // late
	for i, b := range s.Summaries([]string{"a"}, begin, begin.Add(40*time.Second), 4)[0] {
		if want := []int{1, 0, 0, 1}[i]; b.N != want {
			t.Errorf("part %d has %d points, want %d", i, b.N, want)
		}
	}
	if b := s.Summaries([]string{"none"}, begin, begin.Add(time.Minute), 1)[0][0]; b.N != 0 {
		t.Errorf("of what nobody measured there is %+v", b)
	}
}

// BenchmarkAMonthOfTenSeries is what a chart over thirty days reads.
func BenchmarkAMonthOfTenSeries(b *testing.B) {
	dir := b.TempDir()
	s := open(b, dir, Limits{})
	random := rand.New(rand.NewPCG(1, 2))
	for day := range 30 {
		w, err := s.fresh("min-" + begin.AddDate(0, 0, day-30).Format(dayForm))
		if err != nil {
			b.Fatal(err)
		}
		for m := range 10 {
			var c chunk.Chunk
			for i := range 1440 {
				c.Add(begin.AddDate(0, 0, day-30).Truncate(24*time.Hour).Add(time.Duration(i)*time.Minute).UnixMilli(), 100+random.NormFloat64())
			}
			for _, suffix := range []string{"", leastOf, mostOf} {
				if err := w.chunk(key(m)+suffix, &c); err != nil {
					b.Fatal(err)
				}
			}
		}
		if err := w.close(); err != nil {
			b.Fatal(err)
		}
	}
	keys := make([]string, 10)
	for m := range keys {
		keys[m] = key(m)
	}
	b.ReportMetric(float64(s.Size()), "bytes")
	for b.Loop() {
		s.Summaries(keys, begin.AddDate(0, 0, -30), begin, 300)
	}
}

// BenchmarkTenOfManySeries draws ten of three thousand series over two hours that are packed.
func BenchmarkTenOfManySeries(b *testing.B) {
	dir := b.TempDir()
	s, err := Open(dir, Limits{})
	if err != nil {
		b.Fatal(err)
	}
	live(b, s, 3000, begin, begin.Add(2*time.Hour))
	if err := errors.Join(s.Tidy(begin.Add(4*time.Hour)), s.Close()); err != nil {
		b.Fatal(err)
	}
	var keys []string
	for m := range 10 {
		keys = append(keys, key(m*300))
	}
	for b.Loop() {
		s := OpenToRead(dir, Limits{})
		if got := s.Summaries(keys, begin, begin.Add(2*time.Hour), 300); got[9][100].N == 0 {
			b.Fatal("nothing is there")
		}
	}
}

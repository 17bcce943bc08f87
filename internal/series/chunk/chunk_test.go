package chunk

import (
	"math"
	"math/rand/v2"
	"testing"
)

func all(t *testing.T, data []byte) []Point {
	t.Helper()
	var out []Point
	if err := Each(data, func(p Point) bool { out = append(out, p); return true }); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestPointsComeBack packs numbers of every kind at every pace, and has them back as exactly as is promised.
func TestPointsComeBack(t *testing.T) {
	values := []float64{0, 1, -1, 0.1, 1e-300, -1e300, math.MaxFloat64, math.SmallestNonzeroFloat64, math.Inf(1), math.Inf(-1), math.NaN(), 4096, 4097, 1 << 40, math.Copysign(0, -1)}
	random := rand.New(rand.NewPCG(3, 4))
	for range 3000 {
		values = append(values, random.NormFloat64()*math.Pow(10, float64(random.IntN(40)-20)))
	}
	var c Chunk
	at := int64(1795788000000)
	var want []Point
	for i, v := range values {
		at += []int64{5000, 5000, 5000, 1, 4999, 3600000}[i%6]
		if !c.Add(at, v) {
			t.Fatalf("a point that comes later is refused: %d", at)
		}
		want = append(want, Point{at, v})
	}
	if c.Add(at, 7) || c.Add(at-1, 7) {
		t.Error("a point that is not later is taken")
	}
	got := all(t, c.Bytes())
	if len(got) != len(want) || c.Len() != len(want) || c.First() != want[0].T || c.Last() != at {
		t.Fatalf("%d points of %d", len(got), len(want))
	}
	for i, p := range got {
		w := want[i]
		exact := p.V == w.V || p.V != p.V && w.V != w.V
		if p.T != w.T || !exact && math.Abs(p.V-w.V) > math.Abs(w.V)/8192+math.SmallestNonzeroFloat64*math.Exp2(40) {
			t.Fatalf("point %d: %v, want %v", i, p, w)
		}
		if math.IsInf(p.V, 0) != math.IsInf(w.V, 0) {
			t.Fatalf("point %d: %v became %v", i, w.V, p.V)
		}
	}
}

// TestTwoBytesAPoint packs what members measure: a latency that trembles, a memory that grows, a counter of readies that stays.
func TestTwoBytesAPoint(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for name, c := range map[string]struct {
		next func(i int) float64
		most float64
	}{
		"latency": {func(int) float64 { return 0.8 * math.Exp(random.NormFloat64()/4) }, 2.3},
		"memory":  {func(i int) float64 { return 3e8 + 1e4*float64(i) }, 1.2},
		"ready":   {func(int) float64 { return 3 }, 1.05},
	} {
		var x Chunk
		for i := range 720 {
			x.Add(int64(i)*5000, c.next(i))
		}
		if per := float64(len(x.Bytes())) / 720; per > c.most {
			t.Errorf("%s: %.2f bytes a point, at most %.2f are expected", name, per, c.most)
		}
	}
}

// FuzzEach reads anything without falling over, and without running for ever.
func FuzzEach(f *testing.F) {
	var c Chunk
	for i := range 50 {
		c.Add(int64(i*i), float64(i))
	}
	f.Add(c.Bytes())
	f.Add([]byte{0x80})
	f.Fuzz(func(t *testing.T, data []byte) {
		n := 0
		_ = Each(data, func(Point) bool { n++; return n < 1<<20 })
		if n > len(data)+1 {
			t.Errorf("%d points out of %d bytes", n, len(data))
		}
	})
}

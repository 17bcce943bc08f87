package series

import (
	"fmt"
	"testing"
	"time"
)

func ExampleRing() {
	latency := New[int](2)
	at := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	for i, ms := range []int{4, 7, 5} {
		latency.Add(at.Add(time.Duration(i)*time.Second), ms)
	}
	for _, p := range latency.After(at) {
		fmt.Println(p.At.Format("15:04:05"), p.Value)
	}
	// Output:
	// 12:00:01 7
	// 12:00:02 5
}

func TestARingForgetsTheOldest(t *testing.T) {
	begin := time.Unix(1000, 0)
	for _, most := range []int{1, 3, 10} {
		r := New[int](most)
		if _, ok := r.Last(); ok || len(r.After(time.Time{})) != 0 {
			t.Errorf("a ring of %d holds something before anything was added", most)
		}
		for n := 1; n <= 25; n++ {
			r.Add(begin.Add(time.Duration(n)*time.Second), n)
			last, ok := r.Last()
			if !ok || last.Value != n {
				t.Fatalf("ring of %d, after %d: the last is %v", most, n, last)
			}
			for after := 0; after <= n+1; after++ {
				got := r.After(begin.Add(time.Duration(after) * time.Second))
				want := max(0, n-max(after, n-most))
				if len(got) != want || want > 0 && (got[0].Value != n-want+1 || got[want-1].Value != n) {
					t.Fatalf("ring of %d, after %d, those above %d: %v", most, n, after, got)
				}
			}
		}
	}
}

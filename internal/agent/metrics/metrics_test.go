package metrics

import (
	"fmt"
	"io"
	"math"
	"strings"
	"testing"
	"time"
)

const page = `# HELP etcd_server_has_leader Whether a leader is known.
# TYPE etcd_server_has_leader gauge
etcd_server_has_leader 1
# TYPE sessions gauge
sessions{proxy="in",name="a } b \" c"} 3
sessions{proxy="out"} 4.5
sessions{proxy="broken"} NaN
sessions{proxy="endless"} +Inf
# TYPE errors counter
errors_total{code="5xx"} 7 1795788000000
errors_total{code="4xx"} 3 # {trace_id="x"} 1.0
# TYPE fsync histogram
fsync_bucket{le="0.1"} 8
fsync_bucket{le="+Inf"} 10
fsync_sum 0.5
fsync_count 10
# TYPE other counter
other_total 9
# EOF
`

func TestWhatIsWantedIsRead(t *testing.T) {
	got, cut, err := Read(strings.NewReader(page), []string{"etcd_server_has_leader", "sessions", "errors_total", "fsync", "nothing"})
	if err != nil || cut != "" {
		t.Fatal(err, cut)
	}
	want := map[string]Reading{"etcd_server_has_leader": {Value: 1}, "sessions": {Value: 7.5}, "errors_total": {Value: 10, Rises: true}, "fsync": {Value: 0.5, Count: 10, Means: true}}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

// TestCountersBeginAnew has a program start again: what it has counted since then counts, and nothing falls below zero.
func TestCountersBeginAnew(t *testing.T) {
	var f Follower
	at := time.Unix(1000, 0)
	take := func(seconds int, value float64) float64 {
		at = at.Add(time.Duration(seconds) * time.Second)
		out := f.Take(at, map[string]Reading{"x": {Value: value, Rises: true}})
		if v, ok := out["x"]; ok {
			return v
		}
		return math.NaN()
	}
	if v := take(0, 100); !math.IsNaN(v) {
		t.Errorf("after one reading it is said to rise by %v", v)
	}
	for i, c := range []struct{ value, want float64 }{{110, 1}, {110, 0}, {20, 2}, {0, 0}, {30, 3}} {
		if v := take(10, c.value); v != c.want {
			t.Errorf("%d: it rises by %v, want %v", i, v, c.want)
		}
	}
	f = Follower{}
	f.Take(at, map[string]Reading{"h": {Value: 1, Count: 10, Means: true}})
	if out := f.Take(at.Add(time.Second), map[string]Reading{"h": {Value: 3, Count: 14, Means: true}}); out["h"] != 0.5 {
		t.Errorf("the mean of what was added is %v", out["h"])
	}
	if out := f.Take(at.Add(2*time.Second), map[string]Reading{"h": {Value: 3, Count: 14, Means: true}}); len(out) != 0 {
		t.Errorf("nothing was added, and it says %v", out)
	}
}

// TestAPageWithoutEndIsBounded reads a hundred thousand series of which one is wanted, lines without end, rubbish, and a page that never ends.
func TestAPageWithoutEndIsBounded(t *testing.T) {
	var b strings.Builder
	for i := range 100000 {
		fmt.Fprintf(&b, "noise_%d{a=\"%d\"} %d\n", i, i, i)
	}
	got, cut, err := Read(strings.NewReader(b.String()+"wanted 4\n"), []string{"wanted"})
	if err != nil || cut != "" || got["wanted"].Value != 4 {
		t.Errorf("of a hundred thousand: %v %q %v", got, cut, err)
	}
	b.Reset()
	for i := range 30000 {
		fmt.Fprintf(&b, "wanted{a=\"%d\"} 1\n", i)
	}
	if got, cut, err = Read(strings.NewReader(b.String()), []string{"wanted"}); err != nil || !strings.Contains(cut, "of 30000 series that are wanted, 20000 are read") || got["wanted"].Value != 20000 {
		t.Errorf("too many that are wanted: %v %q %v", got, cut, err)
	}
	long := "wanted{a=\"" + strings.Repeat("x", 10<<20) + "\"} 1\nwanted 2\n"
	if got, cut, err = Read(strings.NewReader(long), []string{"wanted"}); err != nil || got["wanted"].Value != 2 || !strings.Contains(cut, "longer than 64 KiB") {
		t.Errorf("a line of 10 MiB: %v %q %v", got, cut, err)
	}
	if _, _, err = Read(strings.NewReader("wanted{a= \x00\xff\n"), []string{"wanted"}); err == nil || !strings.Contains(err.Error(), "cannot be read") {
		t.Errorf("rubbish: %v", err)
	}
	got, cut, err = Read(endless{}, []string{"wanted"})
	if err != nil || !strings.Contains(cut, "larger than 64 MiB") || len(got) != 0 {
		t.Errorf("a page without end: %v %q %v", got, cut, err)
	}
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	return copy(p, strings.Repeat("noise 1\n", len(p)/8+1)), nil
}

var _ io.Reader = endless{}

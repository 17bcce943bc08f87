package part

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// serving runs a part and gives its URL; the channel gets what its serving ended with.
func serving(t *testing.T, o Options) (*Part, string, context.CancelFunc, chan error) {
	t.Helper()
	o.Name, o.Listen = "thing-1", "127.0.0.1:0"
	p, err := New("thing", o)
	if err != nil {
		t.Fatal(err)
	}
	l, err := p.Listen()
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- p.Serve(ctx, l) }()
	t.Cleanup(cancel)
	return p, "http://" + l.Addr().String(), cancel, done
}

func TestHealthFollowsWhatThePartSays(t *testing.T) {
	p, url, _, _ := serving(t, Options{})
	if err := Call(t.Context(), http.DefaultClient, "GET", url+"/health", nil, nil); err == nil || err.Error() != "HTTP status 503: still starting" {
		t.Errorf("at first: %v", err)
	}
	p.ReadyWhen(func(context.Context) error { return nil })
	if err := Call(t.Context(), http.DefaultClient, "GET", url+"/health", nil, nil); err != nil {
		t.Errorf("ready: %v", err)
	}
}

func TestWantedFailures(t *testing.T) {
	if _, err := New("thing", Options{Fail: "at-start"}); err == nil || err.Error() != "told to fail at the start" {
		t.Errorf("at-start: %v", err)
	}
	if _, err := New("thing", Options{Fail: "sometimes"}); err == nil || !strings.Contains(err.Error(), "it is one of none, at-start") {
		t.Errorf("an unknown one: %v", err)
	}
	p, url, _, _ := serving(t, Options{Fail: "never-ready"})
	p.ReadyWhen(func(context.Context) error { return nil })
	if err := Call(t.Context(), http.DefaultClient, "GET", url+"/health", nil, nil); err == nil || !strings.Contains(err.Error(), "told never to be ready") {
		t.Errorf("never-ready: %v", err)
	}
	_, _, _, done := serving(t, Options{Fail: "after=20ms"})
	if err := <-done; err == nil || err.Error() != "told to fail 20ms after the start" {
		t.Errorf("after: %v", err)
	}
	_, _, cancel, done := serving(t, Options{})
	cancel()
	if err := <-done; err != nil {
		t.Errorf("asked to end: %v", err)
	}
}

func TestMeasuresAreOpenMetrics(t *testing.T) {
	p, url, _, _ := serving(t, Options{})
	p.Measure("jobs_total", func() float64 { return 3 })
	p.Measure("depth", func() float64 { return 1.5 })
	res, err := http.Get(url + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	page, _ := io.ReadAll(res.Body)
	for _, want := range []string{"# TYPE thing_depth gauge\nthing_depth 1.5\n", "# TYPE thing_jobs counter\nthing_jobs_total 3\n", "# EOF\n"} {
		if !strings.Contains(string(page), want) {
			t.Errorf("there is no %q in\n%s", want, page)
		}
	}
	if kind := res.Header.Get("Content-Type"); !strings.HasPrefix(kind, "application/openmetrics-text") {
		t.Errorf("content type %s", kind)
	}
}

func TestConfigIsReadAgainAndBadOnesAreLeftAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "c.json")
	write := func(text string) {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	p, _, _, _ := serving(t, Options{Config: file})
	got := make(chan []string, 9)
	use := func(c struct{ Peers []string }) { got <- c.Peers }
	if err := Configured(t.Context(), p, use); err == nil || !strings.Contains(err.Error(), "cannot be read") {
		t.Errorf("without a file: %v", err)
	}
	write(`{"peers": ["a"]}`)
	if err := Configured(t.Context(), p, use); err != nil || len(<-got) != 1 {
		t.Fatalf("at first: %v", err)
	}
	for _, text := range []string{`{"peers": [`, `{"peers": ["a", "b"]}`} {
		write(text)
		_ = syscall.Kill(os.Getpid(), syscall.SIGHUP)
		time.Sleep(50 * time.Millisecond)
	}
	select {
	case peers := <-got:
		if len(peers) != 2 {
			t.Errorf("got %v", peers)
		}
	case <-time.After(5 * time.Second):
		t.Error("the file was not read again")
	}
}

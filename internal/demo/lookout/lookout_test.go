package lookout

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/demo/part"
)

func TestMeasuresOfAPartAreRead(t *testing.T) {
	p, err := part.New("relay", part.Options{Name: "relays-1"})
	if err != nil {
		t.Fatal(err)
	}
	p.Measure("jobs_total", func() float64 { return 4 })
	p.Measure("peers", func() float64 { return 2 })
	w := httptest.NewRecorder()
	p.Mux.ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	got, err := Measures(w.Body)
	if err != nil || got["relay_jobs_total"] != 4 || got["relay_peers"] != 2 {
		t.Errorf("got %v, %v", got, err)
	}
	if _, err := Measures(strings.NewReader("not { measures")); err == nil || !strings.Contains(err.Error(), "its measures cannot be read") {
		t.Errorf("of something else: %v", err)
	}
}

func TestALookoutTellsWhoAnswers(t *testing.T) {
	p, err := part.New("lookout", part.Options{})
	if err != nil {
		t.Fatal(err)
	}
	well := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write([]byte("# TYPE it gauge\nit 1\n"))
	}))
	defer well.Close()
	l := &lookout{Part: p, http: &http.Client{Timeout: time.Second}}
	l.config.Store(&Config{Targets: map[string]string{"a": well.URL, "b": "http://127.0.0.1:1"}})
	l.look(t.Context())
	if l.up() != 1 || l.seen["a"].Measures["it"] != 1 || l.seen["b"].Error == "" {
		t.Errorf("got %+v", l.seen)
	}
	l.config.Store(&Config{Targets: map[string]string{"a": well.URL}})
	if l.look(t.Context()); len(l.seen) != 1 {
		t.Errorf("who is no target any more is still there: %+v", l.seen)
	}
}

package crew

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/demo/part"
	"lanternfield/internal/demo/relay"
)

// quay stands in for a relay and a warden, and notes in which order they are called.
type quay struct {
	*httptest.Server
	mu     sync.Mutex
	notes  []string
	jobs   []relay.Job
	sealed bool // the warden takes no writes
}

func newQuay(t *testing.T) *quay {
	q := &quay{}
	q.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		q.mu.Lock()
		defer q.mu.Unlock()
		switch {
		case r.URL.Path == "/jobs/next" && len(q.jobs) > 0:
			part.Answer(w, http.StatusOK, q.jobs[0])
			q.jobs = q.jobs[1:]
		case r.URL.Path == "/jobs/next":
			w.WriteHeader(http.StatusNoContent)
		case r.Method == http.MethodPut && q.sealed:
			part.Refuse(w, http.StatusServiceUnavailable, "nobody leads")
		default:
			q.notes = append(q.notes, strings.TrimSpace(fmt.Sprintf("%s %s %s", r.Method, r.URL.Path, body)))
		}
	}))
	t.Cleanup(q.Close)
	return q
}

func (q *quay) noted() string {
	q.mu.Lock()
	defer q.mu.Unlock()
	return strings.Join(q.notes, ", ")
}

func newCrew(t *testing.T, c Config) *crew {
	t.Helper()
	p, err := part.New("crew", part.Options{Name: "crews-1"})
	if err != nil {
		t.Fatal(err)
	}
	x := &crew{Part: p, http: &http.Client{Timeout: time.Second}}
	x.config.Store(&c)
	return x
}

func TestACrewIsReadyOnlyWhileItReachesBoth(t *testing.T) {
	q := newQuay(t)
	const nobody = "http://127.0.0.1:1"
	for _, test := range []struct {
		config Config
		want   string
	}{
		{Config{Relays: []string{nobody, q.URL}, Stores: []string{q.URL}}, ""},
		{Config{Relays: []string{nobody}, Stores: []string{q.URL}}, "no relay"},
		{Config{Relays: []string{q.URL}, Stores: []string{nobody}}, "no warden"},
		{Config{Relays: []string{q.URL}}, "no warden: none is known"},
	} {
		err := newCrew(t, test.config).reaches(t.Context())
		if (err == nil) != (test.want == "") || err != nil && !strings.HasPrefix(err.Error(), test.want) {
			t.Errorf("%+v: got %v, want %s", test.config, err, test.want)
		}
	}
}

func TestAResultIsRecordedBeforeTheJobIsDone(t *testing.T) {
	q := newQuay(t)
	q.jobs = []relay.Job{{ID: "r1.1", Body: "7=sell"}}
	go newCrew(t, Config{Relays: []string{q.URL}, Stores: []string{q.URL}}).work(t.Context())
	const want = "PUT /kv/jobs/7 crews-1 did sell, POST /jobs/r1.1/done"
	deadline := time.Now().Add(10 * time.Second)
	for q.noted() != want && time.Now().Before(deadline) {
		time.Sleep(5 * time.Millisecond)
	}
	if got := q.noted(); got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

func TestAResultThatCannotBeRecordedLeavesTheJobUndone(t *testing.T) {
	q := newQuay(t)
	q.sealed = true
	x := newCrew(t, Config{Relays: []string{q.URL}, Stores: []string{q.URL}})
	x.finish(t.Context(), q.URL, relay.Job{ID: "r1.1", Body: "7=sell"})
	if got := q.noted(); got != "" || x.did.Load() != 0 {
		t.Errorf("got %s, %d done", got, x.did.Load())
	}
}

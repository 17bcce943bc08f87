// Package relay is the demo's broker. Jobs wait in it until a worker takes them; a job that a worker took and did not
// finish in time is handed out again. A relay whose own queue is empty fetches for its workers from its peers, so that a
// worker may ask any relay. News go to all subscribers of all relays.
//
// Over HTTP:
//
//	POST /jobs                  the body is a job; answers with its id
//	GET  /jobs/next?wait=D      the next job {"id","body"}, or 204 when none came in time
//	POST /jobs/{id}/done        finishes a job
//	POST /news                  the body goes to all subscribers
//	GET  /news                  a stream of lines, one for each piece of news
//	GET  /health, /metrics
package relay

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/demo/part"
)

// Options are what a relay is started with.
type Options struct {
	part.Options
	DoneWithin time.Duration // a job that was taken and not finished by then is handed out again
}

// Config is a relay's config file.
type Config struct {
	Peers []string `json:"peers"` // URLs of the other relays
	Keeps string   `json:"keeps"` // how much may wait, such as 64MiB; without bounds when empty
}

// Job is something to do.
type Job struct {
	ID   string `json:"id"`
	Body string `json:"body"`
}

// How jobs are handed out.
const (
	longestWait = 20 * time.Second
	askPeers    = 100 * time.Millisecond // how often peers are asked while a worker waits
	mostNews    = 64                     // kept for a slow subscriber before it misses some
)

type relay struct {
	*part.Part
	within time.Duration
	http   *http.Client
	peers  atomic.Pointer[[]string]

	mu      sync.Mutex
	waiting []Job
	kept    int64 // bytes of the jobs that wait
	keeps   int64 // how many may
	taken   map[string]taken
	more    chan struct{} // closed when a job comes
	readers map[chan string]bool

	came, finished, news atomic.Int64
}

type taken struct {
	Job
	until time.Time
}

// Run is a relay from start to end.
func Run(ctx context.Context, o Options) error {
	return part.Run(ctx, "relay", o.Options, func(ctx context.Context, p *part.Part) error { return play(ctx, p, o) })
}

func play(ctx context.Context, p *part.Part, o Options) error {
	r := &relay{Part: p, within: o.DoneWithin, http: &http.Client{}, taken: map[string]taken{}, more: make(chan struct{}), readers: map[chan string]bool{}}
	if err := part.Configured(ctx, p, r.configure); err != nil {
		return err
	}
	l, err := p.Listen()
	if err != nil {
		return err
	}
	p.ReadyWhen(func(context.Context) error { return nil })
	r.routes(ctx)
	go r.again(ctx)
	return p.Serve(ctx, l)
}

func (r *relay) configure(c Config) {
	r.peers.Store(&c.Peers)
	most := int64(math.MaxInt64)
	if b, err := field.ParseBytes(c.Keeps); err == nil && c.Keeps != "" {
		most = int64(b)
	}
	r.mu.Lock()
	r.keeps = most
	r.mu.Unlock()
}

// full tells whether one more job of that size is too much.
func (r *relay) full(size int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.kept+int64(size) > r.keeps
}

func (r *relay) routes(life context.Context) {
	r.Mux.HandleFunc("POST /jobs", func(w http.ResponseWriter, q *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, q.Body, 1<<20))
		if err != nil {
			part.Refuse(w, http.StatusBadRequest, "the job cannot be read: %v", err)
			return
		}
		if r.full(len(body)) {
			part.Refuse(w, http.StatusServiceUnavailable, "%s is full; try another relay, or later", r.Name)
			return
		}
		id := make([]byte, 8)
		_, _ = rand.Read(id)
		j := Job{ID: r.Name + "." + hex.EncodeToString(id), Body: string(body)}
		r.came.Add(1)
		r.put(j)
		part.Answer(w, http.StatusCreated, map[string]string{"id": j.ID})
	})
	r.Mux.HandleFunc("GET /jobs/next", func(w http.ResponseWriter, q *http.Request) {
		wait, _ := time.ParseDuration(q.FormValue("wait"))
		ctx, cancel := context.WithTimeout(q.Context(), min(wait, longestWait))
		defer cancel()
		stop := context.AfterFunc(life, cancel)
		defer stop()
		if j, ok := r.next(ctx, q.FormValue("peer") == ""); ok {
			part.Answer(w, http.StatusOK, j)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
	r.Mux.HandleFunc("POST /jobs/{id}/done", func(w http.ResponseWriter, q *http.Request) { r.done(w, q) })
	r.Mux.HandleFunc("POST /news", func(w http.ResponseWriter, q *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, q.Body, 64<<10))
		if err != nil {
			part.Refuse(w, http.StatusBadRequest, "the news cannot be read: %v", err)
			return
		}
		r.spread(q.Context(), strings.ReplaceAll(string(body), "\n", " "), q.FormValue("peer") == "")
		w.WriteHeader(http.StatusAccepted)
	})
	r.Mux.HandleFunc("GET /news", func(w http.ResponseWriter, q *http.Request) { r.subscribe(life, w, q) })
	r.Measure("peers", func() float64 { return float64(len(*r.peers.Load())) })
	r.Measure("jobs_waiting", func() float64 {
		r.mu.Lock()
		defer r.mu.Unlock()
		return float64(len(r.waiting))
	})
	r.Measure("jobs_total", func() float64 { return float64(r.came.Load()) })
	r.Measure("jobs_finished_total", func() float64 { return float64(r.finished.Load()) })
	r.Measure("news_total", func() float64 { return float64(r.news.Load()) })
}

func (r *relay) put(j Job) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.waiting = append(r.waiting, j)
	r.kept += int64(len(j.Body))
	close(r.more)
	r.more = make(chan struct{})
}

// take hands out a job of this relay's own.
func (r *relay) take() (Job, bool, <-chan struct{}) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.waiting) == 0 {
		return Job{}, false, r.more
	}
	j := r.waiting[0]
	r.waiting = r.waiting[1:]
	r.kept -= int64(len(j.Body))
	r.taken[j.ID] = taken{j, time.Now().Add(r.within)}
	return j, true, nil
}

// next waits for a job; for a worker, and not for a peer, it asks the peers as well.
func (r *relay) next(ctx context.Context, peersToo bool) (Job, bool) {
	for {
		j, ok, more := r.take()
		if ok {
			return j, true
		}
		if peersToo {
			for _, peer := range *r.peers.Load() {
				var j Job
				asking, cancel := context.WithTimeout(ctx, time.Second)
				err := part.Call(asking, r.http, http.MethodGet, peer+"/jobs/next?peer=1&wait=0s", nil, &j)
				cancel()
				if err == nil && j.ID != "" {
					return j, true
				}
			}
		}
		pause := time.NewTimer(askPeers)
		select {
		case <-more:
		case <-pause.C:
		case <-ctx.Done():
			pause.Stop()
			return Job{}, false
		}
		pause.Stop()
	}
}

// done finishes a job. One that is another relay's is passed on to the peers.
func (r *relay) done(w http.ResponseWriter, q *http.Request) {
	id := q.PathValue("id")
	r.mu.Lock()
	_, mine := r.taken[id]
	delete(r.taken, id)
	r.mu.Unlock()
	if mine {
		r.finished.Add(1)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if q.FormValue("peer") == "" {
		for _, peer := range *r.peers.Load() {
			if part.Call(q.Context(), r.http, http.MethodPost, peer+"/jobs/"+id+"/done?peer=1", nil, nil) == nil {
				w.WriteHeader(http.StatusNoContent)
				return
			}
		}
	}
	part.Refuse(w, http.StatusNotFound, "nobody has taken a job %q", id)
}

// again hands out jobs again that were not finished in time.
func (r *relay) again(ctx context.Context) {
	for part.Sleep(ctx, r.within/4) {
		r.mu.Lock()
		var late []Job
		for _, id := range slices.Sorted(maps.Keys(r.taken)) {
			if t := r.taken[id]; time.Now().After(t.until) {
				late = append(late, t.Job)
				delete(r.taken, id)
			}
		}
		r.mu.Unlock()
		for _, j := range late {
			r.put(j)
		}
	}
}

// spread brings news to the subscribers here and, if it came from a client, to those of the peers.
func (r *relay) spread(ctx context.Context, text string, peersToo bool) {
	r.news.Add(1)
	r.mu.Lock()
	for reader := range r.readers {
		select {
		case reader <- text:
		default: // it is too slow, and misses this
		}
	}
	r.mu.Unlock()
	if !peersToo {
		return
	}
	for _, peer := range *r.peers.Load() {
		telling, cancel := context.WithTimeout(ctx, time.Second)
		_ = part.Call(telling, r.http, http.MethodPost, peer+"/news?peer=1", bytes.NewReader([]byte(text)), nil)
		cancel()
	}
}

func (r *relay) subscribe(life context.Context, w http.ResponseWriter, q *http.Request) {
	reader := make(chan string, mostNews)
	r.mu.Lock()
	r.readers[reader] = true
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		delete(r.readers, reader)
		r.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	flush := http.NewResponseController(w)
	_ = flush.Flush()
	for {
		select {
		case text := <-reader:
			if _, err := fmt.Fprintln(w, text); err != nil {
				return
			}
			_ = flush.Flush()
		case <-q.Context().Done():
			return
		case <-life.Done():
			return
		}
	}
}

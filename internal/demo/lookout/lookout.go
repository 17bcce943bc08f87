// Package lookout is the demo's monitor: it fetches the measures of all the others and keeps the newest.
//
// Over HTTP:
//
//	GET /targets         each target with whether it answered, when, and its measures
//	GET /health, /metrics
package lookout

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"lanternfield/internal/demo/part"
)

// Options are what a lookout is started with.
type Options struct {
	part.Options
	Every time.Duration // how often a target is asked
}

// Config is a lookout's config file: the targets by member, as URLs.
type Config struct {
	Targets map[string]string `json:"targets"`
}

// Seen is what is known of one target.
type Seen struct {
	Up       bool               `json:"up"`
	At       time.Time          `json:"at"`
	Error    string             `json:"error,omitempty"`
	Measures map[string]float64 `json:"measures,omitempty"`
}

type lookout struct {
	*part.Part
	every  time.Duration
	config atomic.Pointer[Config]
	http   *http.Client

	mu   sync.Mutex
	seen map[string]Seen
}

// Run is a lookout from start to end.
func Run(ctx context.Context, o Options) error {
	return part.Run(ctx, "lookout", o.Options, func(ctx context.Context, p *part.Part) error { return play(ctx, p, o) })
}

func play(ctx context.Context, p *part.Part, o Options) error {
	l := &lookout{Part: p, every: o.Every, http: &http.Client{Timeout: time.Second}, seen: map[string]Seen{}}
	if err := part.Configured(ctx, p, func(c Config) { l.config.Store(&c) }); err != nil {
		return err
	}
	listener, err := p.Listen()
	if err != nil {
		return err
	}
	p.Mux.HandleFunc("GET /targets", func(w http.ResponseWriter, _ *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		part.Answer(w, http.StatusOK, l.seen)
	})
	p.Measure("targets", func() float64 { return float64(len(l.config.Load().Targets)) })
	p.Measure("targets_up", func() float64 { return float64(l.up()) })
	first := make(chan struct{})
	p.ReadyWhen(func(context.Context) error {
		select {
		case <-first:
			return nil
		default:
			return fmt.Errorf("has not looked at anybody yet")
		}
	})
	go func() {
		l.look(ctx)
		close(first)
		for part.Sleep(ctx, l.every) {
			l.look(ctx)
		}
	}()
	return p.Serve(ctx, listener)
}

func (l *lookout) up() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for _, s := range l.seen {
		if s.Up {
			n++
		}
	}
	return n
}

// look asks all targets at once, and forgets those that are none any more.
func (l *lookout) look(ctx context.Context) {
	targets := l.config.Load().Targets
	now := map[string]Seen{}
	var mu sync.Mutex
	var asking sync.WaitGroup
	for _, name := range slices.Sorted(maps.Keys(targets)) {
		asking.Add(1)
		go func() {
			defer asking.Done()
			s := Seen{At: time.Now().UTC()}
			var err error
			if s.Measures, err = l.fetch(ctx, targets[name]); err != nil {
				s.Error = err.Error()
			}
			s.Up = err == nil
			mu.Lock()
			defer mu.Unlock()
			now[name] = s
		}()
	}
	asking.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.seen = now
}

// fetch reads the measures of one target.
func (l *lookout) fetch(ctx context.Context, url string) (map[string]float64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url+"/metrics", nil)
	if err != nil {
		return nil, err
	}
	res, err := l.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("HTTP status %d", res.StatusCode)
	}
	return Measures(io.LimitReader(res.Body, 1<<20))
}

// Measures reads a page of measures: gauges and counters by name.
func Measures(page io.Reader) (map[string]float64, error) {
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(page)
	if err != nil {
		return nil, fmt.Errorf("its measures cannot be read: %w", err)
	}
	out := map[string]float64{}
	for name, family := range families {
		for _, m := range family.GetMetric() {
			switch {
			case m.Gauge != nil:
				out[name] = m.Gauge.GetValue()
			case m.Counter != nil:
				out[name] = m.Counter.GetValue()
			case m.Untyped != nil:
				out[name] = m.Untyped.GetValue()
			}
		}
	}
	return out, nil
}

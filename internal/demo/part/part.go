// Package part is what the demo's programs have in common: they start late or fail when they are told to, answer over
// HTTP, show measures as OpenMetrics, read their config file again on SIGHUP, and end on SIGTERM.
package part

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Options are what every program of the demo is started with.
type Options struct {
	Name       string
	Listen     string        // address:port of its HTTP side
	Data       string        // its folder, where it keeps anything
	Config     string        // its config file, where it has one; read again on SIGHUP
	StartDelay time.Duration // how long it takes before it listens
	Fail       string        // a wanted failure; see Failures
}

// Failures are the failures that can be wanted: none; ending at once, or some time after the start; never getting ready;
// ignoring the signal to end.
var Failures = []string{"none", "at-start", "after=DURATION", "never-ready", "ignore-stop"}

// Part is one running program.
type Part struct {
	Options
	Mux  *http.ServeMux
	Kind string // warden, relay …: the prefix of its measures

	neverReady bool
	failAfter  time.Duration
	ignoreStop bool
	ready      atomic.Pointer[func(context.Context) error]
	measures   sync.Map // name → func() float64
}

// New makes a part and heeds what it was told about starting late and failing.
func New(kind string, o Options) (*Part, error) {
	p := &Part{Options: o, Kind: kind, Mux: http.NewServeMux()}
	word, value, _ := strings.Cut(o.Fail, "=")
	switch word {
	case "", "none":
	case "at-start":
		return nil, errors.New("told to fail at the start")
	case "after":
		d, err := time.ParseDuration(value)
		if err != nil {
			return nil, fmt.Errorf("--fail after=%q is no duration: %w", value, err)
		}
		p.failAfter = d
	case "never-ready":
		p.neverReady = true
	case "ignore-stop":
		p.ignoreStop = true
	default:
		return nil, fmt.Errorf("--fail %q is unknown; it is one of %s", o.Fail, strings.Join(Failures, ", "))
	}
	starting := func(context.Context) error { return errors.New("still starting") }
	p.ready.Store(&starting)
	p.Mux.HandleFunc("GET /health", p.health)
	p.Mux.HandleFunc("GET /metrics", p.metrics)
	began := time.Now()
	p.Measure("up_seconds", func() float64 { return time.Since(began).Seconds() })
	return p, nil
}

// Run makes a part, waits as long as its start shall take, and has it play until it is asked to end.
func Run(ctx context.Context, kind string, o Options, play func(context.Context, *Part) error) error {
	p, err := New(kind, o)
	if err != nil {
		return err
	}
	ctx, stop := p.untilStopped(ctx)
	defer stop()
	if !Sleep(ctx, p.StartDelay) {
		return nil
	}
	return play(ctx, p)
}

// ReadyWhen says how the part finds out whether it is ready; nil means that it is.
func (p *Part) ReadyWhen(check func(context.Context) error) { p.ready.Store(&check) }

// Measure shows a value at /metrics as a gauge, or as a counter where the name ends in _total.
func (p *Part) Measure(name string, value func() float64) { p.measures.Store(name, value) }

func (p *Part) health(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), time.Second)
	defer cancel()
	err := (*p.ready.Load())(ctx)
	if p.neverReady {
		err = errors.New("told never to be ready")
	}
	if err != nil {
		Answer(w, http.StatusServiceUnavailable, map[string]any{"ready": false, "error": err.Error()})
		return
	}
	Answer(w, http.StatusOK, map[string]any{"ready": true})
}

func (p *Part) metrics(w http.ResponseWriter, _ *http.Request) {
	values := map[string]float64{}
	p.measures.Range(func(name, value any) bool {
		values[name.(string)] = value.(func() float64)()
		return true
	})
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	for _, name := range slices.Sorted(maps.Keys(values)) {
		family, kind := p.Kind+"_"+name, "gauge"
		if base, counts := strings.CutSuffix(family, "_total"); counts {
			family, kind = base, "counter"
		}
		fmt.Fprintf(w, "# TYPE %s %s\n%s_%s %g\n", family, kind, p.Kind, name, values[name])
	}
	fmt.Fprintln(w, "# EOF")
}

// Serve answers on the listener until the context ends, or until the part fails as it was told to.
func (p *Part) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{Handler: p.Mux, ReadHeaderTimeout: 10 * time.Second}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	fmt.Printf("%s %s listens on %s\n", p.Kind, p.Name, l.Addr())
	var fail <-chan time.Time
	if p.failAfter > 0 {
		fail = time.After(p.failAfter)
	}
	select {
	case err := <-failed:
		return err
	case <-fail:
		return fmt.Errorf("told to fail %s after the start", p.failAfter)
	case <-ctx.Done():
	}
	ending, cancel := context.WithTimeout(context.Background(), 500*time.Millisecond)
	defer cancel()
	_ = server.Shutdown(ending)
	return nil
}

// Listen opens the part's HTTP side.
func (p *Part) Listen() (net.Listener, error) { return net.Listen("tcp", p.Options.Listen) }

// untilStopped gives a context that ends with SIGTERM or SIGINT, unless the part was told to ignore them.
func (p *Part) untilStopped(ctx context.Context) (context.Context, context.CancelFunc) {
	if p.ignoreStop {
		signal.Ignore(syscall.SIGTERM, syscall.SIGINT)
		return context.WithCancel(context.WithoutCancel(ctx))
	}
	return signal.NotifyContext(ctx, syscall.SIGTERM, os.Interrupt)
}

// Configured reads the part's config file now and whenever SIGHUP comes, and hands what is in it to use.
func Configured[T any](ctx context.Context, p *Part, use func(T)) error {
	load := func() error {
		var c T
		data, err := os.ReadFile(p.Config)
		if err == nil {
			err = json.Unmarshal(data, &c)
		}
		if err != nil {
			return fmt.Errorf("the config file %s cannot be read: %w", p.Config, err)
		}
		use(c)
		return nil
	}
	if err := load(); err != nil {
		return err
	}
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	go func() {
		defer signal.Stop(again)
		for {
			select {
			case <-again:
				if err := load(); err != nil {
					fmt.Println(err) // it goes on with what it had
				}
			case <-ctx.Done():
				return
			}
		}
	}()
	return nil
}

// Answer writes a value as JSON.
func Answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(value)
}

// Refuse answers with an error.
func Refuse(w http.ResponseWriter, status int, format string, args ...any) {
	Answer(w, status, map[string]string{"error": fmt.Sprintf(format, args...)})
}

// Call makes a request and decodes the JSON answer into a value; into may be nil. A status of 400 or more is an error
// with what the answer says.
func Call(ctx context.Context, client *http.Client, method, url string, body io.Reader, into any) error {
	req, err := http.NewRequestWithContext(ctx, method, url, body)
	if err != nil {
		return err
	}
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(io.LimitReader(res.Body, 4<<20))
	if err != nil {
		return err
	}
	if res.StatusCode >= 400 {
		var said struct{ Error string }
		_ = json.Unmarshal(data, &said)
		return &StatusError{Status: res.StatusCode, Said: said.Error}
	}
	if into == nil || len(data) == 0 {
		return nil
	}
	return json.Unmarshal(data, into)
}

// StatusError is an answer that refuses.
type StatusError struct {
	Status int
	Said   string
}

func (e *StatusError) Error() string { return fmt.Sprintf("HTTP status %d: %s", e.Status, e.Said) }

// Sleep sleeps, and tells whether the context goes on.
func Sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return ctx.Err() == nil
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}

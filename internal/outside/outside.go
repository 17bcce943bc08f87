// Package outside watches what is called and never started by us: an existing database, another field's role. One watcher
// asks all its addresses again and again, and says over HTTP whether enough of them answer.
package outside

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"
)

// Options are what a watcher is started with.
type Options struct {
	Listen string        // host:port of the watcher itself
	To     []string      // host:port of those that are watched
	From   string        // a file with more of them, one a line, which may change at any time
	Need   int           // how many must answer
	Path   string        // asked by HTTP where it is set; else a connection is enough
	Scheme string        // http or https, with Path
	Every  time.Duration // between two rounds
}

// Flags names the options on a command line.
func (o *Options) Flags(flags *flag.FlagSet) {
	flags.StringVar(&o.Listen, "listen", "", "its own address")
	flags.Func("to", "an address that is watched", func(at string) error { o.To = append(o.To, at); return nil })
	flags.StringVar(&o.From, "from", "", "a file with addresses that are watched, one a line")
	flags.IntVar(&o.Need, "need", 1, "how many must answer")
	flags.StringVar(&o.Path, "path", "", "asked by HTTP")
	flags.StringVar(&o.Scheme, "scheme", "http", "of that")
	flags.DurationVar(&o.Every, "every", 500*time.Millisecond, "between two rounds")
}

// Health is what a watcher says.
type Health struct {
	Ready   bool     `json:"ready"`
	Answer  int      `json:"answer"` // how many do
	Of      int      `json:"of"`
	Silent  []string `json:"silent,omitempty"` // who does not, and why
	Checked bool     `json:"checked"`          // a round has been made
}

// longest is how long one of them may take to answer.
const longest = 2 * time.Second

// Run watches until the context ends.
func Run(ctx context.Context, o Options) error {
	if len(o.To) == 0 && o.From == "" {
		return errors.New("nothing is named that could be watched")
	}
	w := &watcher{Options: o, client: &http.Client{Timeout: longest}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /health", w.health)
	listener, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return err
	}
	server := &http.Server{Handler: mux, ReadHeaderTimeout: longest}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	go w.rounds(ctx)
	if err := server.Serve(listener); ctx.Err() == nil {
		return err
	}
	return nil
}

type watcher struct {
	Options
	client *http.Client

	mu  sync.Mutex
	now Health
}

func (w *watcher) rounds(ctx context.Context) {
	for {
		h := w.round(ctx)
		w.mu.Lock()
		changed := !w.now.Checked || w.now.Ready != h.Ready || w.now.Answer != h.Answer
		w.now = h
		w.mu.Unlock()
		if changed && ctx.Err() == nil {
			fmt.Printf("%d of %d answer, %d needed; silent: %s\n", h.Answer, h.Of, w.Need, strings.Join(h.Silent, "; "))
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(w.Every):
		}
	}
}

// round asks all of them at once.
func (w *watcher) round(ctx context.Context) Health {
	watched, err := w.watched()
	if err != nil {
		return Health{Checked: true, Silent: []string{err.Error()}}
	}
	errs := make([]error, len(watched))
	var asking sync.WaitGroup
	for i, to := range watched {
		asking.Go(func() { errs[i] = w.ask(ctx, to) })
	}
	asking.Wait()
	h := Health{Of: len(watched), Checked: true}
	for i, err := range errs {
		if err == nil {
			h.Answer++
			continue
		}
		h.Silent = append(h.Silent, fmt.Sprintf("%s (%v)", watched[i], err))
	}
	h.Ready = h.Answer >= max(1, w.Need)
	return h
}

// watched are the addresses that are asked now.
func (w *watcher) watched() ([]string, error) {
	if w.From == "" {
		return w.To, nil
	}
	data, err := os.ReadFile(w.From)
	if err != nil {
		return nil, err
	}
	return append(strings.Fields(string(data)), w.To...), nil
}

func (w *watcher) ask(ctx context.Context, to string) error {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	if w.Path == "" {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", to)
		if err != nil {
			return plain(err)
		}
		return c.Close()
	}
	scheme := w.Scheme
	if scheme != "https" {
		scheme = "http"
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+to+w.Path, nil)
	if err != nil {
		return err
	}
	answer, err := w.client.Do(r)
	if err != nil {
		return plain(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 400 {
		return fmt.Errorf("HTTP status %d", answer.StatusCode)
	}
	return nil
}

// plain is the innermost reason of a network error.
func plain(err error) error {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err
		}
		err = next
	}
}

func (w *watcher) health(out http.ResponseWriter, _ *http.Request) {
	w.mu.Lock()
	h := w.now
	w.mu.Unlock()
	out.Header().Set("Content-Type", "application/json")
	if !h.Ready {
		out.WriteHeader(http.StatusServiceUnavailable)
	}
	_ = json.NewEncoder(out).Encode(h)
}

package control

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lanternfield/internal/agentapi"

	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

// listen opens the socket through which other commands and screens act and look.
func (c *Controller) listen() error {
	path, done, err := c.folder.socket()
	if err != nil {
		return err
	}
	defer done()
	_ = os.Remove(filepath.Join(c.folder.own(), "control.sock")) // we hold the lock, so it is a dead controller's
	listener, err := net.Listen("unix", path)
	if err != nil {
		return fmt.Errorf("the socket in %s cannot be opened: %w", c.folder.Dir, err)
	}
	listener.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := os.Chmod(path, 0o600); err != nil { // whatever the umask is; nobody else can get to it meanwhile, for the folder
		return fmt.Errorf("the socket in %s cannot be kept from others: %w", c.folder.own(), err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/snapshot", func(w http.ResponseWriter, r *http.Request) {
		s, err := c.Snapshot(r.Context())
		answer(w, s, err)
	})
	mux.HandleFunc("GET /v1/watch", func(w http.ResponseWriter, r *http.Request) {
		snapshots, err := c.Watch(r.Context())
		if err != nil {
			answer(w, nil, err)
			return
		}
		enc := json.NewEncoder(w)
		for s := range snapshots {
			if enc.Encode(s) != nil {
				return
			}
			w.(http.Flusher).Flush()
		}
	})
	mux.HandleFunc("POST /v1/review", func(w http.ResponseWriter, r *http.Request) {
		var draft field.Field
		if err := json.NewDecoder(r.Body).Decode(&draft); err != nil {
			answer(w, nil, err)
			return
		}
		review, err := c.Review(r.Context(), &draft)
		answer(w, review, err)
	})
	mux.HandleFunc("POST /v1/preview", func(w http.ResponseWriter, r *http.Request) {
		var draft field.Field
		if err := json.NewDecoder(r.Body).Decode(&draft); err != nil {
			answer(w, nil, err)
			return
		}
		files, err := c.Preview(r.Context(), &draft, field.MemberName(r.FormValue("member")))
		answer(w, files, err)
	})
	mux.HandleFunc("POST /v1/order", func(w http.ResponseWriter, r *http.Request) {
		var o Order
		err := json.NewDecoder(r.Body).Decode(&o)
		if err == nil {
			err = c.Do(r.Context(), o)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("GET /v1/tide", func(w http.ResponseWriter, r *http.Request) {
		since, _ := time.Parse(time.RFC3339Nano, r.FormValue("since"))
		samples, err := c.Tide(r.Context(), since)
		answer(w, samples, err)
	})
	mux.HandleFunc("POST /v1/journal", func(w http.ResponseWriter, r *http.Request) {
		var part Range
		if err := json.NewDecoder(r.Body).Decode(&part); err != nil {
			answer(w, nil, err)
			return
		}
		entries, err := c.Journal(r.Context(), part)
		answer(w, entries, err)
	})
	mux.HandleFunc("GET /v1/past", func(w http.ResponseWriter, r *http.Request) {
		at, err := time.Parse(time.RFC3339Nano, r.FormValue("at"))
		if err != nil {
			answer(w, nil, err)
			return
		}
		s, err := c.Past(r.Context(), at)
		answer(w, s, err)
	})
	mux.HandleFunc("POST /v1/lines", func(w http.ResponseWriter, r *http.Request) {
		var after map[field.MemberName]int64
		if err := json.NewDecoder(r.Body).Decode(&after); err != nil {
			answer(w, nil, err)
			return
		}
		lines, err := c.Lines(r.Context(), after)
		answer(w, lines, err)
	})
	c.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = c.server.Serve(ownUsers{listener}) }()
	return nil
}

func answer(w http.ResponseWriter, value any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusConflict)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(value)
}

// remote is a session through another process's controller.
type remote struct {
	folder Folder
	http   *http.Client
}

// dial finds out whether the holder answers.
func dial(ctx context.Context, f Folder) (*remote, error) {
	r := &remote{folder: f, http: &http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			path, done, err := f.socket()
			if err != nil {
				return nil, err
			}
			defer done()
			var d net.Dialer
			return d.DialContext(ctx, "unix", path)
		}}}}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	_, err := r.Snapshot(ctx)
	return r, err
}

func (r *remote) call(ctx context.Context, method, path string, body, into any) error {
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	res, err := r.send(ctx, method, path, data)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	return json.NewDecoder(res.Body).Decode(into)
}

func (r *remote) send(ctx context.Context, method, path string, data []byte) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, "http://field"+path, bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	res, err := r.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("the process that holds %s does not answer: %w", fieldName(r.folder), err)
	}
	if res.StatusCode >= 400 {
		defer res.Body.Close()
		text, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
		return nil, errors.New(strings.TrimSpace(string(text)))
	}
	return res, nil
}

func (r *remote) Snapshot(ctx context.Context) (*snapshot.Snapshot, error) {
	s := &snapshot.Snapshot{}
	return s, r.call(ctx, http.MethodGet, "/v1/snapshot", nil, s)
}

func (r *remote) Watch(ctx context.Context) (<-chan *snapshot.Snapshot, error) {
	res, err := r.send(ctx, http.MethodGet, "/v1/watch", nil)
	if err != nil {
		return nil, err
	}
	out := make(chan *snapshot.Snapshot)
	go func() {
		defer close(out)
		defer res.Body.Close()
		dec := json.NewDecoder(bufio.NewReader(res.Body))
		for {
			s := &snapshot.Snapshot{}
			if dec.Decode(s) != nil {
				return
			}
			select {
			case out <- s:
			case <-ctx.Done():
				return
			}
		}
	}()
	return out, nil
}

func (r *remote) Review(ctx context.Context, draft *field.Field) (*plan.Review, error) {
	review := &plan.Review{}
	return review, r.call(ctx, http.MethodPost, "/v1/review", draft, review)
}

func (r *remote) Preview(ctx context.Context, draft *field.Field, member field.MemberName) (*review.Files, error) {
	files := &review.Files{}
	return files, r.call(ctx, http.MethodPost, "/v1/preview?member="+url.QueryEscape(string(member)), draft, files)
}

func (r *remote) Do(ctx context.Context, o Order) error {
	return r.call(ctx, http.MethodPost, "/v1/order", o, &struct{}{})
}

func (r *remote) Tide(ctx context.Context, since time.Time) ([]Sample, error) {
	var samples []Sample
	return samples, r.call(ctx, http.MethodGet, "/v1/tide?since="+since.UTC().Format(time.RFC3339Nano), nil, &samples)
}

func (r *remote) Past(ctx context.Context, at time.Time) (*snapshot.Snapshot, error) {
	s := &snapshot.Snapshot{}
	return s, r.call(ctx, http.MethodGet, "/v1/past?at="+at.UTC().Format(time.RFC3339Nano), nil, s)
}

func (r *remote) Lines(ctx context.Context, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	var lines map[field.MemberName]agentapi.Log
	return lines, r.call(ctx, http.MethodPost, "/v1/lines", after, &lines)
}

func (r *remote) Journal(ctx context.Context, part Range) ([]Entry, error) {
	var entries []Entry
	return entries, r.call(ctx, http.MethodPost, "/v1/journal", part, &entries)
}

func (r *remote) Close() error {
	r.http.CloseIdleConnections()
	return nil
}

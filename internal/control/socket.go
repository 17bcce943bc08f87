package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
)

// handler answers what passes through the socket.
func (c *Controller) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/snapshot", func(w http.ResponseWriter, r *http.Request) {
		s, err := c.Snapshot(r.Context())
		answer(w, s, err)
	})
	mux.HandleFunc("GET /v1/follow", func(w http.ResponseWriter, r *http.Request) {
		snapshots, err := c.Watch(r.Context())
		if err != nil {
			answer(w, nil, err)
			return
		}
		_ = passOn(w, w.(http.Flusher).Flush, snapshots)
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
	mux.HandleFunc("GET /v1/trust", func(w http.ResponseWriter, r *http.Request) {
		t, err := c.Trust(r.Context())
		answer(w, t, err)
	})
	mux.HandleFunc("POST /v1/access", taking(c.Access))
	mux.HandleFunc("POST /v1/order", func(w http.ResponseWriter, r *http.Request) {
		c.door.asked.Add(1) // the controller may end of what is asked, and who asked is told
		defer c.door.asked.Add(-1)
		var o Request
		err := json.NewDecoder(r.Body).Decode(&o)
		if err == nil {
			err = c.Do(r.Context(), o)
		}
		answer(w, struct{}{}, err)
		_ = http.NewResponseController(w).Flush()
	})
	mux.HandleFunc("GET /v1/tide", func(w http.ResponseWriter, r *http.Request) {
		since, _ := time.Parse(time.RFC3339Nano, r.FormValue("since"))
		samples, err := c.Tide(r.Context(), since)
		answer(w, samples, err)
	})
	mux.HandleFunc("POST /v1/journal", taking(c.Journal))
	mux.HandleFunc("POST /v1/rollout", taking(c.Rollout))
	mux.HandleFunc("GET /v1/rollouts", func(w http.ResponseWriter, r *http.Request) {
		all, err := c.Rollouts(r.Context())
		answer(w, all, err)
	})
	mux.HandleFunc("POST /v1/health", taking(c.Health))
	mux.HandleFunc("POST /v1/search", taking(c.Search))
	mux.HandleFunc("GET /v1/past", func(w http.ResponseWriter, r *http.Request) {
		at, err := time.Parse(time.RFC3339Nano, r.FormValue("at"))
		if err != nil {
			answer(w, nil, err)
			return
		}
		s, err := c.Past(r.Context(), at)
		answer(w, s, err)
	})
	mux.HandleFunc("POST /v1/lines", taking(c.Lines))
	mux.HandleFunc("GET /v1/attach", c.attach)
	mux.HandleFunc("GET /v1/keeper", func(w http.ResponseWriter, _ *http.Request) { answer(w, c.Keeper(), nil) })
	mux.HandleFunc("POST /v1/unseal", func(w http.ResponseWriter, r *http.Request) {
		var text string
		err := json.NewDecoder(r.Body).Decode(&text)
		var begin func()
		if err == nil {
			begin, err = c.unseal(text)
		}
		answer(w, struct{}{}, err)
		if err == nil { // the socket closes as it begins anew: who asked is answered before
			_ = http.NewResponseController(w).Flush()
			begin()
		}
	})
	mux.HandleFunc("POST /v1/secret", func(w http.ResponseWriter, r *http.Request) {
		var ask SecretAsked
		err := json.NewDecoder(r.Body).Decode(&ask)
		if err != nil {
			answer(w, nil, err)
			return
		}
		review, err := c.ChangeSecret(r.Context(), ask)
		answer(w, review, err)
	})
	mux.HandleFunc("POST /v1/mend", taking(c.Mend))
	mux.HandleFunc("POST /v1/settle", func(w http.ResponseWriter, r *http.Request) {
		var only []field.NodeName
		err := json.NewDecoder(r.Body).Decode(&only)
		if err == nil {
			err = c.SettleLedger(r.Context(), only)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("POST /v1/invite", taking(c.Invite))
	mux.HandleFunc("POST /v1/outside", taking(c.Outside))
	mux.HandleFunc("POST /v1/link", taking(c.Link))
	mux.HandleFunc("POST /v1/unlink", func(w http.ResponseWriter, r *http.Request) {
		var ask link.Ask
		err := json.NewDecoder(r.Body).Decode(&ask)
		if err == nil {
			err = c.Unlink(r.Context(), ask)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("POST /v1/nudge", func(w http.ResponseWriter, _ *http.Request) { answer(w, struct{}{}, c.Nudge()) })
	mux.HandleFunc("POST /v1/seal", func(w http.ResponseWriter, r *http.Request) {
		var s Seals
		err := json.NewDecoder(r.Body).Decode(&s)
		if err == nil {
			err = c.Seal(r.Context(), s)
		}
		answer(w, struct{}{}, err)
	})
	mux.HandleFunc("POST /v1/handover", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, struct{}{}, nil)
		_ = http.NewResponseController(w).Flush()
		c.door.once.Do(func() { close(c.door.handover) })
	})
	return mux
}

// taking reads what is asked, and answers what comes of it.
func taking[Ask, Answer any](do func(context.Context, Ask) (Answer, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var ask Ask
		if err := json.NewDecoder(r.Body).Decode(&ask); err != nil {
			answer(w, nil, err)
			return
		}
		out, err := do(r.Context(), ask)
		answer(w, out, err)
	}
}

// remote is a session through another process's controller.
type remote struct {
	folder Folder
	http   *http.Client
	keeper Keeper
	leave  func() // ends being attached; nil for who only looks
}

// dial finds out whether the holder answers.
func dial(ctx context.Context, f Folder) (*remote, error) {
	way := &keeperDialer{folder: f}
	r := &remote{folder: f, http: &http.Client{Transport: &http.Transport{DialContext: way.connect}}}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	err := r.call(ctx, http.MethodGet, "/v1/keeper", nil, &r.keeper)
	way.answered.Store(err == nil)
	return r, err
}

// answers tells whether somebody holds the field and answers.
func (f Folder) answers(ctx context.Context) bool {
	r, err := dial(ctx, f)
	if err == nil {
		r.Close()
	}
	return err == nil
}

// ErrNobody says that nobody holds the field, or that nobody answers who does.
var ErrNobody = errors.New("nobody holds the field")

// Attach gives a session through who holds the field; ErrNobody where nobody answers. Who says for people who is attached.
func Attach(ctx context.Context, f Folder, who string) (Session, Keeper, error) {
	r, err := dial(ctx, f)
	if err != nil {
		return nil, Keeper{}, ErrNobody
	}
	staying, leave := context.WithCancel(context.Background())
	res, err := r.send(staying, http.MethodGet, "/v1/attach?who="+url.QueryEscape(who), nil)
	if err != nil {
		leave()
		r.Close()
		return nil, Keeper{}, ErrNobody
	}
	r.leave = func() { leave(); res.Body.Close() }
	return r, r.keeper, nil
}

// HandOver asks who holds the field to let go of it.
func HandOver(ctx context.Context, f Folder) error {
	r, err := dial(ctx, f)
	if err != nil {
		return ErrNobody
	}
	defer r.Close()
	return r.call(ctx, http.MethodPost, "/v1/handover", nil, &struct{}{})
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
		text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		return nil, DecodeError(bytes.TrimSpace(text))
	}
	return res, nil
}

func (r *remote) Snapshot(ctx context.Context) (*snapshot.Snapshot, error) {
	s := &snapshot.Snapshot{}
	return s, r.call(ctx, http.MethodGet, "/v1/snapshot", nil, s)
}

func (r *remote) Review(ctx context.Context, draft *field.Field) (*plan.Review, error) {
	review := &plan.Review{}
	return review, r.call(ctx, http.MethodPost, "/v1/review", draft, review)
}

func (r *remote) Preview(ctx context.Context, draft *field.Field, member field.MemberName) (*review.Files, error) {
	files := &review.Files{}
	return files, r.call(ctx, http.MethodPost, "/v1/preview?member="+url.QueryEscape(string(member)), draft, files)
}

func (r *remote) Trust(ctx context.Context) (*snapshot.Trust, error) {
	t := &snapshot.Trust{}
	return t, r.call(ctx, http.MethodGet, "/v1/trust", nil, t)
}

func (r *remote) Access(ctx context.Context, ask AccessAsked) ([]Access, error) {
	var a []Access
	return a, r.call(ctx, http.MethodPost, "/v1/access", ask, &a)
}

func (r *remote) ChangeSecret(ctx context.Context, ask SecretAsked) (*plan.Review, error) {
	review := &plan.Review{}
	return review, r.call(ctx, http.MethodPost, "/v1/secret", ask, review)
}

func (r *remote) Outside(ctx context.Context, ask OutsideAsked) (*OutsideAnswer, error) {
	out := &OutsideAnswer{}
	return out, r.call(ctx, http.MethodPost, "/v1/outside", ask, out)
}

func (r *remote) Seal(ctx context.Context, s Seals) error {
	return r.call(ctx, http.MethodPost, "/v1/seal", s, &struct{}{})
}

func (r *remote) Do(ctx context.Context, o Request) error {
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

func (r *remote) Search(ctx context.Context, ask SearchAsked) (*SearchFound, error) {
	found := &SearchFound{}
	return found, r.call(ctx, http.MethodPost, "/v1/search", ask, found)
}

func (r *remote) Rollout(ctx context.Context, ask RolloutAsked) (*rollout.Record, error) {
	record := &rollout.Record{}
	return record, r.call(ctx, http.MethodPost, "/v1/rollout", ask, record)
}

func (r *remote) Rollouts(ctx context.Context) ([]snapshot.RolloutView, error) {
	var all []snapshot.RolloutView
	return all, r.call(ctx, http.MethodGet, "/v1/rollouts", nil, &all)
}

func (r *remote) Health(ctx context.Context, ask HealthAsked) (*health.Told, error) {
	told := &health.Told{}
	return told, r.call(ctx, http.MethodPost, "/v1/health", ask, told)
}

func (r *remote) Journal(ctx context.Context, part Range) ([]Entry, error) {
	var entries []Entry
	return entries, r.call(ctx, http.MethodPost, "/v1/journal", part, &entries)
}

func (r *remote) Close() error {
	if r.leave != nil {
		r.leave()
	}
	r.http.CloseIdleConnections()
	return nil
}

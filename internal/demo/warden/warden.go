// Package warden is the demo's quorum store: a small replicated key-value store. Its members vote by Raft; every one of
// them takes every request and passes on what the leader must decide.
//
// Over HTTP, on the port that the members also speak Raft on:
//
//	GET    /kv/{key}             the value; up to date, unless ?stale=true asks for what this member has
//	PUT    /kv/{key}             writes the body; answers when a majority has it on disk
//	GET    /kv?prefix=P          all keys with that prefix and their values, as this member has them
//	GET    /leader               who leads, and whether it is this member
//	GET    /members              who is a member, and whether it votes
//	POST   /members              {"id","address"}: lets a learner in
//	POST   /members/{id}/vote    lets a learner vote, once it has caught up
//	DELETE /members/{id}         lets a member go
//	POST   /hand-over            {"to"}: the leader gives up leading
//	GET    /health, /metrics
package warden

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/hashicorp/go-hclog"
	"github.com/hashicorp/raft"
	boltstore "github.com/hashicorp/raft-boltdb/v2"

	"lanternfield/internal/demo/part"
)

// Options are what a warden is started with.
type Options struct {
	part.Options
	Found    []string      // id=address of all who found the store; empty for one who joins
	Election time.Duration // how long a leader's silence is borne
}

// warden is one member of the store.
type warden struct {
	*part.Part
	raft    *raft.Raft
	store   *table
	address string
	lastLed atomic.Int64  // when somebody led last, in Unix nanoseconds
	caught  atomic.Bool   // has had all that the leader had, once since the start
	settled atomic.Uint64 // the term of which everything decided before is in the table
	writes  atomic.Int64
	http    *http.Client
}

// How long requests may take.
const (
	applyTimeout = 2 * time.Second
	passTimeout  = 5 * time.Second
	electsFor    = 3 * time.Second // an election that takes longer is none
)

// Run is a warden from start to end.
func Run(ctx context.Context, o Options) error {
	return part.Run(ctx, "warden", o.Options, func(ctx context.Context, p *part.Part) error { return play(ctx, p, o) })
}

func play(ctx context.Context, p *part.Part, o Options) error {
	l, err := p.Listen()
	if err != nil {
		return err
	}
	both := split(l)
	defer both.Close()
	w := &warden{Part: p, store: newTable(), address: o.Listen, http: &http.Client{Timeout: passTimeout}}
	closeStores, err := w.join(o, both.raft)
	if err != nil {
		return err
	}
	defer closeStores()
	w.ReadyWhen(w.ready)
	w.routes()
	ctx, end := context.WithCancel(ctx)
	defer end()
	go w.untilLetGo(ctx, end)
	err = p.Serve(ctx, both.http)
	if w.leads() {
		_ = w.raft.LeadershipTransfer().Error() // spares the others an election; a lone one cannot
	}
	return errors.Join(err, w.raft.Shutdown().Error())
}

// join opens what is on disk and takes part in the votes. Only a store that has nothing on disk is founded.
func (w *warden) join(o Options, l net.Listener) (func(), error) {
	if err := os.MkdirAll(o.Data, 0o700); err != nil {
		return nil, err
	}
	log, err := boltstore.NewBoltStore(filepath.Join(o.Data, "log.db"))
	if err != nil {
		return nil, fmt.Errorf("the log in %s cannot be opened: %w", o.Data, err)
	}
	snapshots, err := raft.NewFileSnapshotStore(o.Data, 2, io.Discard)
	if err != nil {
		return nil, err
	}
	c := raft.DefaultConfig()
	c.LocalID = raft.ServerID(o.Name)
	c.HeartbeatTimeout, c.ElectionTimeout, c.LeaderLeaseTimeout = o.Election, o.Election, o.Election/2
	c.Logger = hclog.New(&hclog.LoggerOptions{Name: "raft", Level: hclog.Warn, Output: os.Stdout})
	transport := raft.NewNetworkTransportWithConfig(&raft.NetworkTransportConfig{Stream: &stream{Listener: l}, MaxPool: 3, Timeout: time.Second,
		Logger: c.Logger})
	known, err := raft.HasExistingState(log, log, snapshots)
	if err != nil {
		return nil, err
	}
	if !known && len(o.Found) > 0 {
		var first raft.Configuration
		for _, f := range o.Found {
			id, address, _ := strings.Cut(f, "=")
			first.Servers = append(first.Servers, raft.Server{ID: raft.ServerID(id), Address: raft.ServerAddress(address)})
		}
		if err := raft.BootstrapCluster(c, log, log, snapshots, transport, first); err != nil {
			return nil, fmt.Errorf("the store cannot be founded: %w", err)
		}
	}
	if w.raft, err = raft.NewRaft(c, w.store, log, log, snapshots, transport); err != nil {
		return nil, err
	}
	return func() { _ = errors.Join(transport.Close(), log.Close()) }, nil
}

// untilLetGo ends a warden that has let itself go as the leader: it has nothing left to do.
func (w *warden) untilLetGo(ctx context.Context, end context.CancelFunc) {
	for part.Sleep(ctx, 100*time.Millisecond) {
		if w.raft.State() == raft.Shutdown {
			fmt.Println("no member any more")
			end()
			return
		}
	}
}

func (w *warden) leads() bool { return w.raft.State() == raft.Leader }

func (w *warden) leader() (id, address string) {
	a, i := w.raft.LeaderWithID()
	return string(i), string(a)
}

// ready tells whether the warden takes part: it hears the leader, and has had all that the leader had.
func (w *warden) ready(ctx context.Context) error {
	if w.leads() {
		w.caught.Store(true)
		w.lastLed.Store(time.Now().UnixNano())
		return nil
	}
	id, address := w.leader()
	if id == "" {
		if since := time.Since(time.Unix(0, w.lastLed.Load())); w.caught.Load() && since < electsFor {
			return nil // an election is under way, which is none of this member's faults
		}
		return errors.New("nobody leads")
	}
	w.lastLed.Store(time.Now().UnixNano())
	if w.caught.Load() {
		return nil
	}
	var at struct{ Applied uint64 }
	if err := part.Call(ctx, w.http, http.MethodGet, "http://"+address+"/leader", nil, &at); err != nil {
		return fmt.Errorf("the leader %s does not say how far it is: %w", id, err)
	}
	if mine := w.raft.AppliedIndex(); mine < at.Applied {
		return fmt.Errorf("catching up: has %d of %d entries", mine, at.Applied)
	}
	w.caught.Store(true)
	return nil
}

func (w *warden) routes() {
	w.Mux.HandleFunc("GET /leader", func(rw http.ResponseWriter, _ *http.Request) {
		id, address := w.leader()
		part.Answer(rw, http.StatusOK, map[string]any{"me": w.Name, "leader": id, "address": address, "leads": w.leads(),
			"term": w.raft.CurrentTerm(), "applied": w.raft.AppliedIndex()})
	})
	w.Mux.HandleFunc("GET /kv/{key...}", w.read)
	w.Mux.HandleFunc("GET /kv", func(rw http.ResponseWriter, r *http.Request) {
		part.Answer(rw, http.StatusOK, w.store.list(r.FormValue("prefix")))
	})
	w.Mux.HandleFunc("PUT /kv/{key...}", w.led(w.write))
	w.Mux.HandleFunc("DELETE /kv/{key...}", w.led(w.write))
	w.Mux.HandleFunc("GET /members", w.members)
	w.Mux.HandleFunc("POST /members", w.led(w.admit))
	w.Mux.HandleFunc("POST /members/{id}/vote", w.led(w.promote))
	w.Mux.HandleFunc("DELETE /members/{id}", w.led(w.dismiss))
	w.Mux.HandleFunc("POST /hand-over", w.led(w.handOver))
	w.Measure("leads", func() float64 {
		if w.leads() {
			return 1
		}
		return 0
	})
	w.Measure("term", func() float64 { return float64(w.raft.CurrentTerm()) })
	w.Measure("applied_index", func() float64 { return float64(w.raft.AppliedIndex()) })
	w.Measure("keys", func() float64 { return float64(w.store.size()) })
	w.Measure("writes_total", func() float64 { return float64(w.writes.Load()) })
}

// passed marks a request that has been passed on once; it is not passed on again.
const passed = "X-Passed-On"

// led has a request decided by the leader: here, or by passing it on.
func (w *warden) led(decide http.HandlerFunc) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		if w.leads() {
			decide(rw, r)
			return
		}
		id, address := w.leader()
		if id == "" || r.Header.Get(passed) != "" {
			part.Refuse(rw, http.StatusServiceUnavailable, "nobody leads at the moment")
			return
		}
		req, err := http.NewRequestWithContext(r.Context(), r.Method, "http://"+address+r.URL.RequestURI(), r.Body)
		if err != nil {
			part.Refuse(rw, http.StatusInternalServerError, "%v", err)
			return
		}
		req.Header.Set(passed, w.Name)
		res, err := w.http.Do(req)
		if err != nil {
			part.Refuse(rw, http.StatusServiceUnavailable, "the leader %s does not answer: %v", id, err)
			return
		}
		defer res.Body.Close()
		rw.Header().Set("Content-Type", res.Header.Get("Content-Type"))
		rw.WriteHeader(res.StatusCode)
		_, _ = io.Copy(rw, res.Body)
	}
}

// fail answers with what the votes led to.
func fail(rw http.ResponseWriter, err error) {
	part.Refuse(rw, http.StatusServiceUnavailable, "%v", err)
}

func (w *warden) read(rw http.ResponseWriter, r *http.Request) {
	if r.FormValue("stale") != "" {
		w.value(rw, r)
		return
	}
	w.led(func(rw http.ResponseWriter, r *http.Request) {
		if err := w.upToDate(); err != nil {
			fail(rw, err)
			return
		}
		w.value(rw, r)
	})(rw, r)
}

// upToDate makes sure that the table has everything that was decided: this one still leads, and whatever was decided
// before its term has been taken in.
func (w *warden) upToDate() error {
	if term := w.raft.CurrentTerm(); w.settled.Load() != term {
		if err := w.raft.Barrier(applyTimeout).Error(); err != nil {
			return err
		}
		w.settled.Store(term)
	}
	return w.raft.VerifyLeader().Error()
}

func (w *warden) value(rw http.ResponseWriter, r *http.Request) {
	value, ok := w.store.get(r.PathValue("key"))
	if !ok {
		part.Refuse(rw, http.StatusNotFound, "there is no key %q", r.PathValue("key"))
		return
	}
	part.Answer(rw, http.StatusOK, map[string]string{"key": r.PathValue("key"), "value": value})
}

func (w *warden) write(rw http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(rw, r.Body, 1<<20))
	if err != nil {
		part.Refuse(rw, http.StatusBadRequest, "the value cannot be read: %v", err)
		return
	}
	entry, _ := json.Marshal(change{Key: r.PathValue("key"), Value: string(body), Gone: r.Method == http.MethodDelete})
	done := w.raft.Apply(entry, applyTimeout)
	if err := done.Error(); err != nil {
		fail(rw, err) // it may still come true; whoever asked must look
		return
	}
	w.writes.Add(1)
	part.Answer(rw, http.StatusOK, map[string]uint64{"index": done.Index()})
}

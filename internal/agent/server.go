package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/core/order"
	"lanternfield/internal/identity"
	"lanternfield/internal/inspect"
)

// longestWait bounds how long a request for reports may be kept open.
const longestWait = 30 * time.Second

// handler answers:
//
//	PUT  /v1/members/{name}               takes an order.Order
//	PUT  /v1/operations/{id}              takes an order.Operation
//	GET  /v1/reports?life=L&after=N&ack=N&wait=D gives News: reports after that number of that life; those up to ack are dropped
//	GET  /v1/series?after=T gives what was measured of members after a moment, or last
//	GET  /v1/members/{name}/log?after=N&most=N gives a Log: lines from that place on, or the last ones when after is -1
//	POST /v1/search takes a Search and gives Found: lines of members that fit, the newest first
//	POST /v1/members/{name}/visit         becomes frames: a command, a shell or a tunnel at the member
//	POST /v1/members/{name}/ask           takes an order.Question, puts it to the member, and gives an order.Said
//	POST /v1/inspect                      becomes a connection over which the machine is looked at (package inspect)
//	POST /v1/lookups                      takes a list of order.Lookup and gives a list of what is missing
//	GET  /v1/standing                     gives an order.Standing
//	GET  /v1/account                      gives a list of what is left of members on the node
//	PUT  /v1/claim                        takes an order.Claim, or refuses it
//	PUT  /v1/copy                         takes a sealed copy of the field's state, and keeps it instead of the one before
//	POST /v1/certificate                  gives a signing request for a new key
//	PUT  /v1/certificate                  takes the certificate for it
//	PUT  /v1/counting                     takes whose word counts from now on, signed by an authority that counts (identity.Counting)
//	POST /v1/quit                         ends the agent; its members go on, unless they are gone
//	PUT  /v1/programs/{name}?sum=S        takes a program of the agent's, compressed by gzip, with its SHA-256
//	PUT  /v1/rules?within=D               takes filter.Rules, which are taken back after that time where nobody confirms them
//	POST /v1/rules/confirm?digest=D       has them count
//	DELETE /v1/rules                      has everything be let in again
//	POST /v1/restart                      ends the agent so that it is started anew; its members go on
//	POST /v1/leave                        ends the agent and its members, takes everything of them away, and gives a list of what is left
func (a *Agent) handler(life context.Context) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /v1/members/{name}", func(w http.ResponseWriter, r *http.Request) {
		var o order.Order
		if read(w, r, &o) {
			if string(o.Member) != r.PathValue("name") {
				http.Error(w, "the order is for another member", http.StatusBadRequest)
				return
			}
			refuse(w, a.Take(life, o))
		}
	})
	mux.HandleFunc("PUT /v1/operations/{id}", func(w http.ResponseWriter, r *http.Request) {
		var o order.Operation
		if read(w, r, &o) {
			if strconv.FormatUint(o.ID, 10) != r.PathValue("id") {
				http.Error(w, "the operation has another id", http.StatusBadRequest)
				return
			}
			refuse(w, a.Operate(life, o))
		}
	})
	mux.HandleFunc("GET /v1/reports", func(w http.ResponseWriter, r *http.Request) {
		after, _ := strconv.ParseUint(r.FormValue("after"), 10, 64)
		ack, _ := strconv.ParseUint(r.FormValue("ack"), 10, 64)
		wait, _ := time.ParseDuration(r.FormValue("wait"))
		if !watches(r) {
			a.reports.acknowledge(r.FormValue("life"), ack)
			if wait > 0 { // who only looks does not wait; a controller does
				a.asked.Store(time.Now().UnixNano())
			}
		}
		ctx, cancel := context.WithTimeout(r.Context(), min(wait, longestWait))
		defer cancel()
		w.Header().Set("Content-Type", "application/json")
		for !a.reports.await(ctx, r.FormValue("life"), after, agentapi.Heartbeat) && ctx.Err() == nil {
			if _, err := io.WriteString(w, "\n"); err != nil { // nothing new, and alive
				return
			}
			w.(http.Flusher).Flush()
		}
		_ = json.NewEncoder(w).Encode(agentapi.News{Agent: a.id, Reports: a.reports.since(r.FormValue("life"), after)})
	})
	mux.HandleFunc("GET /v1/series", func(w http.ResponseWriter, r *http.Request) {
		after, err := time.Parse(time.RFC3339Nano, r.FormValue("after"))
		if text := r.FormValue("after"); err != nil && text != "" {
			http.Error(w, fmt.Sprintf("%q is no time", text), http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(a.series(after))
	})
	mux.HandleFunc("GET /v1/samples", func(w http.ResponseWriter, r *http.Request) {
		after, err := time.Parse(time.RFC3339Nano, r.FormValue("after"))
		if err != nil {
			http.Error(w, fmt.Sprintf("%q is no time", r.FormValue("after")), http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(a.samplesAfter(after))
	})
	mux.HandleFunc("GET /v1/members/{name}/log", func(w http.ResponseWriter, r *http.Request) {
		after, _ := strconv.ParseInt(r.FormValue("after"), 10, 64)
		most, _ := strconv.Atoi(r.FormValue("most"))
		log, err := a.readLog(field.MemberName(r.PathValue("name")), after, most)
		if err != nil {
			http.Error(w, err.Error(), http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(log)
	})
	mux.HandleFunc("POST /v1/search", func(w http.ResponseWriter, r *http.Request) {
		var s agentapi.Search
		if read(w, r, &s) {
			found, err := a.search(r.Context(), s)
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(found)
		}
	})
	mux.HandleFunc("POST /v1/members/{name}/visit", func(w http.ResponseWriter, r *http.Request) { a.visit(life, w, r) })
	mux.HandleFunc("POST /v1/members/{name}/ask", func(w http.ResponseWriter, r *http.Request) {
		var q order.Question
		if read(w, r, &q) {
			said, err := a.ask(r.Context(), field.MemberName(r.PathValue("name")), q)
			if err != nil {
				refuse(w, err)
				return
			}
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(said)
		}
	})
	mux.HandleFunc("POST "+agentapi.Inspection, func(w http.ResponseWriter, r *http.Request) {
		if conn, done := a.upgrade(life, w, r, agentapi.InspectProtocol); conn != nil {
			defer done()
			_ = inspect.Serve(life, conn)
		}
	})
	mux.HandleFunc("POST /v1/lookups", func(w http.ResponseWriter, r *http.Request) {
		var lookups []order.Lookup
		if read(w, r, &lookups) {
			missing := []string{}
			for _, l := range lookups {
				if err := a.lookFor(l); err != nil {
					missing = append(missing, err.Error())
				}
			}
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(missing)
		}
	})
	mux.HandleFunc("GET /v1/standing", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(a.standing())
	})
	mux.HandleFunc("GET /v1/account", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(a.account())
	})
	mux.HandleFunc("PUT /v1/claim", func(w http.ResponseWriter, r *http.Request) {
		var c order.Claim
		if read(w, r, &c) {
			again, err := a.Hear(c)
			refuse(w, err)
			if again {
				a.ended.Store(true) // before it has answered: what is asked for next is for the successor, which knows what runs
				slog.Warn("a person has taken the field over with another log; a successor gives account", "log", c.Log)
				a.quit()
			}
		}
	})
	mux.HandleFunc("POST "+agentapi.Renewal, func(w http.ResponseWriter, _ *http.Request) {
		request, err := a.party.Request()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		_, _ = w.Write(request)
	})
	mux.HandleFunc("PUT "+agentapi.Renewal, func(w http.ResponseWriter, r *http.Request) {
		certificate, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
		if err == nil {
			err = a.party.Take(certificate, nil)
		}
		if err == nil {
			err = a.keepIdentity()
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
		}
	})
	mux.HandleFunc("PUT "+agentapi.Counting, func(w http.ResponseWriter, r *http.Request) {
		signed, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		refuse(w, a.follow(signed))
	})
	mux.HandleFunc("PUT /v1/copy", a.putCopy)
	mux.HandleFunc("POST /v1/quit", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusAccepted)
		a.quit()
	})
	mux.HandleFunc("PUT /v1/programs/{name}", a.replace)
	mux.HandleFunc("PUT /v1/rules", func(w http.ResponseWriter, r *http.Request) {
		var rules filter.Rules
		if read(w, r, &rules) {
			within, _ := time.ParseDuration(r.FormValue("within"))
			refuse(w, a.takeRules(r.Context(), rules, within))
		}
	})
	mux.HandleFunc("POST /v1/rules/confirm", func(w http.ResponseWriter, r *http.Request) { refuse(w, a.confirmRules(r.FormValue("digest"))) })
	mux.HandleFunc("DELETE /v1/rules", func(w http.ResponseWriter, r *http.Request) { refuse(w, a.dropRules(r.Context())) })
	mux.HandleFunc("POST /v1/restart", func(w http.ResponseWriter, _ *http.Request) { a.restart(w) })
	mux.HandleFunc("POST /v1/leave", func(w http.ResponseWriter, _ *http.Request) { a.leave(w) })
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if a.ended.Load() {
			http.Error(w, "this agent ends; its successor answers", http.StatusServiceUnavailable)
			return
		}
		if _, route := mux.Handler(r); watches(r) && !toWatchers[route] {
			http.Error(w, "a keeper whose keyring is sealed may read reports and measures, and nothing else", http.StatusForbidden)
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// toWatchers is what somebody who only watches may ask for. Output of programs is not among it.
var toWatchers = map[string]bool{"GET /v1/standing": true, "GET /v1/reports": true, "GET /v1/series": true}

type watcherKey struct{}

// watching notes of a connection whether who is at its other end only watches.
func watching(ctx context.Context, conn net.Conn) context.Context {
	return context.WithValue(ctx, watcherKey{}, identity.Watches(conn))
}

func watches(r *http.Request) bool {
	only, _ := r.Context().Value(watcherKey{}).(bool)
	return only
}

// read takes what was ordered out of a request. It tells whether that could be read; if not, it has been said.
func read(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<20)).Decode(into); err != nil {
		http.Error(w, "the order cannot be read: "+err.Error(), http.StatusBadRequest)
		return false
	}
	return true
}

// refuse says why an order was not taken, if it was not.
func refuse(w http.ResponseWriter, err error) {
	var refused *agentapi.Refused
	if errors.As(err, &refused) {
		http.Error(w, refused.Why, refused.Status)
	}
}

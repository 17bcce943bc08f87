package agent

import (
	"context"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// answers is what an agent tells anybody who asks about one of its members, on the ports of the member that are the agent's: whether it is
// ready, and whether it leads. Entries choose by it whom they pass connections to, also while no controller runs. It is yes or no,
// and nothing else; it is no secret, and needs no certificate.
type answers struct {
	member field.MemberName

	mu      sync.Mutex
	ready   bool
	leads   bool
	going   bool // it is about to be asked to end
	servers map[string]*http.Server
}

// What is answered.
const (
	answerYes   = http.StatusOK
	answerNo    = http.StatusServiceUnavailable
	answerGoing = http.StatusNotFound // yes, but not for long: keep what is there, and bring nothing new
)

func (a *answers) setReady(ready bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.ready = ready
}

func (a *answers) isReady() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.ready
}

func (a *answers) setLeads(leads bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.leads = leads
}

// ended says that the member's process has ended.
func (a *answers) ended() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.ready, a.leads, a.going = false, false, false
}

// goes says that the member is about to be asked to end. It tells whether anybody can hear that.
func (a *answers) goes() (heard bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.going = true
	return a.ready && len(a.servers) > 0
}

// listen answers on the ports of a spec that are the agent's, and on no others. What it listens on already goes on.
func (a *answers) listen(spec *order.Spec) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	wanted := map[string]string{}
	for name, p := range spec.Ports {
		if p.By != field.ByAgent {
			continue
		}
		wanted[net.JoinHostPort(portHost(spec, p), strconv.Itoa(p.Number))] = name
	}
	for address, s := range a.servers {
		if wanted[address] == "" {
			_ = s.Close()
			delete(a.servers, address)
		}
	}
	for address, name := range wanted {
		if a.servers[address] != nil {
			continue
		}
		l, err := net.Listen("tcp", address)
		if err != nil {
			if whose := runtime.Free(name, spec.Ports[name], spec.Address); whose != nil {
				return whose
			}
			return err
		}
		if a.servers == nil {
			a.servers = map[string]*http.Server{}
		}
		s := &http.Server{Handler: a, ReadHeaderTimeout: 2 * time.Second, ReadTimeout: 2 * time.Second, WriteTimeout: 2 * time.Second,
			MaxHeaderBytes: 4 << 10, ErrorLog: log.New(io.Discard, "", 0)}
		s.SetKeepAlivesEnabled(false)
		l = &few{l, make(chan struct{}, mostAsking)}
		a.servers[address] = s
		go func() {
			if err := s.Serve(l); err != http.ErrServerClosed {
				slog.Error("those who ask about a member get no answer", "member", a.member, "error", err)
			}
		}()
	}
	return nil
}

// mostAsking is how many may be connected at once to ask about a member: anybody can, and the agent needs its files for other things.
const mostAsking = 64

// few is a listener that takes only so many connections at a time.
type few struct {
	net.Listener
	room chan struct{}
}

// Accept waits for room, then for a connection.
func (f *few) Accept() (net.Conn, error) {
	f.room <- struct{}{}
	conn, err := f.Listener.Accept()
	if err != nil {
		<-f.room
		return nil, err
	}
	return &oneOfFew{Conn: conn, leave: sync.OnceFunc(func() { <-f.room })}, nil
}

type oneOfFew struct {
	net.Conn
	leave func()
}

// Close makes room for another.
func (c *oneOfFew) Close() error {
	defer c.leave()
	return c.Conn.Close()
}

// close answers no more.
func (a *answers) close() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, s := range a.servers {
		_ = s.Close()
	}
	a.servers = nil
}

// ServeHTTP answers /ready, /leads and /follows, whatever the method.
func (a *answers) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	yes, known := map[string]bool{"/ready": a.ready, "/leads": a.ready && a.leads, "/follows": a.ready && !a.leads}[r.URL.Path]
	going := a.going
	a.mu.Unlock()
	status, text := answerNo, "no\n"
	switch {
	case !known:
		status, text = http.StatusBadRequest, "ask /ready, /leads or /follows\n"
	case yes && going && r.URL.Path != "/leads": // who leads is written to until another does, or it ends
		status, text = answerGoing, "yes, and about to go\n"
	case yes:
		status, text = answerYes, "yes\n"
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	_, _ = io.WriteString(w, text)
}

// drain has those who ask bring the member nothing new, for as long as the program's stop says, before it is asked to end. Its process
// may end meanwhile.
func (m *member) drain(ctx context.Context, how time.Duration) {
	if how <= 0 || !m.answers.goes() {
		return
	}
	timer := time.NewTimer(how)
	defer timer.Stop()
	exited := m.proc.Exited()
	select {
	case <-timer.C:
	case <-ctx.Done():
	case e := <-exited:
		m.proc = endedRun{m.proc, e}
	}
}

// endedRun is a run whose end was heard while something else was waited for.
type endedRun struct {
	runtime.Run
	exit order.Exit
}

// Exited gives the end again.
func (r endedRun) Exited() <-chan order.Exit {
	again := make(chan order.Exit, 1)
	again <- r.exit
	return again
}

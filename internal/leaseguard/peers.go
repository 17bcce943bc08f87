package leaseguard

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/core/lease"
)

// asked is what one guard asks another: not to take over from who holds the lease of that number, for as long as a lease lasts.
type asked struct {
	From   lease.Name `json:"from"`
	Number uint64     `json:"number"`
}

// listen answers the guards of the other members and whoever may hand over, and on the ports for answers everybody who asks how the member is.
func (g *guard) listen() error {
	c := g.config
	me := slices.IndexFunc(c.Members, func(p lease.Place) bool { return p.Member == c.Member })
	if me < 0 {
		return fmt.Errorf("%s is not among the members of %s", c.Member, c.Role)
	}
	l, err := net.Listen("tcp", c.Members[me].Guard)
	if err != nil {
		return err
	}
	if c.Secured {
		l = tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS13, ClientAuth: tls.RequireAnyClientCert,
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return shows(c.Certificate) },
			VerifyConnection: func(s tls.ConnectionState) error {
				return verify(g.settings(), s)
			}})
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /promise", g.servePromise)
	mux.HandleFunc("POST /hand-over", g.serveHandOver)
	mux.HandleFunc("GET /state", func(w http.ResponseWriter, _ *http.Request) { answer(w, g.standing()) })
	serve(l, mux)
	for _, at := range c.Answers {
		l, err := net.Listen("tcp", at)
		if err != nil {
			return err
		}
		serve(l, http.HandlerFunc(g.serveAnswer))
	}
	return nil
}

// verify checks who connects: a member of this role, by a certificate of the field's authorities as they are now. Members of other roles have none of this.
func verify(c *lease.Config, s tls.ConnectionState) error {
	pool, err := believes(c.Authority)
	if err != nil {
		return err
	}
	if len(s.PeerCertificates) == 0 {
		return errors.New("no certificate")
	}
	between := x509.NewCertPool()
	for _, c := range s.PeerCertificates[1:] {
		between.AddCert(c)
	}
	own := s.PeerCertificates[0]
	if _, err = own.Verify(x509.VerifyOptions{Roots: pool, Intermediates: between, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
		return err
	}
	if !slices.ContainsFunc(c.Members, func(p lease.Place) bool { return own.VerifyHostname(string(p.Member)) == nil }) {
		return fmt.Errorf("the certificate is not that of a member of %s", c.Role)
	}
	return nil
}

func serve(l net.Listener, h http.Handler) {
	s := &http.Server{Handler: h, ReadHeaderTimeout: 2 * time.Second, ReadTimeout: 5 * time.Second, WriteTimeout: 2 * time.Minute, IdleTimeout: 10 * time.Second,
		MaxHeaderBytes: 8 << 10, ErrorLog: log.New(io.Discard, "", 0)}
	go func() { _ = s.Serve(l) }()
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

// servePromise promises another guard to take nothing for as long as a lease lasts, where this one goes by the same lease.
func (g *guard) servePromise(w http.ResponseWriter, r *http.Request) {
	var a asked
	if err := json.NewDecoder(io.LimitReader(r.Body, 4<<10)).Decode(&a); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.term.held() != 0 || g.claiming || g.kept.Number != a.Number {
		http.Error(w, fmt.Sprintf("%s goes by number %d", g.config.Member, g.kept.Number), http.StatusConflict)
		return
	}
	k := g.kept
	k.Bound, k.Boot = now()+time.Duration(g.config.For), bootID()
	if err := g.put(k); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	g.bound = k.Bound
	answer(w, struct{}{})
}

// call asks another guard, and gives its answer.
func (g *guard) call(ctx context.Context, method, at, path string, body []byte) ([]byte, error) {
	c := g.settings()
	scheme, transport := "http", &http.Transport{DisableKeepAlives: true}
	if c.Secured {
		pool, err := believes(c.Authority)
		if err != nil {
			return nil, err
		}
		scheme = "https"
		transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS13,
			GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return shows(c.Certificate) }}
	}
	r, err := http.NewRequestWithContext(ctx, method, scheme+"://"+at+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	got, err := (&http.Client{Transport: transport}).Do(r)
	if err != nil {
		return nil, err
	}
	defer got.Body.Close()
	said, err := io.ReadAll(io.LimitReader(got.Body, 4<<10))
	if err == nil && got.StatusCode != http.StatusOK {
		err = errors.New(strings.TrimSpace(string(said)))
	}
	return said, err
}

// each asks all other guards at once, and gives what each has answered; nil where one has not.
func (g *guard) each(within time.Duration, method, path string, body []byte) map[lease.Name][]byte {
	c := g.settings()
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	var wg sync.WaitGroup
	said := make([][]byte, len(c.Members))
	for i, p := range c.Members {
		if p.Member != c.Member {
			wg.Go(func() {
				if got, err := g.call(ctx, method, p.Guard, path, body); err == nil {
					said[i] = got
				}
			})
		}
	}
	wg.Wait()
	answers := map[lease.Name][]byte{}
	for i, p := range c.Members {
		if p.Member != c.Member {
			answers[p.Member] = said[i]
		}
	}
	return answers
}

// promises asks all other guards to take nothing, and tells whether all will.
func (g *guard) promises(number uint64) bool {
	c := g.settings()
	for _, said := range g.each(time.Duration(c.For)/5, http.MethodPost, "/promise", []byte(text(asked{From: c.Member, Number: number}))) {
		if said == nil {
			return false
		}
	}
	return true
}

// highest asks the other guards for the highest number that one of them goes by. Those that do not answer soon are passed over: it is a question about the store,
// which is asked for the case that somebody has put it back.
func (g *guard) highest() (number uint64, who lease.Name) {
	for name, said := range g.each(300*time.Millisecond, http.MethodGet, "/state", nil) {
		var s standing
		if json.Unmarshal(said, &s) == nil && s.Number > number {
			number, who = s.Number, name
		}
	}
	return number, who
}

// serveHandOver has the member in the body lead instead of this one. It answers when this one has given up the lease for it.
func (g *guard) serveHandOver(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<10))
	to := lease.Name(strings.TrimSpace(string(body)))
	if err != nil || to == "" {
		http.Error(w, "say to whom", http.StatusBadRequest)
		return
	}
	done := make(chan error, 1)
	select {
	case g.handOver <- handing{to, done}:
	case <-r.Context().Done():
		return
	}
	select {
	case err = <-done:
	case <-r.Context().Done():
		return
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusConflict)
		return
	}
	answer(w, struct{}{})
}

// serveAnswer answers /ready, /leads and /follows, as agents do for members that have no guard.
func (g *guard) serveAnswer(w http.ResponseWriter, r *http.Request) {
	s := g.standing()
	yes, known := map[string]bool{"/ready": s.Leads || s.Follows, "/leads": s.Leads, "/follows": s.Follows}[r.URL.Path]
	status, said := http.StatusServiceUnavailable, "no\n"
	switch {
	case !known:
		status, said = http.StatusBadRequest, "ask /ready, /leads or /follows\n"
	case yes && s.Going && r.URL.Path != "/leads":
		status, said = http.StatusNotFound, "yes, and about to go\n"
	case yes:
		status, said = http.StatusOK, "yes\n"
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(status)
	_, _ = io.WriteString(w, said)
}

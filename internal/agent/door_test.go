package agent

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/order"
	"lanternfield/internal/identity"
)

// otherAuthority is that of another field.
func otherAuthority(t *testing.T) *identity.Authority {
	t.Helper()
	a, err := identity.Open(filepath.Join(t.TempDir(), "authority.pem"))
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestOnlyAControllerOfTheFieldIsHeard has everybody else come to an agent's door.
func TestOnlyAControllerOfTheFieldIsHeard(t *testing.T) {
	c, _ := started(t, t.TempDir())
	foreign, err := otherAuthority(t).Controller()
	if err != nil {
		t.Fatal(err)
	}
	authority, us := parties(t)
	// Another agent of the same field, which shows the certificate that it has.
	var agent identity.Agent
	request, err := agent.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := authority.Sign(request, "tern-1")
	if err = errors.Join(err, agent.Take(certificate, authority.Certificate())); err != nil {
		t.Fatal(err)
	}
	its, err := agent.Terms().GetConfigForClient(nil)
	if err != nil {
		t.Fatal(err)
	}
	asAgent := us.To("gull-1")
	asAgent.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return &its.Certificates[0], nil }
	nobody := us.To("gull-1")
	nobody.GetClientCertificate = nil
	old := us.To("gull-1")
	old.MinVersion, old.MaxVersion = tls.VersionTLS12, tls.VersionTLS12
	for who, terms := range map[string]*tls.Config{"the controller of another field": foreign.To("gull-1"), "another node's agent": asAgent,
		"who has no certificate": nobody, "who speaks an older TLS": old, "who wants another node": us.To("tern-1")} {
		wrong := agentapi.NewClient(c.Url, terms, nil)
		for what, err := range map[string]error{
			"put":  wrong.Put(context.Background(), order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")}),
			"quit": wrong.Quit(context.Background()),
		} {
			if err == nil {
				t.Errorf("%s was heard: %s", who, what)
			}
		}
		wrong.Close()
	}
	if res, err := http.Get(strings.Replace(c.Url, "https", "http", 1) + "/v1/standing"); err == nil {
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		t.Errorf("plain HTTP was answered: %d %s", res.StatusCode, body)
	}
	if _, err := c.Standing(context.Background()); err != nil {
		t.Errorf("the controller is not heard: %v", err)
	}
}

// TestWhoTakesADeadAgentsPortHearsNothing listens where an agent was, as another user of the machine could.
func TestWhoTakesADeadAgentsPortHearsNothing(t *testing.T) {
	heard := make(chan string, 100)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	foreign := otherAuthority(t)
	var agent identity.Agent
	request, err := agent.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := foreign.Sign(request, "gull-1")
	if err = errors.Join(err, agent.Take(certificate, foreign.Certificate())); err != nil {
		t.Fatal(err)
	}
	terms, err := agent.Terms().GetConfigForClient(nil)
	if err != nil {
		t.Fatal(err)
	}
	terms.ClientAuth = tls.RequestClientCert
	terms.VerifyConnection = func(s tls.ConnectionState) error {
		heard <- fmt.Sprint("a certificate: ", len(s.PeerCertificates))
		return nil
	}
	go func() {
		_ = http.Serve(tls.NewListener(l, terms), http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { heard <- r.Method + " " + r.URL.Path }))
	}()
	_, us := parties(t)
	c := agentapi.NewClient("https://"+l.Addr().String(), us.To("gull-1"), nil)
	defer c.Close()
	if err := c.Put(context.Background(), order.Order{Term: 1, Revision: 1, Member: "it-1", Spec: sleeper("it")}); !errors.Is(err, agentapi.ErrUntrusted) {
		t.Errorf("got %v", err)
	}
	select {
	case what := <-heard:
		t.Errorf("it heard %s", what)
	case <-time.After(50 * time.Millisecond):
	}
}

// TestAFloodOfStrangersCostsLittleAndKeepsNobodyOut opens a thousand connections that say nothing.
func TestAFloodOfStrangersCostsLittleAndKeepsNobodyOut(t *testing.T) {
	c, _ := started(t, t.TempDir())
	if _, err := c.Standing(context.Background()); err != nil {
		t.Fatal(err)
	}
	c.Close()
	address := strings.TrimPrefix(c.Url, "https://")
	before := openFiles(t)
	var conns []net.Conn
	defer func() {
		for _, conn := range conns {
			conn.Close()
		}
	}()
	for range 1000 {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		conns = append(conns, conn)
	}
	begin := time.Now()
	if _, err := c.Standing(context.Background()); err != nil {
		t.Errorf("the controller is kept out: %v", err)
	}
	t.Logf("the controller is heard after %s among 1000 strangers", time.Since(begin))
	waitFor(t, func() bool { return openFiles(t)-before-len(conns) <= 64+8 })
	waitFor(t, func() bool { return openFiles(t)-before-len(conns) <= 8 }) // they have had their time
}

func openFiles(t *testing.T) int {
	t.Helper()
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		t.Fatal(err)
	}
	return len(entries)
}

// TestACertificateIsRenewedWithoutABreak renews in the middle of a conversation.
func TestACertificateIsRenewedWithoutABreak(t *testing.T) {
	c, _ := started(t, t.TempDir())
	authority, us := parties(t)
	c.Sign = func(request []byte) ([]byte, error) { return authority.Sign(request, "gull-1") }
	c.Due = authority.Teller()
	waiting := make(chan error, 1)
	go func() {
		_, err := c.Reports(context.Background(), "", 0, 0, time.Second)
		waiting <- err
	}()
	if err := c.Renew(context.Background()); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Standing(context.Background()); err != nil {
		t.Errorf("after its renewal: %v", err)
	}
	if err := <-waiting; err != nil {
		t.Errorf("a request that was open: %v", err)
	}
	stolen, err := authority.Sign(mustRequest(t), "gull-1")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Do(context.Background(), http.MethodPut, agentapi.Renewal, stolen); err == nil {
		t.Error("it took a certificate for a key that is not its own")
	}
	other := agentapi.NewClient(c.Url, us.To("gull-1"), nil)
	defer other.Close()
	if _, err := other.Standing(context.Background()); err != nil {
		t.Error(err)
	}
}

func mustRequest(t *testing.T) []byte {
	t.Helper()
	var other identity.Agent
	request, err := other.Request()
	if err != nil {
		t.Fatal(err)
	}
	return request
}

// TestAWatcherIsToldAndNotObeyed asks for all that there is as somebody who only watches.
func TestAWatcherIsToldAndNotObeyed(t *testing.T) {
	c, _ := started(t, t.TempDir())
	authority, _ := parties(t)
	name := filepath.Join(t.TempDir(), "watch.pem")
	text, err := authority.Watch()
	if err = errors.Join(err, os.WriteFile(name, text, 0o600)); err != nil {
		t.Fatal(err)
	}
	us, err := identity.OpenWatch(name)
	if err != nil {
		t.Fatal(err)
	}
	if us.Outdated(authority) || !us.Outdated(otherAuthority(t)) {
		t.Error("whether it is to be made anew")
	}
	w := agentapi.NewClient(c.Url, us.To("gull-1"), nil)
	defer w.Close()
	ctx := context.Background()
	before, err := w.Standing(ctx)
	if err != nil {
		t.Fatal(err)
	}
	news, err := w.Reports(ctx, before.Agent, 0, 0, 0)
	if err != nil || len(news.Reports) == 0 {
		t.Fatalf("its reports: %v, %v", news, err)
	}
	if _, err := w.Reports(ctx, before.Agent, 0, news.Reports[len(news.Reports)-1].Seq, 0); err != nil {
		t.Fatal(err)
	}
	if again, err := w.Reports(ctx, before.Agent, 0, 0, 0); err != nil || len(again.Reports) < len(news.Reports) {
		t.Errorf("a watcher has acknowledged reports: %d of %d are left, %v", len(again.Reports), len(news.Reports), err)
	}
	if _, err := w.Series(ctx, time.Time{}); err != nil {
		t.Error(err)
	}
	_, account := w.Account(ctx)
	_, log := w.Log(ctx, "it-1", 0, 10)
	_, asked := w.Ask(ctx, "it-1", order.Question{})
	_, looked := w.Lookups(ctx, nil)
	for what, err := range map[string]error{
		"an order": w.Put(ctx, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")}), "an operation": w.Operate(ctx, order.Operation{ID: 1}),
		"a claim": w.Claim(ctx, order.Claim{}), "to end": w.Quit(ctx), "a certificate": w.Renew(ctx), "its account": account, "a log": log, "a question": asked, "a look": looked,
	} {
		var refused *agentapi.Refused
		if !errors.As(err, &refused) || refused.Status != http.StatusForbidden {
			t.Errorf("a watcher asks for %s: %v", what, err)
		}
	}
	if after, err := w.Standing(ctx); err != nil || after != before {
		t.Errorf("after that: %+v, before %+v, %v", after, before, err)
	}
}

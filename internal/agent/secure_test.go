package agent

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/identity"
)

// issued makes a member's certificate by the field's authority of that number.
func issued(t *testing.T, authority int, holder string, names ...string) (bundle, chain, key string) {
	t.Helper()
	m := identity.MembersOf(func(number int) ([]byte, error) {
		sum := sha256.Sum256(fmt.Appendf(nil, "root %d", number))
		return sum[:], nil
	})
	from := time.Now().Add(-time.Hour)
	by := trust.Authority{Number: authority, From: from, Until: from.Add(trust.AuthorityFor)}
	c := trust.Certificate{Field: "saltmarsh", Holder: holder, Names: names, By: by, Issue: trust.Issue{Number: 1, By: authority, From: from, Until: from.Add(trust.CertificateFor)}}
	for _, part := range []struct {
		into *string
		mark trust.Mark
	}{{&bundle, trust.Mark{Kind: trust.Authorities, Field: "saltmarsh", Authorities: []trust.Authority{by}}}, {&chain, trust.Mark{Kind: trust.Chain, Certificate: &c}}, {&key, trust.Mark{Kind: trust.Key, Certificate: &c}}} {
		text, err := m.Of(part.mark)
		if err != nil {
			t.Fatal(err)
		}
		*part.into = text
	}
	return bundle, chain, key
}

// securedServer answers HTTP over TLS, after what a connection begins with in the clear. It asks for a certificate.
func securedServer(t *testing.T, chain, key, greeting, awaited, answer string) net.Addr {
	t.Helper()
	pair, err := tls.X509KeyPair([]byte(chain), []byte(key))
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_, _ = io.WriteString(conn, greeting)
				if _, err := io.ReadFull(conn, make([]byte, len(awaited))); err != nil {
					return
				}
				_, _ = io.WriteString(conn, answer)
				secured := tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{pair}, ClientAuth: tls.RequireAnyClientCert})
				line, err := bufio.NewReader(secured).ReadString('\n')
				if err == nil {
					_, _ = fmt.Fprintf(secured, "HTTP/1.1 200 OK\r\nContent-Length: 11\r\n\r\n{\"ok\":true}%s", strings.TrimSpace(line))
				}
			}()
		}
	}()
	return l.Addr()
}

// TestMembersAreAskedOverTLS asks members that speak TLS at once, and after something in the clear; of a foreign authority, and under another name.
func TestMembersAreAskedOverTLS(t *testing.T) {
	bundle, chain, key := issued(t, 1, "store-1", "127.0.0.1")
	_, foreign, foreignKey := issued(t, 2, "store-1", "127.0.0.1")
	_, elsewhere, elsewhereKey := issued(t, 1, "store-1", "127.0.0.9")
	for _, row := range []struct {
		name                      string
		chain, key                string
		upgrade                   field.Upgrade
		greeting, awaited, answer string
		why                       string // part of what is wrong; empty where it is answered
	}{
		{name: "at once", chain: chain, key: key},
		{name: "after a greeting", chain: chain, key: key, greeting: "INFO {}\r\n", upgrade: field.Upgrade{Greeting: "\r\n"}},
		{name: "after a request", chain: chain, key: key, awaited: "\x00\xd2", answer: "S", upgrade: field.Upgrade{SendHex: "00 d2", Answer: "S"}},
		{name: "refused", chain: chain, key: key, awaited: "\x00\xd2", answer: "N", upgrade: field.Upgrade{SendHex: "00d2", Answer: "S"}, why: "it says N, and not \"S\""},
		{name: "a foreign authority", chain: foreign, key: foreignKey, why: "signed by unknown authority"},
		{name: "another name", chain: elsewhere, key: elsewhereKey, why: "valid for 127.0.0.9, not 127.0.0.1"},
	} {
		at := securedServer(t, row.chain, row.key, row.greeting, row.awaited, row.answer).(*net.TCPAddr)
		a := &asker{member: "store-1", compile: newCompiled(), spec: &order.Spec{Address: "127.0.0.1", TLS: &order.TLS{Authority: bundle, Certificate: chain, Key: key},
			Ports: map[string]order.Port{"client": {Number: at.Port, TLS: true, Upgrade: row.upgrade}}}}
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		got, err := a.ask(ctx, field.Call{HTTP: &field.HTTPCall{Port: "client", Path: "/health"}})
		shown, tlsErr := a.ask(ctx, field.Call{TLS: &field.TLSCall{Port: "client"}})
		cancel()
		if row.why != "" {
			for _, err := range []error{err, tlsErr} {
				if err == nil || !strings.Contains(err.Error(), row.why) {
					t.Errorf("%s: got %v, want %s", row.name, err, row.why)
				}
			}
			continue
		}
		if err != nil || got.status != 200 || got.env["body"].(map[string]any)["ok"] != true {
			t.Errorf("%s: got %+v, %v", row.name, got, err)
		}
		if tlsErr != nil || shown.env["body"].(map[string]any)["names"].([]string)[0] != "127.0.0.1" {
			t.Errorf("%s: it shows %+v, %v", row.name, shown, tlsErr)
		}
	}
}

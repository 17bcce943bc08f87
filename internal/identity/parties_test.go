package identity

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"testing"
	"time"
)

// meet has a controller and an agent shake hands, and gives what each thinks of it.
func meet(t *testing.T, c *Controller, a *Agent, node string) (controller, agent error) {
	t.Helper()
	ours, theirs := net.Pipe()
	defer ours.Close()
	heard := make(chan error, 1)
	go func() {
		conn := tls.Server(theirs, a.Terms())
		err := conn.Handshake()
		if err == nil {
			_, err = conn.Write([]byte("x"))
		}
		theirs.Close()
		heard <- err
	}()
	_ = ours.SetDeadline(time.Now().Add(5 * time.Second))
	conn := tls.Client(ours, c.To(node))
	err := conn.Handshake()
	if err == nil { // with TLS 1.3 a client hears only then whether it was taken
		_, err = conn.Read(make([]byte, 1))
	}
	ours.Close()
	return err, <-heard
}

// TestWhatHasExpiredCountsNoMore has controllers and agents show certificates that were made long ago: one of an agent after a year, one of a controller
// after a day. Each makes itself another long before.
func TestWhatHasExpiredCountsNoMore(t *testing.T) {
	authority, _, err := New()
	if err != nil {
		t.Fatal(err)
	}
	agentOf := func(ago time.Duration) *Agent {
		authority.now = func() time.Time { return time.Now().Add(-ago) }
		defer func() { authority.now = time.Now }()
		var a Agent
		request, err := a.Request()
		if err != nil {
			t.Fatal(err)
		}
		certificate, err := authority.Sign(request, "gull-1")
		if err = errors.Join(err, a.Take(certificate, authority.Certificate())); err != nil {
			t.Fatal(err)
		}
		return &a
	}
	controllerOf := func(ago time.Duration) *Controller {
		authority.now = func() time.Time { return time.Now().Add(-ago) }
		defer func() { authority.now = time.Now }()
		c, err := authority.Controller()
		if err != nil {
			t.Fatal(err)
		}
		c.now = time.Now
		return c
	}
	for _, test := range []struct {
		what              string
		controller, agent time.Duration
		stolen            bool // the authority is not at hand to make another one
		met               bool
	}{
		{"both new", 0, 0, true, true},
		{"a controller's of yesterday", 25 * time.Hour, 0, true, false},
		{"a controller that makes itself another", 25 * time.Hour, 0, false, true},
		{"a controller's of this morning", 12 * time.Hour, 0, true, true},
		{"an agent's of half a year ago", 0, 180 * 24 * time.Hour, true, true},
		{"an agent's of last year", 0, 366 * 24 * time.Hour, true, false},
	} {
		c, a := controllerOf(test.controller), agentOf(test.agent)
		if test.stolen {
			c.authority, c.roots = nil, []*x509.Certificate{authority.current.cert}
		}
		controller, agent := meet(t, c, a, "gull-1")
		if met := controller == nil && agent == nil; met != test.met {
			t.Errorf("%s: the controller %v, the agent %v", test.what, controller, agent)
		}
	}
	if due := DueAt(agentOf(0).cert.Leaf); time.Until(due).Round(24*time.Hour) != 243*24*time.Hour {
		t.Errorf("an agent's certificate is renewed at %v", due)
	}
	c := controllerOf(0)
	if due := DueAt(c.mine.Leaf); time.Until(due).Round(time.Hour) != 16*time.Hour {
		t.Errorf("a controller's certificate is renewed at %v", due)
	}
}

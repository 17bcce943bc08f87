package agent

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/netfault"
)

// terms are those on which a member is asked over TLS: its certificate must be vouched for by the field's authority and have the address that is asked;
// the member's own is shown.
type terms struct {
	of     order.TLS
	config *tls.Config
}

// lately keeps what was made of PEM last: probes ask the same again and again.
var lately struct {
	sync.Mutex
	terms []*terms // the newest last
}

const mostTerms = 32

// termsOf makes the terms out of what a spec has.
func termsOf(t *order.TLS) (*tls.Config, error) {
	if t == nil {
		return nil, errors.New("TLS is spoken there, and no authority is known by which it could be verified")
	}
	lately.Lock()
	defer lately.Unlock()
	for _, known := range lately.terms {
		if known.of == *t {
			return known.config, nil
		}
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM([]byte(t.Authority)) {
		return nil, errors.New("the authority by which TLS is verified cannot be read")
	}
	config := &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	if t.Certificate != "" {
		pair, err := tls.X509KeyPair([]byte(t.Certificate), []byte(t.Key))
		if err != nil {
			return nil, fmt.Errorf("the member's certificate cannot be used: %w", err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	lately.terms = append(lately.terms, &terms{*t, config})
	if len(lately.terms) > mostTerms {
		lately.terms = lately.terms[1:]
	}
	return config, nil
}

// dial connects to a port of the member, over TLS where that is spoken there.
func (a *asker) dial(ctx context.Context, name string) (net.Conn, error) {
	var d net.Dialer
	at := a.address(name)
	conn, err := d.DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, netfault.Of("connect to "+at, err)
	}
	port := a.spec.Ports[name]
	if !port.TLS {
		return conn, nil
	}
	secured, err := a.upgrade(ctx, conn, port)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return secured, nil
}

// upgrade begins TLS on a connection.
func (a *asker) upgrade(ctx context.Context, conn net.Conn, port order.Port) (net.Conn, error) {
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if err := greet(ctx, conn, port.Upgrade); err != nil {
		return nil, fmt.Errorf("TLS cannot be begun with %s: %w", conn.RemoteAddr(), err)
	}
	config, err := termsOf(a.spec.TLS)
	if err != nil {
		return nil, err
	}
	config = config.Clone()
	config.ServerName = cmp.Or(a.name, port.Address, a.spec.Address)
	secured := tls.Client(conn, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		return nil, netfault.Of("TLS with "+conn.RemoteAddr().String(), err)
	}
	return secured, nil
}

// greet does what comes before TLS where a connection begins in the clear. It reads no byte too many.
func greet(ctx context.Context, conn net.Conn, u field.Upgrade) error {
	if err := readUpTo(ctx, conn, u.Greeting); err != nil {
		return err
	}
	send, err := u.Sends()
	if err != nil {
		return err
	}
	if _, err := conn.Write(send); err != nil {
		return netfault.Of("send", err)
	}
	return readUpTo(ctx, conn, u.Answer)
}

const mostGreeting = 64 << 10

// readUpTo reads until a text has come. What is silent for a second after it has said something else will not say it.
func readUpTo(ctx context.Context, conn net.Conn, text string) error {
	if text == "" {
		return nil
	}
	var got strings.Builder
	one := make([]byte, 1)
	whole, bounded := ctx.Deadline()
	defer func() {
		if bounded && ctx.Err() == nil {
			_ = conn.SetDeadline(whole)
		}
	}()
	for !strings.HasSuffix(got.String(), text) {
		if got.Len() > 0 && (!bounded || time.Until(whole) > answerQuiet) {
			_ = conn.SetReadDeadline(time.Now().Add(answerQuiet))
		}
		if _, err := io.ReadFull(conn, one); err != nil {
			if errors.Is(err, os.ErrDeadlineExceeded) && got.Len() > 0 {
				return fmt.Errorf("it says %s, and not %q", shortened(got.String()), text)
			}
			return netfault.Of(fmt.Sprintf("wait for %q", text), err)
		}
		if got.WriteByte(one[0]); got.Len() > mostGreeting {
			return fmt.Errorf("there is no %q in what it says first", text)
		}
	}
	return nil
}

// as asks the member under a name, and believes others than the field's authority.
func (a *asker) as(name, believe string) *asker {
	b := *a
	spec := *a.spec
	if b.name, b.spec = name, &spec; spec.TLS != nil {
		t := *spec.TLS
		t.Authority, spec.TLS = believe, &t
	}
	return &b
}

// httpOver sends a request to a port on which TLS is spoken.
func (a *asker) httpOver(req *http.Request, port string) (*http.Response, error) {
	conn, err := a.dial(req.Context(), port)
	if err != nil {
		return nil, err
	}
	req.Close = true
	stop := context.AfterFunc(req.Context(), func() { conn.Close() })
	if err := req.Write(conn); err != nil {
		stop()
		conn.Close()
		return nil, err
	}
	res, err := http.ReadResponse(bufio.NewReaderSize(conn, 2<<10), req)
	if err != nil {
		stop()
		conn.Close()
		return nil, err
	}
	res.Body = &closing{res.Body, conn, stop}
	return res, nil
}

// closing closes the connection with the answer that came over it.
type closing struct {
	io.ReadCloser
	conn net.Conn
	stop func() bool
}

// Close ends the connection too.
func (c *closing) Close() error {
	c.stop()
	return errors.Join(c.ReadCloser.Close(), c.conn.Close())
}

// askTLS begins TLS with a port, and tells of the certificate that was shown.
func (a *asker) askTLS(ctx context.Context, t *field.TLSCall) (*answer, error) {
	if !a.spec.Ports[t.Port].TLS {
		return nil, fmt.Errorf("no TLS is spoken on port %s", t.Port)
	}
	if t.Name != "" {
		a = a.as(t.Name, t.Believe)
	}
	conn, err := a.dial(ctx, t.Port)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	leaf := conn.(*tls.Conn).ConnectionState().PeerCertificates[0]
	names := append([]string{}, leaf.DNSNames...)
	for _, ip := range leaf.IPAddresses {
		names = append(names, ip.String())
	}
	body := map[string]any{"serial": leaf.SerialNumber.Text(16), "until": int(leaf.NotAfter.Unix()), "names": names}
	return &answer{status: 200, env: map[string]any{"body": body, "me": string(a.member)}}, nil
}

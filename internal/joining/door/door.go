// Package door is where machines knock that join by an invitation: the keeper's side of package joining. It gives the script that brings the agent, the agent
// itself, and a place to machines that show an invitation. Everything but the last may be read by anybody.
package door

import (
	"bytes"
	"context"
	"crypto/tls"
	_ "embed"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"text/template"
	"time"

	"golang.org/x/net/netutil"

	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/identity"
	"lanternfield/internal/joining"
)

// Host decides who is let in.
type Host interface {
	// Admit gives the place of a machine that has shown an invitation, or says why it is not let in.
	Admit(ctx context.Context, h joining.Hello, from netip.Addr) (joining.Place, error)
	// Enrol makes the agent of a node known, over a connection to it, and gives where it answers.
	Enrol(ctx context.Context, node field.NodeName, with io.ReadWriter) (url string, err error)
	// Arrived says that an agent runs there. An error is told on the machine.
	Arrived(ctx context.Context, h joining.Hello, at joining.Place, url string) error
}

// What those who knock may cost.
const (
	mostKnocking = 64
	headerWithin = 5 * time.Second
	wholeWithin  = 2 * time.Minute
	helloWithin  = 10 * time.Second
)

// Door is open at one address.
type Door struct {
	at       netip.AddrPort
	pin      string
	host     Host
	server   *http.Server
	listener net.Listener
}

// Open opens the door at an address; where the port is 0, at the first that is free of those that doors take.
func Open(at netip.AddrPort, authority *identity.Authority, seed []byte, host Host) (*Door, error) {
	terms, pin, err := authority.Door(seed, joining.Protocol, "http/1.1")
	if err != nil {
		return nil, err
	}
	listener, err := listen(at)
	if err != nil {
		return nil, err
	}
	d := &Door{at: listener.Addr().(*net.TCPAddr).AddrPort(), pin: pin, host: host, listener: netutil.LimitListener(listener, mostKnocking)}
	d.at = netip.AddrPortFrom(d.at.Addr().Unmap(), d.at.Port())
	mux := http.NewServeMux()
	mux.HandleFunc("GET /join", d.script)
	mux.HandleFunc("GET /programs/{arch}/{name}", d.program)
	d.server = &http.Server{Handler: mux, TLSConfig: terms, ReadHeaderTimeout: headerWithin, ReadTimeout: headerWithin, WriteTimeout: wholeWithin, IdleTimeout: headerWithin,
		MaxHeaderBytes: 8 << 10, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug),
		TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){joining.Protocol: func(_ *http.Server, conn *tls.Conn, _ http.Handler) { d.knocked(conn) }}}
	go func() { _ = d.server.ServeTLS(d.listener, "", "") }()
	return d, nil
}

func listen(at netip.AddrPort) (net.Listener, error) {
	if at.Port() != 0 {
		return net.Listen("tcp", at.String())
	}
	var last error
	for port := field.DoorFirst; port <= field.DoorLast; port++ {
		l, err := net.Listen("tcp", netip.AddrPortFrom(at.Addr(), uint16(port)).String())
		if err == nil {
			return l, nil
		}
		last = err
	}
	return nil, fmt.Errorf("no port of %s from %d to %d can be listened at: %w", at.Addr(), field.DoorFirst, field.DoorLast, last)
}

// At is where it is open.
func (d *Door) At() netip.AddrPort { return d.at }

// Pin is by what curl knows it.
func (d *Door) Pin() string { return d.pin }

// Close shuts it. Who is being let in is cut off.
func (d *Door) Close() error { return d.server.Close() }

// Shut lets nobody in any more. Who has just been let in, or is fetching something, goes on.
func (d *Door) Shut() {
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), wholeWithin)
		defer cancel()
		_ = d.server.Shutdown(ctx)
	}()
}

//go:embed join.sh
var joinScript string

var script = template.Must(template.New("join").Parse(joinScript))

// program is one that the script brings.
type program struct{ Arch, Name, Sum string }

// script gives what brings the agent to a machine and has it join.
func (d *Door) script(w http.ResponseWriter, _ *http.Request) {
	var programs []program
	for _, arch := range []string{"amd64", "arm64"} {
		list, err := carried.For(arch)
		if err != nil {
			continue
		}
		for _, p := range list {
			programs = append(programs, program{arch, p.Name, p.Sum})
		}
	}
	var text bytes.Buffer
	if err := script.Execute(&text, map[string]any{"At": d.at.String(), "Pin": d.pin, "Programs": programs, "Variable": joining.Variable}); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	_, _ = w.Write(text.Bytes())
}

// program gives a program of the agent's, compressed.
func (d *Door) program(w http.ResponseWriter, r *http.Request) {
	list, err := carried.For(r.PathValue("arch"))
	for _, p := range list {
		if p.Name+".gz" != r.PathValue("name") {
			continue
		}
		packed, err := p.Packed()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		_, _ = w.Write(packed)
		return
	}
	if err == nil {
		err = fmt.Errorf("no such program is carried")
	}
	http.Error(w, err.Error(), http.StatusNotFound)
}

// knocked lets a machine in, or says why not.
func (d *Door) knocked(conn *tls.Conn) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(helloWithin))
	var hello joining.Hello
	if err := joining.Hear(conn, &hello); err != nil {
		return
	}
	_ = conn.SetDeadline(time.Now().Add(wholeWithin))
	ctx, cancel := context.WithTimeout(context.Background(), wholeWithin)
	defer cancel()
	from, err := netip.ParseAddrPort(conn.RemoteAddr().String())
	if err != nil {
		return
	}
	at, err := d.host.Admit(ctx, hello, from.Addr().Unmap())
	if err != nil {
		slog.Warn("a machine that knocked is not let in", "from", from, "machine", printable(hello.Machine), "why", err)
		_ = joining.Say(conn, joining.Place{Why: err.Error()})
		return
	}
	if err := joining.Say(conn, at); err != nil {
		return
	}
	url, err := d.host.Enrol(ctx, field.NodeName(at.Node), conn)
	if err != nil {
		slog.Warn("a machine was let in, and its agent did not come up", "from", from, "node", at.Node, "why", err)
		return
	}
	var welcome joining.Welcome
	if err := d.host.Arrived(ctx, hello, at, url); err != nil {
		welcome.Why = err.Error()
	}
	_ = joining.Say(conn, welcome)
}

// printable keeps of what a stranger says what may stand in a log.
func printable(text string) string {
	if len(text) > 60 {
		text = text[:60]
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '?'
		}
		return r
	}, text)
}

package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/creack/pty"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plain"
	"lanternfield/internal/host"
	"lanternfield/internal/netfault"
)

// mostWho bounds what a visitor says of himself.
const mostWho = 120

// visit answers a request to do something at a member: the connection becomes frames, the first of which says what.
func (a *Agent) visit(life context.Context, w http.ResponseWriter, r *http.Request) {
	name := field.MemberName(r.PathValue("name"))
	a.mu.Lock()
	h := a.members[name]
	a.mu.Unlock()
	if h == nil {
		http.Error(w, fmt.Sprintf("%s is not on %s", name, a.options.Node), http.StatusNotFound)
		return
	}
	conn, done := a.upgrade(life, w, r, agentapi.VisitProtocol)
	if conn == nil {
		return
	}
	defer done()
	frames := agentapi.NewFrames(conn)
	kind, data, err := frames.Read()
	var v agentapi.Visit
	if err != nil || kind != agentapi.FrameBegin || json.Unmarshal(data, &v) != nil {
		return
	}
	ending := h.member.visited(life, frames, v)
	_ = frames.WriteJSON(agentapi.FrameEnd, ending)
}

// upgrade makes a connection of its own out of a request, which lasts until done is called or the agent ends. It gives none where that cannot be, which has
// been said.
func (a *Agent) upgrade(life context.Context, w http.ResponseWriter, r *http.Request, protocol string) (conn io.ReadWriteCloser, done func()) {
	if r.Header.Get("Upgrade") != protocol {
		http.Error(w, "this needs Upgrade: "+protocol, http.StatusBadRequest)
		return nil, nil
	}
	hijacker, is := w.(http.Hijacker)
	if !is {
		http.Error(w, "this connection cannot be used for that", http.StatusBadRequest)
		return nil, nil
	}
	raw, buffered, err := hijacker.Hijack()
	if err != nil {
		slog.Error("a connection could not be taken over", "for", protocol, "error", err)
		return nil, nil
	}
	_ = raw.SetDeadline(time.Time{})
	a.wait.Add(1)
	stop := context.AfterFunc(life, func() { raw.Close() })
	done = func() {
		stop()
		raw.Close()
		a.wait.Done()
	}
	if _, err := io.WriteString(raw, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: "+protocol+"\r\n\r\n"); err != nil {
		done()
		return nil, nil
	}
	return struct {
		io.Reader
		io.Writer
		io.Closer
	}{buffered, raw, raw}, done
}

// visited lets somebody do something at the member, and gives how it ended.
func (m *member) visited(ctx context.Context, frames *agentapi.Frames, v agentapi.Visit) agentapi.Ending {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	spec, what := m.visitSpec(), ""
	switch {
	case spec == nil:
		return agentapi.Ending{Why: fmt.Sprintf("nothing is known of %s by which it could be visited", m.name)}
	case v.Port != "":
		what = "opened a tunnel to port " + v.Port
	case len(v.Args) == 0 || v.Args[0] == "":
		return agentapi.Ending{Why: "there is no command"}
	case v.How == "shell" && v.Args[0] == "sh":
		what = "opened a shell"
	case v.How == "shell":
		what = "opened " + filepath.Base(v.Args[0])
	case v.How == "copy":
		what = "copied files"
	default:
		what = "ran " + filepath.Base(v.Args[0])
	}
	if !v.Quiet {
		m.reports.add(order.Report{Kind: order.Visited, Member: m.name, By: inOneLine(v.By), Why: inOneLine(what)})
	}
	if v.Port != "" {
		return m.tunnel(ctx, frames, spec, v.Port)
	}
	return m.runVisit(ctx, cancel, frames, spec, v)
}

// inOneLine makes what a visitor says fit for the journal.
func inOneLine(text string) string {
	runes := []rune(plain.Text(text))
	return string(runes[:min(len(runes), mostWho)])
}

// inlet passes on what comes for a command or a port, apart from whoever reads the frames: that one has to hear when the visitor goes.
type inlet struct{ queue chan []byte }

// newInlet begins to write to a place, and closes it in the end.
func newInlet(frames *agentapi.Frames, to io.Writer, end func()) inlet {
	i := inlet{make(chan []byte, agentapi.MostUntaken)}
	go func() {
		defer end()
		for data := range i.queue {
			_, _ = to.Write(data) // where nobody reads any more, it is lost
			if frames.Write(agentapi.FrameTaken, nil) != nil {
				return
			}
		}
	}()
	return i
}

// put takes a frame; false where more has come than was agreed.
func (i inlet) put(data []byte) bool {
	select {
	case i.queue <- data:
		return true
	default:
		return false
	}
}

// visitSpec is how the member runs, or would.
func (m *member) visitSpec() *order.Spec {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.shown
}

// show has those who visit the member find it as it is now.
func (m *member) show() {
	spec, _ := m.inForce()
	if spec == nil {
		spec = m.applied.Spec // it is stopped
	}
	wanted := [][]order.File{}
	for _, s := range []*order.Spec{spec, m.applied.Spec, m.order.Spec} {
		if s != nil {
			wanted = append(wanted, s.Files)
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.shown, m.wanted = spec, wanted
}

// runVisit runs a command until it ends. When whoever wanted it goes, it is killed.
func (m *member) runVisit(ctx context.Context, cancel context.CancelFunc, frames *agentapi.Frames, spec *order.Spec, v agentapi.Visit) agentapi.Ending {
	signals := make(chan syscall.Signal, 8)
	in, feed := io.Pipe()
	defer in.Close()
	c := runtime.Command{Args: v.Args, Signals: signals, In: in, Out: frames.Writer(agentapi.FrameOut), Err: frames.Writer(agentapi.FrameErr)}
	for _, key := range slices.Sorted(maps.Keys(v.Env)) {
		c.Env = append(c.Env, key+"="+v.Env[key])
	}
	var terminal *os.File // our end
	told := make(chan struct{})
	if v.Terminal != nil {
		ours, theirs, err := pty.Open()
		if err != nil {
			return agentapi.Ending{Why: "no terminal can be had on its node: " + err.Error()}
		}
		terminal, c.Terminal = ours, theirs
		defer ours.Close()
		resize(ours, *v.Terminal)
		if who, err := m.instance.Account(spec); err == nil && os.Geteuid() == 0 {
			_ = theirs.Chown(who.UID, who.GID) // so that programs may open it by its name
		}
		go func() {
			defer close(told)
			_, _ = io.Copy(c.Out, ours) // ends with an error when the last who has the other end has closed it
		}()
	} else {
		close(told)
	}
	takes, end := io.Writer(feed), func() { feed.Close() }
	if terminal != nil {
		takes, end = terminal, func() {}
	}
	into := newInlet(frames, takes, end)
	go func() {
		defer cancel()
		ended := false
		end := func() {
			if !ended {
				ended = true
				close(into.queue)
			}
		}
		defer end()
		for {
			kind, data, err := frames.Read()
			if err != nil {
				return
			}
			switch kind {
			case agentapi.FrameIn:
				if ended || !into.put(data) {
					return
				}
			case agentapi.FrameInEnd:
				end()
			case agentapi.FrameWindow:
				var size agentapi.Window
				if terminal != nil && json.Unmarshal(data, &size) == nil {
					resize(terminal, size)
				}
			case agentapi.FrameSignal:
				select {
				case signals <- host.SignalByName(string(data)):
				default:
				}
			}
		}
	}()
	exit, err := m.instance.Visit(ctx, spec, c)
	if c.Terminal != nil {
		c.Terminal.Close()
		select {
		case <-told:
		case <-time.After(500 * time.Millisecond): // something that it has started still has it
		}
	}
	if err != nil {
		return agentapi.Ending{Why: err.Error()}
	}
	return agentapi.Ending{Code: exit.Code, Signal: exit.Signal}
}

func resize(terminal *os.File, size agentapi.Window) {
	if size.Rows > 0 && size.Columns > 0 {
		_ = pty.Setsize(terminal, &pty.Winsize{Rows: size.Rows, Cols: size.Columns})
	}
}

// tunnel passes bytes between a visitor and one of the member's ports, until either closes.
func (m *member) tunnel(ctx context.Context, frames *agentapi.Frames, spec *order.Spec, port string) agentapi.Ending {
	p, known := spec.Ports[port]
	for name, other := range spec.Ports {
		if !known && strconv.Itoa(other.Number) == port {
			p, known, port = other, true, name
		}
	}
	if !known {
		return agentapi.Ending{Why: fmt.Sprintf("%s has no port %s; it has %s", m.name, port, strings.Join(slices.Sorted(maps.Keys(spec.Ports)), ", "))}
	}
	address := net.JoinHostPort(portHost(spec, p), strconv.Itoa(p.Number))
	dialer := net.Dialer{Timeout: 3 * time.Second}
	to, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return agentapi.Ending{Why: netfault.Of(fmt.Sprintf("port %s of %s (%s) does not answer", port, m.name, address), err).Error()}
	}
	defer to.Close()
	into := newInlet(frames, to, func() { _ = to.(*net.TCPConn).CloseWrite() })
	go func() {
		defer to.Close()
		for {
			kind, data, err := frames.Read()
			switch {
			case err != nil:
				close(into.queue)
				return
			case kind == agentapi.FrameIn && !into.put(data):
				return
			case kind == agentapi.FrameInEnd:
				close(into.queue)
				_, _, _ = frames.Read() // until the visitor goes
				return
			}
		}
	}()
	_, err = io.Copy(frames.Writer(agentapi.FrameOut), to)
	if err != nil && !errors.Is(err, net.ErrClosed) {
		return agentapi.Ending{Why: netfault.Of(fmt.Sprintf("port %s of %s (%s)", port, m.name, address), err).Error()}
	}
	return agentapi.Ending{}
}

// portHost is the address on which a port of a member is.
func portHost(spec *order.Spec, p order.Port) string {
	if p.Address != "" {
		return p.Address
	}
	return spec.Address
}

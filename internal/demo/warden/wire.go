package warden

import (
	"bufio"
	"net"
	"sync"
	"time"

	"github.com/hashicorp/raft"
)

// greeting tells a connection between members from one of a client: no HTTP request begins like this.
const greeting = "RAFT\n"

// greetWithin is how long a connection may take to say what it is.
const greetWithin = 5 * time.Second

// halves are the two sides of one port: who knows a member's address can reach it as a peer and as a client.
type halves struct {
	raft, http *half
	from       net.Listener
}

// split hands each connection to the side that it asks for.
func split(l net.Listener) *halves {
	h := &halves{raft: newHalf(l), http: newHalf(l), from: l}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				h.Close()
				return
			}
			go h.sort(c)
		}
	}()
	return h
}

func (h *halves) sort(c net.Conn) {
	_ = c.SetReadDeadline(time.Now().Add(greetWithin))
	r := bufio.NewReader(c)
	first, err := r.Peek(len(greeting))
	_ = c.SetReadDeadline(time.Time{})
	to := h.http
	if err == nil && string(first) == greeting {
		to = h.raft
		_, _ = r.Discard(len(greeting))
	}
	if err != nil && len(first) == 0 {
		c.Close()
		return
	}
	select {
	case to.conns <- &peeked{Conn: c, r: r}:
	case <-to.closed:
		c.Close()
	}
}

// Close closes both sides and the port.
func (h *halves) Close() {
	_ = h.from.Close()
	_ = h.raft.Close()
	_ = h.http.Close()
}

// peeked is a connection of which the beginning has been read ahead.
type peeked struct {
	net.Conn
	r *bufio.Reader
}

func (p *peeked) Read(b []byte) (int, error) { return p.r.Read(b) }

// half is one side of a port, as a listener.
type half struct {
	conns  chan net.Conn
	closed chan struct{}
	once   sync.Once
	addr   net.Addr
}

func newHalf(l net.Listener) *half {
	return &half{conns: make(chan net.Conn), closed: make(chan struct{}), addr: l.Addr()}
}

// Accept waits for a connection that wants this side.
func (h *half) Accept() (net.Conn, error) {
	select {
	case c := <-h.conns:
		return c, nil
	case <-h.closed:
		return nil, net.ErrClosed
	}
}

// Close ends the accepting.
func (h *half) Close() error {
	h.once.Do(func() { close(h.closed) })
	return nil
}

// Addr is the port's address.
func (h *half) Addr() net.Addr { return h.addr }

// stream is how members reach each other.
type stream struct{ net.Listener }

// Dial connects to another member and says that it is one.
func (s *stream) Dial(address raft.ServerAddress, timeout time.Duration) (net.Conn, error) {
	c, err := net.DialTimeout("tcp", string(address), timeout)
	if err != nil {
		return nil, err
	}
	if _, err := c.Write([]byte(greeting)); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

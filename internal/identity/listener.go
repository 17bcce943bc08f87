package identity

import (
	"container/list"
	"crypto/tls"
	"crypto/x509"
	"net"
	"sync"
	"time"
)

// What strangers may cost. One who has not shown a certificate yet holds at most one of these places for so long; who comes when all
// are taken pushes out who has been waiting longest, so that a flood of silent connections keeps nobody else out.
const (
	mostStrangers = 64
	strangerFor   = 3 * time.Second
	mostPeers     = 64 // connections of those who have shown one
)

// Listener accepts those who have shown a certificate, and nobody else.
type Listener struct {
	net.Listener
	terms  *tls.Config
	counts func(*x509.Certificate) bool
	known  chan net.Conn
	end    chan struct{}
	once   sync.Once

	mu        sync.Mutex
	strangers *list.List // of net.Conn, oldest first
	peers     map[*peer]bool
}

// Listen puts the terms in front of a listener. Counts tells whether somebody whose certificate was believed is still to be answered; see Part.
func Listen(inner net.Listener, terms *tls.Config, counts func(*x509.Certificate) bool) *Listener {
	l := &Listener{Listener: inner, terms: terms, counts: counts, known: make(chan net.Conn), end: make(chan struct{}), strangers: list.New(), peers: map[*peer]bool{}}
	go l.run()
	return l
}

func (l *Listener) run() {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			select {
			case <-l.end:
				return
			case <-time.After(5 * time.Millisecond): // no descriptors are left, perhaps
				continue
			}
		}
		l.mu.Lock()
		if l.strangers.Len() >= mostStrangers {
			oldest := l.strangers.Front()
			l.strangers.Remove(oldest)
			oldest.Value.(net.Conn).Close()
		}
		place := l.strangers.PushBack(conn)
		l.mu.Unlock()
		go l.meet(conn, place)
	}
}

// meet shakes hands with a stranger.
func (l *Listener) meet(conn net.Conn, place *list.Element) {
	secured := tls.Server(conn, l.terms)
	_ = conn.SetDeadline(time.Now().Add(strangerFor))
	err := secured.Handshake()
	l.mu.Lock()
	l.strangers.Remove(place)
	full := len(l.peers) >= mostPeers
	peer := &peer{Conn: secured, listener: l}
	if err == nil && !full && !l.counts(secured.ConnectionState().PeerCertificates[0]) {
		err = errOutdated // it has ceased to count since it was believed
	}
	if err == nil && !full {
		l.peers[peer] = true
	}
	l.mu.Unlock()
	if err != nil || full {
		conn.Close()
		return
	}
	_ = conn.SetDeadline(time.Time{})
	select {
	case l.known <- peer:
	case <-l.end:
		peer.Close()
	}
}

// Accept gives the next who has shown a certificate.
func (l *Listener) Accept() (net.Conn, error) {
	select {
	case conn := <-l.known:
		return conn, nil
	case <-l.end:
		return nil, net.ErrClosed
	}
}

// Close ends listening; those who were accepted go on.
func (l *Listener) Close() error {
	l.once.Do(func() { close(l.end) })
	return l.Listener.Close()
}

// Part ends the connections of those whose certificate does not count any longer.
func (l *Listener) Part() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for p := range l.peers {
		if !l.counts(p.ConnectionState().PeerCertificates[0]) {
			p.NetConn().Close() // without a farewell, which could take its time
		}
	}
}

// peer is a connection of one who has shown a certificate.
type peer struct {
	*tls.Conn
	listener *Listener
	once     sync.Once
}

// Close gives its place free.
func (p *peer) Close() error {
	p.once.Do(func() {
		p.listener.mu.Lock()
		delete(p.listener.peers, p)
		p.listener.mu.Unlock()
	})
	return p.Conn.Close()
}

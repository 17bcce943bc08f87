package secureshell

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"lanternfield/internal/netfault"
)

// How long reaching a host may take, how long one step of that, and how long a host that was reached may be silent.
const (
	dialWithin  = 10 * time.Second
	aliveEvery  = 5 * time.Second
	aliveMisses = 3
	idleAfter   = time.Minute // of nobody using it, a connection is ended
	endWithin   = 30 * time.Second
)

// Conn is a host that is logged in to.
type Conn struct {
	Target *Target
	// Sudo has scripts run as root.
	Sudo bool

	client *ssh.Client
	way    []*ssh.Client // to the hosts on the way
	end    sync.Once
	done   chan struct{}

	mu   sync.Mutex
	open int       // scripts that run, and connections from the host
	last time.Time // when the last of them ended
}

// use notes that the connection is used until the function that it gives is called.
func (c *Conn) use() (ended func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.open++
	return sync.OnceFunc(func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.open--
		c.last = time.Now()
	})
}

// idle tells whether nobody has used the connection for some time.
func (c *Conn) idle(now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open == 0 && now.Sub(c.last) > idleAfter
}

// Dial reaches a host, over those on the way, and logs in. Errors are of type *Fault.
func Dial(ctx context.Context, t *Target, sudo bool) (*Conn, error) {
	c := &Conn{Target: t, Sudo: sudo, done: make(chan struct{}), last: time.Now()}
	for _, hop := range append(t.Through[:len(t.Through):len(t.Through)], t) {
		client, err := c.hop(ctx, hop)
		if err != nil {
			c.Close()
			return nil, err
		}
		c.way = append(c.way, client)
	}
	c.client = c.way[len(c.way)-1]
	go c.watch()
	go func() { // when the connection ends, however it does, nobody is given it any more
		_ = c.client.Wait()
		c.Close()
	}()
	return c, nil
}

// hop reaches the next host on the way.
func (c *Conn) hop(ctx context.Context, t *Target) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, dialWithin)
	defer cancel()
	check, err := newChecker(t)
	if err != nil {
		return nil, err
	}
	conn, err := c.connect(ctx, t)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	keys := keyringOf(t)
	defer keys.close()
	auth := []ssh.AuthMethod{ssh.PublicKeys(keys.signers...)}
	if t.Password != "" {
		auth = append(auth, ssh.Password(t.Password), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			return slices.Repeat([]string{t.Password}, len(questions)), nil
		}))
	}
	config := &ssh.ClientConfig{User: t.User, Auth: auth, HostKeyCallback: check.callback, HostKeyAlgorithms: check.types,
		ClientVersion: "SSH-2.0-LanternField", BannerCallback: func(string) error { return nil }}
	shook, channels, requests, err := ssh.NewClientConn(conn, t.Address(), config)
	if !stop() && err == nil {
		err = ctx.Err()
	}
	if err == nil {
		return ssh.NewClient(shook, channels, requests), nil
	}
	conn.Close()
	return nil, shaking(ctx, t, keys, err)
}

// connect opens the connection to a host's SSH server.
func (c *Conn) connect(ctx context.Context, t *Target) (net.Conn, error) {
	var conn net.Conn
	var err error
	if n := len(c.way); n > 0 {
		conn, err = c.way[n-1].DialContext(ctx, "tcp", t.Address())
	} else {
		conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", t.Address())
	}
	if err == nil {
		return conn, nil
	}
	f := &Fault{Kind: Unreachable, Host: t.String(), Why: "cannot be reached: " + netfault.Of("connect to "+t.Address(), err).Error(), Do: "is it on, and is the address right?"}
	if errors.Is(err, syscall.ECONNREFUSED) {
		f.Do = "is its SSH server running, and at this port?"
	}
	return nil, f
}

// shaking says what went wrong between the connection and the login.
func shaking(ctx context.Context, t *Target, keys *keyring, err error) error {
	var fault *Fault
	switch {
	case errors.As(err, &fault):
		return fault
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return &Fault{Kind: Silent, Host: t.String(), Why: fmt.Sprintf("accepts a connection and does not finish the login within %d s", int(dialWithin.Seconds())),
			Do: "is it an SSH server that listens at " + t.Address() + ", and has the host room to answer?"}
	case ctx.Err() != nil:
		return ctx.Err()
	case strings.Contains(err.Error(), "unable to authenticate"):
		return keys.refused(t, err)
	}
	return &Fault{Kind: Silent, Host: t.String(), Why: "does not speak SSH as it should: " + err.Error(), Do: "is it an SSH server that listens at " + t.Address() + "?"}
}

// watch ends a connection whose host does not answer any more, so that nobody waits for it, and one that nobody uses.
func (c *Conn) watch() {
	misses := 0
	for {
		select {
		case <-c.done:
			return
		case <-time.After(aliveEvery):
		}
		if c.idle(time.Now()) {
			c.Close()
			return
		}
		answered := make(chan struct{})
		go func() {
			if _, _, err := c.client.SendRequest("keepalive@openssh.com", true, nil); err == nil {
				close(answered)
			}
		}()
		select {
		case <-answered:
			misses = 0
		case <-c.done:
			return
		case <-time.After(aliveEvery):
			if misses++; misses >= aliveMisses {
				c.Close()
				return
			}
		}
	}
}

// Close ends the connection.
func (c *Conn) Close() {
	c.end.Do(func() {
		close(c.done)
		for i := len(c.way) - 1; i >= 0; i-- {
			c.way[i].Close()
		}
	})
}

// Done is closed when the connection has ended.
func (c *Conn) Done() <-chan struct{} { return c.done }

// DialContext connects from the host to an address, as seen from there.
func (c *Conn) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	ended := c.use()
	conn, err := c.client.DialContext(ctx, network, address)
	if err != nil {
		ended()
		return nil, err
	}
	return &used{conn, ended}, nil
}

// used is a connection from the host; while it is open, so is the way to the host.
type used struct {
	net.Conn
	ended func()
}

func (u *used) Close() error {
	u.ended()
	return u.Conn.Close()
}

// mark stands before what a script says: shells that greet whoever logs in do so before it.
const mark = "lanternfield-script-begins"

// mostSaid is how much of what a script says is read.
const mostSaid = 4 << 20

// Run runs a shell script of one line on the host, with arguments as $1 and so on, and gives what it says on standard output. An error of the script is a
// *Fault with what it said on standard error.
func (c *Conn) Run(ctx context.Context, in io.Reader, script string, args ...string) (string, error) {
	var out bytes.Buffer
	s, err := c.begin(script, args)
	if err != nil {
		return "", err
	}
	defer s.session.Close()
	s.session.Stdin, s.session.Stdout = in, &bounded{to: &out, left: mostSaid}
	err = s.run(ctx)
	_, said, found := strings.Cut(out.String(), mark+"\n")
	if !found && err == nil {
		err = c.broken(errors.New("its shell did not run what it was told"))
	}
	return said, err
}

// Talk runs a script and gives its standard input and output as one connection, from the mark on; closing it waits for the script's end, whose error it
// gives.
func (c *Conn) Talk(ctx context.Context, script string, args ...string) (*Talk, error) {
	s, err := c.begin(script, args)
	if err != nil {
		return nil, err
	}
	in, err := s.session.StdinPipe()
	out, err2 := s.session.StdoutPipe()
	if err = errors.Join(err, err2); err != nil {
		s.session.Close()
		return nil, c.broken(err)
	}
	t := &Talk{in: in, out: out, ended: make(chan error, 1), script: s}
	go func() { t.ended <- s.run(ctx) }()
	if err := skipTo(out, mark+"\n"); err != nil {
		return nil, errors.Join(t.Close(), err)
	}
	return t, nil
}

// skipTo reads up to a text.
func skipTo(r io.Reader, text string) error {
	var tail []byte
	one := make([]byte, 1)
	for n := 0; n < mostSaid; n++ {
		if _, err := r.Read(one); err != nil {
			return err
		}
		if tail = append(tail, one[0]); len(tail) > len(text) {
			tail = tail[1:]
		}
		if string(tail) == text {
			return nil
		}
	}
	return errors.New("its shell goes on talking")
}

// Talk is a script that is talked with.
type Talk struct {
	in     io.WriteCloser
	out    io.Reader
	ended  chan error
	script *script
}

func (t *Talk) Read(p []byte) (int, error)  { return t.out.Read(p) }
func (t *Talk) Write(p []byte) (int, error) { return t.in.Write(p) }

// Close ends what is said to the script, and waits for its end, though not for long.
func (t *Talk) Close() error {
	t.in.Close()
	defer t.script.session.Close()
	select {
	case err := <-t.ended:
		t.ended <- err // for who closes it once more
		return err
	case <-time.After(endWithin):
		return t.script.conn.broken(errors.New("it does not come to its end"))
	}
}

// script is one that runs, or is to.
type script struct {
	conn    *Conn
	session *ssh.Session
	command string
	said    bytes.Buffer // on standard error
	ended   func()
}

func (c *Conn) begin(text string, args []string) (*script, error) {
	session, err := c.client.NewSession()
	if err != nil {
		return nil, c.broken(err)
	}
	words := []string{"exec"}
	if c.Sudo {
		words = append(words, "sudo", "-n", "--")
	}
	words = append(words, "/bin/sh", "-c", Quote("echo "+mark+"; "+text), "lanternfield")
	for _, a := range args {
		words = append(words, Quote(a))
	}
	s := &script{conn: c, session: session, ended: c.use(), command: strings.Join(words, " ")}
	session.Stderr = &bounded{to: &s.said, left: 16 << 10}
	return s, nil
}

// run runs the script to its end.
func (s *script) run(ctx context.Context) error {
	defer s.ended()
	if err := s.session.Start(s.command); err != nil {
		return s.conn.broken(err)
	}
	stop := context.AfterFunc(ctx, func() { s.session.Close() })
	defer stop()
	err := s.session.Wait()
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	said := strings.TrimSpace(s.said.String())
	var exit *ssh.ExitError
	if !errors.As(err, &exit) {
		return s.conn.broken(err)
	}
	switch status := exit.ExitStatus(); {
	case s.conn.Sudo && status == 127 && strings.Contains(said, "sudo"):
		return &Fault{Kind: Sudo, Host: s.conn.Target.String(), Why: "has no sudo, by which " + s.conn.Target.User + " could become root", Do: "install it there, or log in as root"}
	case s.conn.Sudo && status == 1 && strings.Contains(said, "sudo:"):
		return &Fault{Kind: Sudo, Host: s.conn.Target.String(), Why: fmt.Sprintf("does not let %s become root without a password: %s", s.conn.Target.User, said),
			Do: "allow it there in /etc/sudoers.d, log in as root, or leave `sudo` out where no member needs root"}
	}
	if said == "" {
		said = err.Error()
	}
	return &Fault{Kind: Failed, Host: s.conn.Target.String(), Why: "could not do what it was told: " + said}
}

// broken says that the connection ended in the middle of something.
func (c *Conn) broken(err error) error {
	var missing *ssh.ExitMissingError
	if errors.As(err, &missing) || errors.Is(err, io.EOF) {
		err = errors.New("the connection was cut")
	}
	return &Fault{Kind: Broken, Host: c.Target.String(), Why: "went away in the middle: " + err.Error(), Do: "it is tried again"}
}

// Quote writes a word so that every shell takes it for itself.
func Quote(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// bounded takes only so much; what comes after is thrown away.
type bounded struct {
	to   io.Writer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	n := min(len(p), b.left)
	b.left -= n
	if _, err := b.to.Write(p[:n]); err != nil {
		return 0, err
	}
	return len(p), nil
}

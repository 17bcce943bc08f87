package secureshell

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"lanternfield/internal/core/field"
)

// server is an SSH server that runs what it is told with this machine's shell.
type server struct {
	*testing.T
	listener net.Listener
	config   *ssh.ServerConfig
	before   string // said by the shell before anything else
	cut      int64  // the connection is cut when so many bytes have come for a command; 0 for never
	first    []byte // sent before the SSH version
	silent   bool   // accepts, and says nothing
}

// newServer starts a server with a host key of its own that lets that key in.
func newServer(t *testing.T, client ssh.PublicKey) *server {
	t.Helper()
	s := &server{T: t, config: &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if client == nil || keyOf(key) != keyOf(client) {
			return nil, os.ErrPermission
		}
		return nil, nil
	}}}
	s.config.AddHostKey(newSigner(t))
	var err error
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.listener.Close() })
	go func() {
		for {
			conn, err := s.listener.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { conn.Close() })
			go s.serve(conn)
		}
	}()
	return s
}

func keyOf(k ssh.PublicKey) string { return string(k.Marshal()) }

func newSigner(t *testing.T) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

func (s *server) serve(conn net.Conn) {
	if s.silent {
		return
	}
	if _, err := conn.Write(s.first); err != nil {
		return
	}
	_, channels, requests, err := ssh.NewServerConn(conn, s.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		switch c.ChannelType() {
		case "session":
			channel, requests, err := c.Accept()
			if err == nil {
				go s.session(conn, channel, requests)
			}
		case "direct-tcpip":
			var to struct {
				Host string
				Port uint32
				From string
				At   uint32
			}
			if ssh.Unmarshal(c.ExtraData(), &to) != nil {
				continue
			}
			there, err := net.Dial("tcp", net.JoinHostPort(to.Host, strconv.Itoa(int(to.Port))))
			if err != nil {
				_ = c.Reject(ssh.ConnectionFailed, err.Error())
				continue
			}
			channel, requests, err := c.Accept()
			if err != nil {
				continue
			}
			go ssh.DiscardRequests(requests)
			go func() { _, _ = io.Copy(there, channel); there.Close() }()
			go func() { _, _ = io.Copy(channel, there); channel.Close() }()
		}
	}
}

func (s *server) session(conn net.Conn, channel ssh.Channel, requests <-chan *ssh.Request) {
	defer channel.Close()
	for r := range requests {
		if r.Type != "exec" {
			_ = r.Reply(false, nil)
			continue
		}
		var what struct{ Command string }
		_ = ssh.Unmarshal(r.Payload, &what)
		_ = r.Reply(true, nil)
		_, _ = io.WriteString(channel, s.before)
		cmd := exec.Command("sh", "-c", what.Command)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = channel, channel, channel.Stderr()
		if s.cut > 0 {
			_, _ = io.CopyN(io.Discard, channel, s.cut)
			conn.Close()
			return
		}
		code := 0
		if err := cmd.Run(); err != nil {
			code = cmd.ProcessState.ExitCode()
		}
		_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(code)}))
		return
	}
}

// client is who logs in: a home folder with a key.
type client struct {
	home   string
	signer ssh.Signer
	*Settings
}

func newClient(t *testing.T) *client {
	t.Helper()
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("SSH_AUTH_SOCK", "")
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(home, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(home, ".ssh", "id_ed25519"), pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	c := &client{home: home}
	if c.signer, err = ssh.NewSignerFromKey(key); err != nil {
		t.Fatal(err)
	}
	if c.Settings, err = Configuration(); err != nil {
		t.Fatal(err)
	}
	return c
}

// target is how the client reaches a server.
func (c *client) target(t *testing.T, s *server, g field.Ground) *Target {
	t.Helper()
	host, port, _ := strings.Cut(s.listener.Addr().String(), ":")
	g.Port, _ = strconv.Atoi(port)
	g.User = "harbour"
	target, err := c.Resolve(host, g, []string{filepath.Join(c.home, "known")})
	if err != nil {
		t.Fatal(err)
	}
	return target
}

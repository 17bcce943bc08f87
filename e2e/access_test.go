package e2e

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// way is what a client of a role was given: the files that `lanternfield access ROLE --write` has written, and no more. The zero one is of a client in
// the clear.
type way struct {
	dir  string
	env  []string // that the client's own tools are given
	url  string
	tls  *tls.Config
	http http.Client
}

// access has a client of a role given what it needs.
func (x *trial) access(role string) way {
	x.Helper()
	w := way{dir: filepath.Join(x.TempDir(), "access"), http: http.Client{Timeout: 500 * time.Millisecond}}
	x.must("access", x.file, role, "--write", w.dir)
	read := func(name string) []byte {
		info, err := os.Stat(filepath.Join(w.dir, name))
		if os.IsNotExist(err) {
			return nil
		}
		if err != nil || info.Mode().Perm() != 0o600 {
			x.Errorf("%s: mode %v, %v", name, info.Mode(), err)
		}
		data, err := os.ReadFile(filepath.Join(w.dir, name))
		if err != nil {
			x.Fatal(err)
		}
		return data
	}
	for lines := bufio.NewScanner(strings.NewReader(string(read("access.env")))); lines.Scan(); {
		w.env = append(w.env, strings.TrimPrefix(lines.Text(), "export "))
	}
	w.url = strings.TrimSpace(string(read("url")))
	if authority := read("authority.pem"); authority != nil {
		w.tls = &tls.Config{RootCAs: x509.NewCertPool()}
		w.tls.RootCAs.AppendCertsFromPEM(authority)
		if client := read("client.pem"); client != nil {
			pair, err := tls.X509KeyPair(client, client)
			if err != nil {
				x.Fatal(err)
			}
			w.tls.Certificates = []tls.Certificate{pair}
		}
		w.http.Transport = &http.Transport{TLSClientConfig: w.tls, DisableKeepAlives: true}
	}
	return w
}

// at is the URL of a port of a member, for this client.
func (w *way) at(m member, port string) string {
	if w.tls == nil {
		return m.url(port)
	}
	return strings.Replace(m.url(port), "http://", "https://", 1)
}

// runs gives a command that has the client's environment.
func (w *way) runs(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "ETCDCTL_API=3", "PGCONNECT_TIMEOUT=2")
	cmd.Env = append(cmd.Env, w.env...)
	return cmd
}

// nats connects to a NATS server: it greets in the clear, and goes on with TLS where that is spoken.
func (w *way) nats(m member) (net.Conn, error) {
	c, err := net.DialTimeout("tcp", net.JoinHostPort(m.Address, strconv.Itoa(m.Ports["client"])), time.Second)
	if err != nil {
		return nil, err
	}
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	for one := make([]byte, 1); one[0] != '\n'; {
		if _, err := c.Read(one); err != nil {
			return nil, fmt.Errorf("no greeting: %w", err)
		}
	}
	if w.tls == nil {
		return c, nil
	}
	config := w.tls.Clone()
	config.ServerName = m.Address
	secured := tls.Client(c, config)
	return secured, secured.Handshake()
}

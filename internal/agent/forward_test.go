package agent

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// forwardsTo starts the forwarding of a member's lines; it ends when the function is called.
func forwardsTo(t *testing.T, m *member, to field.Logs) (end func()) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(m.forwardFile()), 0o700); err != nil {
		t.Fatal(err)
	}
	m.shown = &order.Spec{Role: "records", Logs: &to}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); m.forwarding(ctx) }()
	end = func() { stop(); <-done }
	t.Cleanup(end)
	return end
}

// taken is what a sink has been sent.
type taken struct {
	mu  sync.Mutex
	all []string
}

func (x *taken) add(text string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.all = append(x.all, text)
}

func (x *taken) has(n int) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.all) >= n
}

// certified gives the certificate of a test's server as a file, and as what it shows.
func certified(t *testing.T) (file string, shows tls.Certificate) {
	t.Helper()
	s := httptest.NewTLSServer(nil)
	defer s.Close()
	file = filepath.Join(t.TempDir(), "authority.pem")
	if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	return file, s.TLS.Certificates[0]
}

// TestLinesGoToSyslog sends lines by TLS, with a trace, to who is away at first, goes away in between, and says nothing.
func TestLinesGoToSyslog(t *testing.T) {
	authority, shows := certified(t)
	address := "127.0.0.1:0"
	got := &taken{}
	listen := func() net.Listener {
		l, err := tls.Listen("tcp", address, &tls.Config{Certificates: []tls.Certificate{shows}})
		if err != nil {
			t.Fatal(err)
		}
		address = l.Addr().String()
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer conn.Close()
					r := bufio.NewReader(conn)
					for {
						length, err := r.ReadString(' ')
						if err != nil {
							return
						}
						n, err := strconv.Atoi(strings.TrimSpace(length))
						if err != nil {
							got.add("no length: " + length)
							return
						}
						text := make([]byte, n)
						if _, err := io.ReadFull(r, text); err != nil {
							return
						}
						got.add(string(text))
					}
				}()
			}
		}()
		return l
	}
	first := listen()
	first.Close() // the address is known, and nobody is there
	m, write := logOf(t)
	write("2026-11-27T09:00:00.5Z ERROR the mast broke\n\tat Dock.sail(Dock.java:7)\n")
	end := forwardsTo(t, m, field.Logs{To: "syslog://" + address, Authority: authority})
	said := func() string {
		m.mu.Lock()
		defer m.mu.Unlock()
		return m.unsent
	}
	eventually(t, "it is said that they cannot be forwarded", func() bool { return strings.Contains(said(), "cannot be forwarded") })
	second := listen()
	eventually(t, "the first has come", func() bool { return got.has(1) })
	want := fmt.Sprintf("<131>1 2026-11-27T09:00:00.500000Z %s it-1 - records - ERROR the mast broke\n at Dock.sail(Dock.java:7)", filepath.Base(m.disk.dir))
	if got.all[0] != want {
		t.Errorf("it was sent\n%s\nand not\n%s", got.all[0], want)
	}
	eventually(t, "nothing is said any more", func() bool { return said() == "" })
	write("2026-11-27T09:00:01Z INFO another\n")
	eventually(t, "the next has come", func() bool { return got.has(2) })
	end()
	second.Close()

	// The next agent goes on where the one before had come to.
	defer listen().Close()
	write("2026-11-27T09:00:02Z WARN the last\n")
	forwardsTo(t, m, field.Logs{To: "syslog://" + address, Authority: authority})
	eventually(t, "the last has come", func() bool { return got.has(3) })
	if len(got.all) != 3 || !strings.HasPrefix(got.all[2], "<132>1 ") || !strings.HasSuffix(got.all[2], "WARN the last") {
		t.Errorf("it was sent %q", got.all)
	}
}

// TestLinesGoByOTLP sends lines to an endpoint that refuses at first, cuts the log meanwhile, and reads what comes as records.
func TestLinesGoByOTLP(t *testing.T) {
	var mu sync.Mutex
	refuse := true
	got := &taken{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if refuse {
			http.Error(w, "not now", http.StatusServiceUnavailable)
			return
		}
		var sent struct {
			ResourceLogs []struct {
				Resource struct {
					Attributes []struct{ Value struct{ StringValue string } }
				}
				ScopeLogs []struct {
					LogRecords []struct {
						TimeUnixNano   string
						SeverityNumber int
						Body           struct{ StringValue string }
					}
				}
			}
		}
		if err := json.NewDecoder(r.Body).Decode(&sent); err != nil {
			got.add(err.Error())
		}
		for _, of := range sent.ResourceLogs {
			for _, record := range of.ScopeLogs[0].LogRecords {
				got.add(fmt.Sprintf("%s %s %d %s %s", r.URL.Path, record.TimeUnixNano, record.SeverityNumber, of.Resource.Attributes[1].Value.StringValue, record.Body.StringValue))
			}
		}
	}))
	defer s.Close()
	m, write := logOf(t)
	write("2026-11-27T09:00:00Z ERROR lost\n")
	forwardsTo(t, m, field.Logs{To: s.URL + "/v1/logs"})
	eventually(t, "it is refused", func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		return strings.Contains(m.unsent, "503")
	})
	if err := os.Truncate(m.logFile(), 0); err != nil {
		t.Fatal(err)
	}
	write("2026-11-27T09:00:01Z WARN x\n")
	mu.Lock()
	refuse = false
	mu.Unlock()
	eventually(t, "it has come", func() bool { return got.has(1) })
	last := got.all[len(got.all)-1]
	if last != "/v1/logs 1795770001000000000 13 it-1 WARN x" {
		t.Errorf("it was sent %q", got.all)
	}
}

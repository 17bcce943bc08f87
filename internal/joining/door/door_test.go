package door

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/identity"
	"lanternfield/internal/joining"
)

// fakeKeeper lets in who shows the right secret.
type fakeKeeper struct {
	secret []byte

	mu     sync.Mutex
	hellos []joining.Hello
}

func (h *fakeKeeper) Admit(_ context.Context, said joining.Hello, _ netip.Addr) (joining.Place, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.hellos = append(h.hellos, said)
	if !bytes.Equal(said.Secret, h.secret) {
		return joining.Place{}, errors.New("this invitation is none of this field's")
	}
	return joining.Place{Field: "quay", Node: "skua"}, nil
}

func (h *fakeKeeper) Enrol(context.Context, field.NodeName, io.ReadWriter) (string, error) {
	return "https://127.0.0.1:1", nil
}

func (h *fakeKeeper) Arrived(context.Context, joining.Hello, joining.Place, string) error { return nil }

func opened(t *testing.T) (*Door, *identity.Authority, *fakeKeeper) {
	t.Helper()
	authority, _, err := identity.New()
	if err != nil {
		t.Fatal(err)
	}
	h := &fakeKeeper{secret: []byte("right")}
	d, err := Open(netip.MustParseAddrPort("127.0.0.1:0"), authority, bytes.Repeat([]byte{1}, 32), h)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.Close() })
	return d, authority, h
}

func TestWhoKnocksIsToldWhereToGoOrWhyNot(t *testing.T) {
	d, authority, h := opened(t)
	for secret, want := range map[string]string{"right": "", "wrong": "this invitation is none of this field's"} {
		conn, err := tls.Dial("tcp", d.At().String(), identity.Knock(authority.Print(), joining.Protocol))
		if err != nil {
			t.Fatal(err)
		}
		var at joining.Place
		if err := errors.Join(joining.Say(conn, joining.Hello{Secret: []byte(secret), Machine: "gull\n"}), joining.Hear(conn, &at)); err != nil || at.Why != want || (want == "") != (at.Node == "skua") {
			t.Errorf("%s: %+v, %v", secret, at, err)
		}
		conn.Close()
	}
	if len(h.hellos) != 2 {
		t.Errorf("%d knocks were heard", len(h.hellos))
	}
}

// TestWhoIsNotTheDoorIsToldNothing has a machine knock at everybody who is not who its invitation is from: another field, an agent and a controller of the
// field itself, one whose certificate the authority has not issued.
func TestWhoIsNotTheDoorIsToldNothing(t *testing.T) {
	_, authority, _ := opened(t)
	other, _, _ := opened(t)
	var agent identity.Agent
	request, err := agent.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := authority.Sign(request, "door")
	if err = errors.Join(err, agent.Take(certificate, authority.Certificate())); err != nil {
		t.Fatal(err)
	}
	asAgent, err := agent.Terms().GetConfigForClient(nil)
	if err != nil {
		t.Fatal(err)
	}
	asAgent.ClientAuth = tls.NoClientCert
	asAgent.Certificates[0].Certificate = append(asAgent.Certificates[0].Certificate, authority.Certificate())
	stranger, _, err := identity.New()
	if err != nil {
		t.Fatal(err)
	}
	forged, _, err := stranger.Door(bytes.Repeat([]byte{2}, 32), joining.Protocol)
	if err != nil {
		t.Fatal(err)
	}
	forged.Certificates[0].Certificate[1] = authority.Certificate() // which has not issued it
	for who, terms := range map[string]*tls.Config{"an agent of the field": asAgent, "one with a certificate that is not the authority's": forged} {
		terms.NextProtos = []string{joining.Protocol}
		terms.VerifyConnection = nil
		listener, err := tls.Listen("tcp", "127.0.0.1:0", terms)
		if err != nil {
			t.Fatal(err)
		}
		heard := make(chan string, 1)
		go func() {
			conn, err := listener.Accept()
			if err != nil {
				heard <- err.Error()
				return
			}
			_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
			said, _ := io.ReadAll(conn)
			conn.Close()
			heard <- string(said)
		}()
		conn, err := tls.Dial("tcp", listener.Addr().String(), identity.Knock(authority.Print(), joining.Protocol))
		if !errors.Is(err, identity.ErrOtherDoor) {
			t.Errorf("%s is taken for the door: %v", who, err)
		}
		if err == nil {
			conn.Close()
		}
		if said := <-heard; said != "" {
			t.Errorf("%s was told %q", who, said)
		}
		listener.Close()
	}
	if conn, err := tls.Dial("tcp", other.At().String(), identity.Knock(authority.Print(), joining.Protocol)); !errors.Is(err, identity.ErrOtherDoor) {
		t.Errorf("the door of another field is taken for this one's: %v", err)
		if err == nil {
			conn.Close()
		}
	}
}

// TestWhoComesWithoutKnowingHowIsSentAway comes with an older TLS, without any, with what is no greeting, too large, and with none at all.
func TestWhoComesWithoutKnowingHowIsSentAway(t *testing.T) {
	d, authority, h := opened(t)
	old := identity.Knock(authority.Print(), joining.Protocol)
	old.MinVersion, old.MaxVersion = tls.VersionTLS12, tls.VersionTLS12
	if conn, err := tls.Dial("tcp", d.At().String(), old); err == nil {
		conn.Close()
		t.Error("TLS 1.2 is spoken at the door")
	}
	for what, said := range map[string]string{"no greeting": "GET / HTTP/1.1\r\n\r\n", "a list": "[1,2,3]\n", "too much": `{"machine":"` + strings.Repeat("x", 1<<20), "half of one": `{"id":`} {
		conn, err := tls.Dial("tcp", d.At().String(), identity.Knock(authority.Print(), joining.Protocol))
		if err != nil {
			t.Fatal(err)
		}
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
		_, _ = io.WriteString(conn, said)
		_ = conn.CloseWrite()
		if answer, _ := io.ReadAll(conn); len(answer) > 0 {
			t.Errorf("%s is answered: %s", what, answer)
		}
		conn.Close()
	}
	if len(h.hellos) > 0 {
		t.Errorf("%d of them were heard", len(h.hellos))
	}
	// A flood of silent ones keeps those out who come later only as long as they hold on; nobody is let in by it.
	var silent []net.Conn
	for range 2 * mostKnocking {
		if conn, err := net.Dial("tcp", d.At().String()); err == nil {
			silent = append(silent, conn)
		}
	}
	for _, c := range silent {
		c.Close()
	}
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 10 * time.Second}, "tcp", d.At().String(), identity.Knock(authority.Print(), joining.Protocol))
	if err != nil {
		t.Fatalf("after a flood nobody can knock any more: %v", err)
	}
	conn.Close()
}

// TestTheScriptBringsWhatIsCarried fetches the script with curl, as it is typed, and runs it with everything but the joining.
func TestTheScriptBringsWhatIsCarried(t *testing.T) {
	d, _, _ := opened(t)
	programs, err := carried.For(runtime.GOARCH)
	if err != nil {
		t.Fatalf("%v (run `make build` first)", err)
	}
	curl := func(pin, path string) ([]byte, error) {
		return exec.Command("curl", "-fsSk", "--max-time", "10", "--pinnedpubkey", pin, fmt.Sprintf("https://%s%s", d.At(), path)).Output()
	}
	if out, err := curl("sha256//AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=", "/join"); err == nil {
		t.Errorf("whoever shows another key is believed: %s", out)
	}
	script, err := curl(d.Pin(), "/join")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range programs {
		if !bytes.Contains(script, []byte("bring "+p.Name+" "+p.Sum)) {
			t.Errorf("%s is not brought by\n%s", p.Name, script)
		}
	}
	// The agent that is brought is one that says what was given to it.
	home := t.TempDir()
	fake := "#!/bin/sh\necho \"$@ $" + joining.Variable + "\" >$HOME/joined\nls -a $(dirname $0) >$HOME/beside\n"
	sum := sha256.Sum256([]byte(fake))
	text := string(script)
	for _, p := range programs {
		text = strings.ReplaceAll(text, p.Sum, hex.EncodeToString(sum[:]))
	}
	text = strings.Replace(text, `if [ "$(id -u)" = 0 ]`, `if false`, 1)
	fakes := t.TempDir()
	if err := os.WriteFile(filepath.Join(fakes, "curl"), []byte("#!/bin/sh\nprintf '%s' '"+fake+"' | gzip -c\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	run := exec.Command("sh", "-s", "--", "--address", "10.0.0.1")
	run.Stdin, run.Env = strings.NewReader(text), []string{"HOME=" + home, "PATH=" + fakes + ":" + os.Getenv("PATH"), joining.Variable + "=lf1.x"}
	if out, err := run.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	joined, _ := os.ReadFile(filepath.Join(home, "joined"))
	beside, _ := os.ReadFile(filepath.Join(home, "beside"))
	if string(joined) != "join --address 10.0.0.1 lf1.x\n" || !strings.Contains(string(beside), "lanternfield-guard") {
		t.Errorf("the agent was run with %q, beside %q", joined, beside)
	}
	if _, err := os.Stat(filepath.Join(home, ".local/state/lanternfield")); err == nil {
		t.Error("what was brought is left there")
	}
	run = exec.Command("sh", "-s")
	run.Stdin, run.Env = strings.NewReader(text), []string{"HOME=" + home, "PATH=" + os.Getenv("PATH")}
	if out, err := run.CombinedOutput(); err == nil || !strings.Contains(string(out), joining.Variable+" is not set") {
		t.Errorf("without an invitation: %v %s", err, out)
	}

	// The programs are those that are carried, and nothing else is given.
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	defer client.CloseIdleConnections()
	for path, status := range map[string]int{"/programs/" + runtime.GOARCH + "/" + programs[0].Name + ".gz": 200, "/programs/" + runtime.GOARCH + "/passwd.gz": 404, "/programs/vax/x.gz": 404,
		"/": 404, "/programs/../join.sh": 404} {
		res, err := client.Get(fmt.Sprintf("https://%s%s", d.At(), path))
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != status {
			t.Errorf("%s: %d %.80s", path, res.StatusCode, body)
		}
		if packed, _ := programs[0].Packed(); status == 200 && !slices.Equal(body, packed) {
			t.Errorf("%s is not what is carried", path)
		}
	}
}

// TestTheDoorIsKnownByTheSameKey opens it twice, as two keepers would.
func TestTheDoorIsKnownByTheSameKey(t *testing.T) {
	a, authority, h := opened(t)
	b, err := Open(netip.MustParseAddrPort("127.0.0.1:0"), authority, bytes.Repeat([]byte{1}, 32), h)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	c, err := Open(netip.MustParseAddrPort("127.0.0.1:0"), authority, bytes.Repeat([]byte{2}, 32), h)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if a.Pin() != b.Pin() || a.Pin() == c.Pin() || a.At() == b.At() {
		t.Errorf("%s %s %s at %s %s", a.Pin(), b.Pin(), c.Pin(), a.At(), b.At())
	}
	b.Shut()
	for range 100 {
		conn, err := net.Dial("tcp", b.At().String())
		if err != nil {
			return
		}
		conn.Close()
		time.Sleep(10 * time.Millisecond)
	}
	t.Error("a door that was shut is open")
}

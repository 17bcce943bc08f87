package secureshell

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"lanternfield/internal/core/field"
)

// fault dials and gives what is wrong.
func fault(t *testing.T, target *Target) *Fault {
	t.Helper()
	c, err := Dial(context.Background(), target, false)
	if err == nil {
		c.Close()
		return nil
	}
	var f *Fault
	if !errors.As(err, &f) {
		t.Fatalf("%v is no fault", err)
	}
	return f
}

func TestAHostIsBelievedOnlyWithAKeyThatWasConfirmed(t *testing.T) {
	c := newClient(t)
	s := newServer(t, c.signer.PublicKey())
	target := c.target(t, s, field.Ground{})
	known := filepath.Join(c.home, "known")
	f := fault(t, target)
	if f == nil || f.Kind != UnknownKey || !strings.Contains(f.Error(), "ssh-ed25519 SHA256:") {
		t.Fatalf("a key that nobody has confirmed: %v", f)
	}
	if err := f.Key.Believe(known); err != nil {
		t.Fatal(err)
	}
	if f := fault(t, target); f != nil {
		t.Fatalf("after it was confirmed: %v", f)
	}
	s.config = &ssh.ServerConfig{NoClientAuth: true}
	s.config.AddHostKey(newSigner(t))
	f = fault(t, target)
	if f == nil || f.Kind != ChangedKey || !strings.Contains(f.Why, "shows another host key than before") || !strings.Contains(f.Why, known+", line 1") || !strings.Contains(f.Do, "Nothing was sent to it") {
		t.Fatalf("another key: %v", f)
	}
	if err := errors.Join(Forget(known, f.Key.Address), f.Key.Believe(known)); err != nil {
		t.Fatal(err)
	}
	if f := fault(t, target); f != nil {
		t.Errorf("after the new one was confirmed: %v", f)
	}
	if data, _ := os.ReadFile(known); strings.Count(string(data), "\n") != 1 {
		t.Errorf("what is known: %q", data)
	}
}

// believed gives a target whose host key is known.
func believed(t *testing.T, c *client, s *server, g field.Ground) *Target {
	t.Helper()
	target := c.target(t, s, g)
	if f := fault(t, target); f != nil && f.Key != nil {
		if err := f.Key.Believe(target.Known[0]); err != nil {
			t.Fatal(err)
		}
	}
	return target
}

func TestWhatIsWrongWithAHostIsSaid(t *testing.T) {
	c := newClient(t)
	for name, x := range map[string]struct {
		server func() *server
		kind   Kind
		why    string
	}{
		"nobody is let in": {func() *server { return newServer(t, nil) }, Login, "does not let harbour in; it was offered the key in " + c.home + "/.ssh/id_ed25519 (SHA256:"},
		"it talks and talks": {func() *server {
			s := newServer(t, c.signer.PublicKey())
			s.first = bytes.Repeat([]byte("x"), 1<<20)
			return s
		}, Silent, "does not speak SSH as it should"},
		"it has ended": {func() *server {
			s := newServer(t, c.signer.PublicKey())
			s.listener.Close()
			return s
		}, Unreachable, "cannot be reached: connect to 127.0.0.1:"},
	} {
		s := x.server()
		f := fault(t, believed(t, c, s, field.Ground{}))
		if f == nil || f.Kind != x.kind || !strings.Contains(f.Error(), x.why) || f.Do == "" {
			t.Errorf("%s: %v", name, f)
		}
	}
}

func TestAHostThatSaysNothingIsGivenUp(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes as long as is waited for")
	}
	c := newClient(t)
	s := newServer(t, nil)
	s.silent = true
	began := time.Now()
	f := fault(t, c.target(t, s, field.Ground{}))
	if f == nil || f.Kind != Silent || !strings.Contains(f.Why, "does not finish the login within 10 s") || time.Since(began) > 2*dialWithin {
		t.Errorf("after %s: %v", time.Since(began), f)
	}
}

func TestScriptsRunWhateverTheLoginSaysBefore(t *testing.T) {
	c := newClient(t)
	s := newServer(t, c.signer.PublicKey())
	s.before = "Welcome! You have mail.\nlanternfield-script-\n" + strings.Repeat("* rubbish *\n", 5000)
	conn, err := Dial(context.Background(), believed(t, c, s, field.Ground{}), false)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	out, err := conn.Run(context.Background(), strings.NewReader("in"), `printf '%s|%s|' "$1" "$2"; cat`, `it's "$HOME"`, "a\nb")
	if err != nil || out != `it's "$HOME"|`+"a\nb|in" {
		t.Errorf("it says %q, %v", out, err)
	}
	_, err = conn.Run(context.Background(), nil, `echo "no room" >&2; exit 3`)
	var f *Fault
	if !errors.As(err, &f) || f.Kind != Failed || !strings.Contains(f.Why, "no room") {
		t.Errorf("a script that fails: %v", err)
	}
	talk, err := conn.Talk(context.Background(), `read x; echo "heard $x"; read y; echo "bye $y"`)
	if err != nil {
		t.Fatal(err)
	}
	for _, words := range [][2]string{{"one\n", "heard one\n"}, {"two\n", "bye two\n"}} {
		got := make([]byte, len(words[1]))
		if _, err := talk.Write([]byte(words[0])); err != nil {
			t.Fatal(err)
		}
		if n, err := io.ReadFull(talk, got); err != nil || string(got[:n]) != words[1] {
			t.Errorf("it answers %q, %v", got, err)
		}
	}
	if err := talk.Close(); err != nil {
		t.Error(err)
	}
}

func TestAConnectionThatIsCutIsSaid(t *testing.T) {
	c := newClient(t)
	s := newServer(t, c.signer.PublicKey())
	target := believed(t, c, s, field.Ground{})
	s.cut = 64 << 10
	conn, err := Dial(context.Background(), target, false)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_, err = conn.Run(context.Background(), bytes.NewReader(make([]byte, 1<<20)), "cat >/dev/null")
	var f *Fault
	if !errors.As(err, &f) || f.Kind != Broken || !strings.Contains(f.Why, "went away in the middle") {
		t.Errorf("got %v", err)
	}
	select {
	case <-conn.Done():
	case <-time.After(10 * time.Second):
		t.Error("the connection is still taken for one")
	}
}

func TestAHostIsReachedThroughAnother(t *testing.T) {
	c := newClient(t)
	gate, behind := newServer(t, c.signer.PublicKey()), newServer(t, c.signer.PublicKey())
	through := "harbour@" + gate.listener.Addr().String()
	believed(t, c, behind, field.Ground{Through: through}) // the gate shows its key first
	target := believed(t, c, behind, field.Ground{Through: through})
	conn, err := Dial(context.Background(), target, false)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if out, err := conn.Run(context.Background(), nil, "echo here"); err != nil || out != "here\n" {
		t.Errorf("%q, %v", out, err)
	}
	if !conn.idle(time.Now().Add(2 * idleAfter)) {
		t.Error("a connection that nobody uses is not idle")
	}
	there, err := conn.DialContext(context.Background(), "tcp", gate.listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	if conn.idle(time.Now().Add(2 * idleAfter)) {
		t.Error("one that is used is")
	}
	there.Close()
}

func TestThePersonsOwnConfigurationIsHonoured(t *testing.T) {
	c := newClient(t)
	write := func(text string) {
		if err := os.WriteFile(filepath.Join(c.home, ".ssh", "config"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("Host quay\n  HostName 10.9.0.1\n  User pilot\n  Port 2200\n  IdentityFile ~/.ssh/quay\n  ProxyJump gate:2022\nHost gate\n  User keeper\n")
	for name, x := range map[string]struct {
		said field.Ground
		want string
		keys string
		over string
	}{
		"quay":    {field.Ground{}, "quay (pilot@10.9.0.1:2200)", ".ssh/quay", "keeper@gate:2022"},
		"quay ":   {field.Ground{User: "root", Port: 22, Key: "/k", Through: "a@b:7"}, "quay (root@10.9.0.1)", "", "a@b:7"},
		"another": {field.Ground{User: "root"}, "root@another", ".ssh/id_ed25519", ""},
	} {
		if x.said.Key != "" {
			x.said.Key = filepath.Join(c.home, ".ssh", "id_ed25519")
		}
		s, err := Configuration()
		if err != nil {
			t.Fatal(err)
		}
		got, err := s.Resolve(strings.TrimSpace(name), x.said, nil)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		over := ""
		if len(got.Through) > 0 {
			over = got.Through[0].String()
		}
		if got.String() != x.want || over != x.over || x.keys != "" && got.Keys[0] != filepath.Join(c.home, x.keys) {
			t.Errorf("%s is %s with %v through %q, want %s through %q", name, got, got.Keys, over, x.want, x.over)
		}
	}
	write("Host quay\n  ProxyCommand nc %h %p\nHost round\n  ProxyJump about\nHost about\n  ProxyJump round\n")
	for name, why := range map[string]string{"quay": "has a ProxyCommand for it, which is not carried out here", "round": "does it go in a circle?"} {
		s, err := Configuration()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.Resolve(name, field.Ground{}, nil); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

package e2e

import (
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/keyring"
)

// secrets are all that is secret of a field, each in the forms in which it could be found, by what it is.
func (x *trial) secrets() map[string][][]byte {
	x.Helper()
	ring := x.keyring()
	out := map[string][][]byte{"the field's key": raw(ring.Key()), "the root of authority 2": raw(ring.Root(2))}
	for block, rest := pem.Decode([]byte(ring.Authority())); block != nil; block, rest = pem.Decode(rest) {
		if strings.Contains(block.Type, "KEY") {
			out["the key of the agents' authority"] = [][]byte{[]byte(base64.StdEncoding.EncodeToString(block.Bytes)[40:72]), block.Bytes[8:40]}
		}
	}
	var ways []struct{ Role, Value string }
	if err := json.Unmarshal([]byte(x.must("access", x.file, "--show-secrets", "--json")), &ways); err != nil {
		x.Fatal(err)
	}
	for _, w := range ways {
		if w.Value != "" {
			out["the secret of "+w.Role] = raw([]byte(w.Value))
		}
	}
	owner, err := os.ReadFile(os.Getenv(keyring.OwnerVariable))
	if err != nil {
		x.Fatal(err)
	}
	for line := range strings.Lines(string(owner)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "AGE-SECRET-KEY") {
			out["the owner's key"] = [][]byte{[]byte(line)}
		}
	}
	return out
}

// raw gives bytes as they are, and in the ways in which texts have them.
func raw(b []byte) [][]byte {
	if len(b) == 0 {
		return nil
	}
	return [][]byte{b, []byte(hex.EncodeToString(b)), []byte(base64.StdEncoding.EncodeToString(b)), []byte(base64.URLEncoding.EncodeToString(b))}
}

// holds tells which secrets are in a text.
func holds(secrets map[string][][]byte, text []byte) (found []string) {
	for what, forms := range secrets {
		if slices.ContainsFunc(forms, func(f []byte) bool { return bytes.Contains(text, f) }) {
			found = append(found, what)
		}
	}
	return found
}

// spy looks at the command lines and environments of all processes, over and over.
type spy struct {
	mu    sync.Mutex
	seen  map[string]bool // each once
	looks int
	end   chan struct{}
	all   sync.WaitGroup
}

func newSpy(t *testing.T) *spy {
	s := &spy{seen: map[string]bool{}, end: make(chan struct{})}
	s.all.Go(func() {
		for {
			select {
			case <-s.end:
				return
			case <-time.After(3 * time.Millisecond):
			}
			entries, _ := os.ReadDir("/proc")
			s.mu.Lock()
			s.looks++
			for _, e := range entries {
				if e.Name()[0] < '0' || e.Name()[0] > '9' {
					continue
				}
				line, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
				env, _ := os.ReadFile("/proc/" + e.Name() + "/environ")
				if bytes.Contains(env, []byte("LANTERNFIELD_HOME=")) { // of a member: it may have its own
					env = nil
				}
				s.seen[string(line)+"\x00|\x00"+string(env)] = true
			}
			s.mu.Unlock()
		}
	})
	t.Cleanup(s.stop)
	return s
}

func (s *spy) stop() {
	select {
	case <-s.end:
	default:
		close(s.end)
	}
	s.all.Wait()
}

// TestNoSecretIsFound deploys with a secret that is given and others that are made, changes them, and looks for each of them, for keys and for what they
// are made of: in everything that is stored, printed or exported, in command lines and environments, as root and as another user. They may be in the
// keyring, which is encrypted, and in files that only their member's user may read.
func TestNoSecretIsFound(t *testing.T) {
	t.Parallel()
	field := strings.Replace(desk, "harbour-trust", "harbour-keys", 1) + "  orders: {kit: jetstream, members: 1}\nsecrets:\n  postgresql: {file: berths.secret}\n"
	x := newTrial(t, field)
	given := filepath.Join(x.dir, "berths.secret")
	give := func(value string) {
		if err := os.WriteFile(given, []byte(value), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for value, says := range map[string]string{"": "it is empty", "tide": "at least 8", "it's \"$HOME\"\nnow": "the quote ', a blank, the quote \" and a line break", strings.Repeat("tide", 2560): "at most 128"} {
		give(value)
		if out, code := x.try(20*time.Second, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, says) || !strings.Contains(out, "nothing has been changed") {
			t.Errorf("a secret of %d characters: exit status %d\n%s", len(value), code, out)
		}
	}
	const first, second = "Low/tide@noon:1%&=?", "Heligoland-1890"
	give(strings.ReplaceAll(first, ":", ";")) // what the kit takes
	s := newSpy(t)
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	client := x.access("berths")
	if !client.psql("select 1") {
		t.Error("a client with the secret that was given is not let in")
	}
	store := x.access("tariffs")
	if _, err := store.tls.Certificates[0].Leaf.Verify(x509.VerifyOptions{Roots: store.tls.RootCAs, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}); err == nil {
		t.Error("a client's certificate can be used to answer")
	}
	x.must("trust", "renew", x.file, "--yes", "--timeout", "120s")
	x.must("trust", "rotate", x.file, "--yes", "--timeout", "120s")
	if out := x.must("trust", x.file); !strings.Contains(out, "Clients of tariffs were given a certificate, until ") || !strings.Contains(out, ", by the authority before; give them another with lanternfield access tariffs") {
		t.Errorf("that clients have one by the authority before is not said:\n%s", out)
	}
	before := x.secrets()
	give(second)
	x.must("trust", "change", x.file, "postgresql", "--yes", "--timeout", "60s")
	x.must("trust", "change", x.file, "jetstream-system", "--make", "--yes", "--timeout", "60s")
	if client.psql("select 1") {
		t.Error("a client with the secret before is still let in")
	}
	if now := x.access("berths"); !now.psql("select 1") || !strings.Contains(now.url, second) {
		t.Error("a client with the new secret is not let in")
	}
	var orders string
	if conf, err := os.ReadFile(filepath.Join(x.state, "harbour-keys/nodes", string(x.status().member("orders-1").Node), "members/orders-1/nats.conf")); err == nil {
		if _, after, ok := strings.Cut(string(conf), "user: keeper, password: \""); ok {
			orders, _, _ = strings.Cut(after, `"`)
		}
	}
	all := x.secrets()
	all["the secret before"] = before["the secret of berths"]
	all["the secret of orders' own account"] = raw([]byte(orders))
	if !bytes.Equal(all["the secret of berths"][0], []byte(second)) || len(orders) != 32 || len(all) != 7 {
		t.Fatalf("%d secrets to look for; of orders %q", len(all), orders)
	}
	s.stop()
	for text := range s.seen {
		if found := holds(all, []byte(text)); len(found) > 0 {
			t.Errorf("%v in a command line or an environment: %s", found, strings.SplitN(text, "\x00", 2)[0])
		}
	}
	if s.looks < 100 {
		t.Errorf("only %d looks at the processes", s.looks)
	}

	x.foundInFiles(all)
	for _, what := range [][]string{{"journal", x.file}, {"status", x.file, "--json"}, {"trust", x.file, "--json"}, {"trust", x.file}, {"access", x.file, "--json"}, {"access", x.file}, {"lines", x.file},
		{"files", x.file, "berths-1"}, {"files", x.file, "orders-1"}, {"journal", x.file, "--json"}, {"check", x.file, "--json"}} {
		out, _ := x.try(30*time.Second, what...)
		if found := holds(all, []byte(out)); len(found) > 0 || strings.Contains(out, "PRIVATE KEY") {
			t.Errorf("%v shows %v", what, found)
		}
	}
	for what, ending := range map[string]string{"board": "svg", "order": "pdf", "topology": "dot"} {
		out := filepath.Join(x.dir, what+"."+ending)
		if said, code := x.try(30*time.Second, "export", x.file, what, "-o", out); code != 0 {
			t.Errorf("export %s: %s", what, said)
		} else if data, _ := os.ReadFile(out); len(data) == 0 || len(holds(all, data)) > 0 {
			t.Errorf("the export %s shows %v", what, holds(all, data))
		}
	}
	if out := x.must("access", x.file, "berths", "--show-secrets"); !strings.Contains(out, "postgres:"+second+"@") {
		t.Errorf("access does not show the secret when asked:\n%s", out)
	}
	if out, code := x.try(10*time.Second, "access", x.file, "berths", "--write", client.dir); code == 0 || !strings.Contains(out, "is there already, and nothing has been written") {
		t.Errorf("access writes over files: %s", out)
	}
	x.foundByOthers(all)
}

// psql tells whether a client's own tool is let in with what it was given.
func (w way) psql(statement string) bool {
	cmd := exec.Command("sh", "-c", `. "$1" && exec psql -qAtc "$2"`, "client", filepath.Join(w.dir, "access.env"), statement)
	cmd.Env = append(os.Environ(), "PGCONNECT_TIMEOUT=5", "LANTERNFIELD_HOME=a client's own")
	return cmd.Run() == nil
}

// foundInFiles looks for secrets in all files below the state folder, as root can. Those of members are their user's alone.
func (x *trial) foundInFiles(secrets map[string][][]byte) {
	x.Helper()
	own, files := 0, 0
	err := filepath.WalkDir(x.state, func(name string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || filepath.Base(name) == "reserve" {
			return nil
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return nil // it has just gone
		}
		files++
		rel, _ := filepath.Rel(x.state, name)
		found := holds(secrets, data)
		key := bytes.Contains(data, []byte("PRIVATE KEY"))
		if len(found) == 0 && !key {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		part := strings.Split(rel, "/") // FIELD/nodes/NODE/members/MEMBER/…
		member := len(part) > 5 && part[1] == "nodes" && part[3] == "members"
		switch own++; {
		case info.Mode().Perm()&0o077 != 0:
			x.Errorf("others may read %s (%v), in which there is %v", rel, info.Mode(), found)
		case len(part) == 3 && part[1] == "own" && part[2] == "watch.pem": // by which agents are watched, and not led
		case !member || key && !strings.HasSuffix(rel, "/tls/member.pem"):
			x.Errorf("%v, or a key, in %s", found, rel)
		}
		return nil
	})
	if err != nil || own < 8 || files < 100 {
		x.Errorf("%d files were looked at, and %d have secrets in them: %v", files, own, err)
	}
}

// foundByOthers looks at all that another user of the machine can read.
func (x *trial) foundByOthers(secrets map[string][][]byte) {
	x.Helper()
	who := nobodysRights(x.T)
	for _, script := range []string{"cat /proc/[0-9]*/cmdline /proc/[0-9]*/environ", "find " + x.state + " -type f -exec cat {} +", "find " + x.dir + " -type f -exec cat {} +"} {
		cmd := exec.Command("sh", "-c", script+" 2>/dev/null")
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
		out, _ := cmd.Output()
		if found := holds(secrets, out); len(found) > 0 {
			x.Errorf("another user reads %v by `%s`", found, script)
		}
	}
}

// TestMemoryIsKeptPrivate has a field run by somebody who is not root, and looks at its agents and its keeper as that very user: memory and environment are
// closed, which means that the kernel dumps no core of them either.
func TestMemoryIsKeptPrivate(t *testing.T) {
	t.Parallel()
	who := nobodysRights(t)
	x := newTrial(t, strings.Replace(secretive, "sealed-quay", "private-quay", 1))
	home := filepath.Join(x.dir, "home")
	if err := os.Mkdir(home, 0o700); err == nil {
		err = os.Chown(home, int(who.Uid), int(who.Gid))
		if err != nil {
			t.Fatal(err)
		}
	}
	env := []string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "LANTERNFIELD_STATE=" + filepath.Join(home, "state")}
	as := func(args ...string) string {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Env, cmd.Dir, cmd.SysProcAttr = env, "/", &syscall.SysProcAttr{Credential: who}
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Sprintf("%s%v", out, err)
		}
		return string(out)
	}
	if out := as(binary, "deploy", x.file, "--yes"); !strings.Contains(out, "is converged") {
		t.Fatalf("deploy as another user:\n%s", out)
	}
	defer func() {
		if out := as(binary, "retire", x.file, "--yes"); !strings.Contains(out, "is retired") {
			t.Errorf("retire as another user:\n%s", out)
		}
	}()
	if info, err := os.Stat(filepath.Join(home, ".config/lanternfield/owner.key")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the owner's key is not where it is said to be: %v", err)
	}
	looked := 0
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		line, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
		args := strings.Split(string(line), "\x00")
		if len(args) < 3 || args[0] != binary || !strings.Contains(string(line), home) || args[1] != "agent" && args[1] != "keep" {
			continue
		}
		looked++
		for _, name := range []string{"environ", "mem", "maps"} {
			if out := as("head", "-c", "1", "/proc/"+e.Name()+"/"+name); !strings.Contains(out, "ermission denied") {
				t.Errorf("its own user reads %s of %s: %q", name, args[1], out)
			}
		}
	}
	if looked < 3 {
		t.Errorf("%d agents and keepers were looked at", looked)
	}
}

// TestWhatIsCapturedAndSecretIsKeptFromSight has a member join with a token that the step of another one gives out: it is in the file of the joiner, and in
// the clear nowhere else.
func TestWhatIsCapturedAndSecretIsKeptFromSight(t *testing.T) {
	t.Parallel()
	x := newTrial(t, `format: 1
field: token-quay
nodes: [{name: gull-1}, {name: gull-2}]
roles:
  crews:
    members: 1
    program:
      command: [sleep, "600"]
      files:
        token: {template: '{{if .Founding}}founder{{else}}{{.Captured "token" "shell"}}{{end}}'}
      join:
        - on: peer
          exec: [sh, -c, "printf 'pass''word-%s' 4711"]
          capture: {token: trim(output), plain: '"seen"'}
          secret: [token]
`)
	x.must("deploy", x.file, "--yes")
	x.must("scale", x.file, "crews", "2", "--yes")
	joined := filepath.Join(x.home("crews-2"), "token")
	if got := string(readFile(joined)); got != "password-4711" {
		t.Errorf("the joiner has %q", got)
	}
	if info, err := os.Stat(joined); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its file: %v %v", info.Mode(), err)
	}
	if out := x.must("files", x.file, "crews-2"); strings.Contains(out, "password-4711") || !strings.Contains(out, "(captured, secret)") {
		t.Errorf("files: %s", out)
	}
	found := 0
	err := filepath.WalkDir(x.state, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && path != joined && bytes.Contains(readFile(path), []byte("password-4711")) {
			t.Errorf("%s has it in the clear", path)
		}
		found++
		return err
	})
	if err != nil || found < 20 {
		t.Errorf("%d files: %v", found, err)
	}
}

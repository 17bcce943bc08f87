package e2e

import (
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/keyring"
)

// keyring opens the field's keyring, as its owner can.
func (x *trial) keyring() *keyring.Keyring {
	x.Helper()
	ids, err := keyring.Owner(os.Getenv(keyring.OwnerVariable))
	if err != nil {
		x.Fatal(err)
	}
	ring, err := keyring.Open(filepath.Join(x.state, x.field(), "own"), x.field(), ids...)
	if err != nil {
		x.Fatal(err)
	}
	return ring
}

// unkept has whoever keeps the field end: it knows what is in the keyring.
func (x *trial) unkept() {
	x.Helper()
	if keeper := x.keeper(); keeper > 0 {
		_ = syscall.Kill(keeper, syscall.SIGTERM)
	}
	x.alone()
}

// rootOf puts the root of an authority in the keyring, or takes it away.
func (x *trial) rootOf(number int, root []byte) {
	x.Helper()
	x.unkept()
	if err := x.keyring().Change(func(c *keyring.Content) {
		if c.Roots[number] = root; root == nil {
			delete(c.Roots, number)
		}
	}); err != nil {
		x.Fatal(err)
	}
}

// secretive has a secret in the file of its members.
const secretive = `
format: 1
field: sealed-quay
nodes: [{name: gull-1}, {name: tern-1}]
roles:
  crews:
    members: 2
    program:
      command: [sleep, "600"]
      ready: {exec: ["true"]}
      files: {it.conf: {template: 'key = {{.Secret "crews"}}', on_change: restart}}
`

// TestASealedKeeperWatches seals a keyring with a passphrase: a keeper that has not been told it goes on seeing, orders nothing, says what waits, and goes
// on when it is told.
func TestASealedKeeperWatches(t *testing.T) {
	t.Parallel()
	x := newTrial(t, secretive)
	x.must("deploy", x.file, "--yes")
	said := filepath.Join(x.dir, "passphrase")
	if err := os.WriteFile(said, []byte("low tide at noon\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, code := x.try(20*time.Second, "trust", "seal", x.file); code != 2 || !strings.Contains(out, "say what is to open the keyring") {
		t.Errorf("sealing with nothing: %d %s", code, out)
	}
	x.must("trust", "seal", x.file, "--passphrase-file", said)
	x.unkept()
	before := x.status()
	if before.State != "converged" || len(before.Members) != 2 {
		t.Fatalf("looked at without a keeper: %+v", before)
	}

	out, code := x.try(20*time.Second, "restart", x.file, "crews-1", "--yes")
	if code != 2 || !strings.Contains(out, "the keyring of sealed-quay is sealed: its passphrase has not been said") || !strings.Contains(out, "`lanternfield trust unseal` asks for it") {
		t.Errorf("restarting with a sealed keyring: %d %s", code, out)
	}
	for _, args := range [][]string{{"deploy", x.file, "--yes"}, {"trust", x.file}, {"access", x.file}, {"run", x.file, "crews-1", "--", "true"}, {"retire", x.file, "--yes"}} {
		if out, code := x.try(20*time.Second, args...); code == 0 || !strings.Contains(out, "is sealed") {
			t.Errorf("%v with a sealed keyring: %d %s", args, code, out)
		}
	}
	_ = syscall.Kill(before.member("crews-1").PID, syscall.SIGKILL)
	x.until("its agent starts it again, and that is seen", 20*time.Second, func() bool {
		_, _ = x.try(20*time.Second, "restart", x.file, "crews-2", "--yes") // starts somebody who watches
		m := x.status().member("crews-1")
		return m.Phase == "ready" && m.PID != before.member("crews-1").PID
	})
	if now := x.status().member("crews-2"); now.PID != before.member("crews-2").PID {
		t.Errorf("a member was restarted by a sealed keeper: %+v", now)
	}

	// A person at a terminal is asked, is mistaken once, and goes on.
	s := newScreen(t, x, 160, 24, "restart", x.file, "crews-2", "--yes")
	s.has("The keyring of sealed-quay is sealed. Its passphrase")
	s.types("high tide at noon")
	s.press("Enter")
	s.has("That is not it.")
	s.types("low tide at noon")
	s.press("Enter")
	x.until("it is restarted", 30*time.Second, func() bool {
		s := x.status()
		return s.State == "converged" && s.member("crews-2").PID != before.member("crews-2").PID
	})

	// What waits is said, and done with the passphrase: a keeper dies in the middle of something.
	x.unkept()
	if err := os.WriteFile(said, []byte("low tide at noon"), 0o600); err != nil { // with no end of line
		t.Fatal(err)
	}
	x.must("trust", "unseal", x.file, "--passphrase-file", said)
	x.write(strings.Replace(secretive, "key = ", "the key = ", 1))
	agent := x.agentOf("gull-1")
	_ = syscall.Kill(agent, syscall.SIGSTOP)
	_, _ = x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "3s")
	x.killKeeper()
	x.alone()
	_ = syscall.Kill(agent, syscall.SIGCONT)
	_, _ = x.try(20*time.Second, "restart", x.file, "crews-2", "--yes")
	x.until("it says what waits", 20*time.Second, func() bool {
		_, _ = x.try(20*time.Second, "restart", x.file, "crews-2", "--yes")
		return strings.Contains(x.must("status", x.file), "Waiting for it: what is to be done at crews-")
	})
	x.must("trust", "unseal", x.file, "--passphrase-file", said)
	x.until("it is done", 30*time.Second, func() bool { return x.status().State == "converged" })
	if text, err := os.ReadFile(filepath.Join(x.state, "sealed-quay/nodes/gull-1/members/crews-1/it.conf")); err != nil || !strings.HasPrefix(string(text), "the key = ") {
		t.Errorf("what waited: %s %v", text, err)
	}
	x.must("trust", "seal", x.file, "--owner-key", os.Getenv(keyring.OwnerVariable))
}

// TestKeysThatLieOpenAreTakenIn makes of a field what an older version left: keys in the open. The next keeper puts them into a keyring, and nothing else
// changes. Then the keyring, and the owner's key, are lost.
func TestKeysThatLieOpenAreTakenIn(t *testing.T) {
	x := newTrial(t, strings.Replace(secretive, "sealed-quay", "open-quay", 1))
	x.must("deploy", x.file, "--yes")
	before := x.status()
	x.unkept()
	ring := x.keyring()
	own := filepath.Join(x.state, "open-quay", "own")
	secret, authority, file := filepath.Join(own, "secret"), filepath.Join(own, "authority.pem"), filepath.Join(own, keyring.File)
	for name, text := range map[string]string{secret: hex.EncodeToString(ring.Key()) + "\n", authority: ring.Authority(), filepath.Join(own, "authority-2.key"): strings.Repeat("ab", 32)} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if out := x.must("deploy", x.file, "--yes"); !strings.Contains(out, "nothing to change") {
		t.Errorf("taking keys in changes something:\n%s", out)
	}
	again := x.keyring()
	left, _ := filepath.Glob(filepath.Join(own, "*"))
	left = slices.DeleteFunc(left, func(name string) bool {
		return !slices.Contains([]string{"secret", "authority.pem", "authority-2.key"}, filepath.Base(name))
	})
	if fmt.Sprint(again.Key()) != fmt.Sprint(ring.Key()) || again.Authority() != ring.Authority() || len(again.Root(2)) != 32 || len(left) > 0 {
		t.Errorf("taken in: %d bytes of a root; %v lie open", len(again.Root(2)), left)
	}
	if now := x.status(); now.State != "converged" || now.Members[0].PID != before.Members[0].PID {
		t.Errorf("after that: %s", now.Verdict)
	}

	says := func(what, text string, args ...string) {
		t.Helper()
		if out, code := x.try(20*time.Second, args...); code != 2 || !strings.Contains(out, text) {
			t.Errorf("%s: exit status %d\n%s", what, code, out)
		}
	}
	away := func(name string) func() {
		if err := os.Rename(name, name+".away"); err != nil {
			t.Fatal(err)
		}
		return func() {
			if err := os.Rename(name+".away", name); err != nil {
				t.Fatal(err)
			}
		}
	}
	x.unkept()
	back := away(file)
	says("the keyring is gone", "the keyring of open-quay, "+file+", is gone: put it back from a copy", "deploy", x.file, "--yes")
	if _, err := os.Stat(file); err == nil {
		t.Error("another keyring was made in the place of the one that is gone")
	}
	back()
	if err := os.WriteFile(file+".new", []byte("-----BEGIN AGE ENCRYPTED FILE-----\nnot\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	back = away(file)
	if err := os.Rename(file+".new", file); err != nil {
		t.Fatal(err)
	}
	says("the keyring is damaged", "is damaged", "deploy", x.file, "--yes")
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	back()
	owner := filepath.Join(x.dir, "owner.key")
	t.Setenv(keyring.OwnerVariable, owner)
	says("the owner's key is gone", "is not at hand (looked for in "+owner+")", "restart", x.file, "--yes")
	x.unkept()
	if _, err := os.Stat(owner); err == nil {
		t.Error("an owner's key was made for a keyring that is for another")
	}
	if err := os.WriteFile(owner, []byte("nonsense\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	says("others can read the owner's key", "others can read the owner's key", "restart", x.file, "--yes")
	x.unkept()
	if err := os.Chmod(owner, 0o600); err != nil {
		t.Fatal(err)
	}
	says("the owner's key is none", "line 1 is not an age identity", "restart", x.file, "--yes")
	x.unkept()
	if now := x.status(); now.State != "converged" {
		t.Errorf("looked at without the owner's key: %s", now.Verdict)
	}
}

// TestWhatOnlyAPersonCanSay deploys from the screen a field whose secret is given on the terminal, changes it there, and tells a sealed keyring's passphrase.
func TestWhatOnlyAPersonCanSay(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(secretive, "sealed-quay", "asking-quay", 1)+"secrets: {crews: {prompt: true}}\n")
	if out, code := x.try(20*time.Second, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, "the secret crews cannot be read from the terminal: there is no terminal to ask on") {
		t.Errorf("without a terminal: %d %s", code, out)
	}
	conf := func() string {
		return string(readFile(filepath.Join(x.state, "asking-quay/nodes/gull-1/members/crews-1/it.conf")))
	}
	s := newScreen(t, x, 120, 40, "open", x.file)
	say := func(text string) {
		s.types(text)
		s.press("Enter")
	}
	s.has("Not deployed yet")
	s.press("P")
	s.has("Nothing is deployed, so there is nothing to be proved.")
	s.press("v")
	s.has("d deploys this")
	s.press("d")
	s.has("The secret crews: 8 to 128 characters, without", "The new one:")
	say("tide")
	s.has("Once more:")
	say("tide")
	s.has("the secret crews cannot be used: it has 4 characters, and must have at least 8", "enter goes back to the board")
	s.press("Enter")
	s.has("Nothing has been done.")
	s.press("v")
	s.has("d deploys this")
	s.press("d")
	s.has("The new one:")
	say("low-tide-at-noon")
	s.has("Once more:")
	say("low-tide-at-noon")
	s.has("2 of 2 lit")
	if got := conf(); got != "key = low-tide-at-noon" {
		t.Errorf("the secret that was given: %q", got)
	}

	s.press("7")
	s.has("secrets", "crews number 1 given on")
	s.again("change the secret", func() { s.press("Down") })
	s.press("c")
	s.has("The new one:")
	say("Heligoland-1890")
	s.has("Once more:")
	say("Heligoland-1890")
	s.has("change the file it.conf of crews-2, which restarts it", "Change the secret crews? [y/N]")
	say("y")
	s.has("crews number 2 given on")
	if got := conf(); got != "key = Heligoland-1890" {
		t.Errorf("the secret that was changed: %q", got)
	}

	said := filepath.Join(x.dir, "passphrase")
	if err := os.WriteFile(said, []byte("low tide at noon"), 0o600); err != nil {
		t.Fatal(err)
	}
	x.must("trust", "seal", x.file, "--passphrase-file", said)
	x.killKeeper()
	s.has("the keyring of asking-quay is sealed")
	s.press("c") // that needs it
	s.has("Its passphrase (empty: only watch):")
	say("low tide at noon")
	s.has("The new one:")
	say("Neuwerk-1310")
	s.has("Once more:")
	say("Neuwerk-1310")
	s.has("Change the secret crews? [y/N]")
	say("y")
	s.has("crews number 3 given on")
	x.must("trust", "unseal", x.file, "--passphrase-file", said)
	x.must("trust", "seal", x.file, "--owner-key", os.Getenv(keyring.OwnerVariable))
	s.press("q")
}

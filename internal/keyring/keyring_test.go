package keyring

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"filippo.io/age"
)

// authorityPEM is what is looked for in the sealed file. It has characters
// that base64 has not, so that no sealed file can hold it by chance.
const authorityPEM = "-- the key of an authority --"

func made(t *testing.T) (string, *age.X25519Identity, *Keyring) {
	t.Helper()
	dir := t.TempDir()
	id, err := MakeOwner(filepath.Join(dir, "config", "owner.key"))
	if err != nil {
		t.Fatal(err)
	}
	k, err := Make(dir, id, Content{Field: "quay", Key: []byte("key"), Authority: authorityPEM, Roots: map[int][]byte{2: []byte("root")}})
	if err != nil {
		t.Fatal(err)
	}
	return dir, id, k
}

func TestAKeyringHoldsWhatWasPutIn(t *testing.T) {
	dir, id, k := made(t)
	values := []string{"", "it's \"$HOME\" \\ `x`", "two\nlines", strings.Repeat("x", 10<<10), "ünï"}
	for i, v := range values {
		if err := k.Give("base", i+1, v); err != nil {
			t.Fatal(err)
		}
	}
	stranger, _ := age.GenerateX25519Identity()
	again, err := Open(dir, "quay", stranger, id)
	if err != nil {
		t.Fatal(err)
	}
	for i, v := range values {
		if got, ok := again.Given("base", i+1); !ok || got != v {
			t.Errorf("secret %d is %q, want %q", i+1, got, v)
		}
	}
	if _, ok := again.Given("base", 9); ok || string(again.Key()) != "key" || again.Authority() != authorityPEM || string(again.Root(2)) != "root" || again.Root(3) != nil {
		t.Errorf("content: %+v", again.content)
	}
	data, _ := os.ReadFile(filepath.Join(dir, File))
	if strings.Contains(string(data), authorityPEM) || !strings.HasPrefix(string(data), "# sealed for "+id.Recipient().String()+"\n") {
		t.Errorf("the file begins with %.200q, or holds the authority in the clear", data)
	}
	if info, _ := os.Stat(filepath.Join(dir, File)); info.Mode().Perm() != 0o600 {
		t.Errorf("its mode: %v", info.Mode())
	}
	if _, err := Make(dir, id, Content{}); err == nil {
		t.Error("a keyring was made over another")
	}
}

func TestWhatDoesNotOpenAKeyringIsSaid(t *testing.T) {
	dir, id, k := made(t)
	stranger, _ := age.GenerateX25519Identity()
	says := func(what, want string, ids ...*age.X25519Identity) {
		t.Helper()
		_, err := Open(dir, "quay", ids...)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	says("nothing at hand", "it is for the key of its owner "+id.Recipient().String()+", which is not at hand")
	says("another's key", "which is not among those at hand", stranger)
	if err := k.SealWith("low tide at noon"); err != nil {
		t.Fatal(err)
	}
	says("the owner's key after sealing with a passphrase", "its passphrase has not been said", id)
	if _, err := WithPassphrase(dir, "high tide"); !errors.Is(err, ErrPassphrase) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	if _, err := WithPassphrase(dir, ""); !errors.Is(err, ErrPassphrase) {
		t.Errorf("an empty passphrase: %v", err)
	}
	with, err := WithPassphrase(dir, "low tide at noon")
	if err != nil {
		t.Fatal(err)
	}
	opened, err := Open(dir, "quay", with)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir, "pier", with); err == nil || !strings.Contains(err.Error(), "is the keyring of quay, not of pier") {
		t.Errorf("another field's keyring: %v", err)
	}
	if err := opened.SealFor(stranger); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir, "quay", stranger); err != nil {
		t.Error(err)
	}
	says("the passphrase after sealing for a key", "which is not among those at hand", with)
	name := filepath.Join(dir, File)
	data, _ := os.ReadFile(name)
	data[len(data)-60] ^= 1 // in what is sealed, and not in who may open it
	_ = os.WriteFile(name, data, 0o600)
	says("a changed file", "is damaged", stranger)
	_ = os.Remove(name)
	if _, err := Open(dir, "quay", id); !errors.Is(err, ErrNone) {
		t.Errorf("no file: %v", err)
	}
}

// TestSealingThatDiesHalfWay leaves what was written before the keyring: the key from before opens it.
func TestSealingThatDiesHalfWay(t *testing.T) {
	dir, id, k := made(t)
	before, _ := os.ReadFile(filepath.Join(dir, File))
	if err := k.SealWith("low tide at noon"); err != nil {
		t.Fatal(err)
	}
	_ = os.WriteFile(filepath.Join(dir, File), before, 0o600)
	if _, err := Open(dir, "quay", id); err != nil {
		t.Errorf("neither the old nor the new way opens it: %v", err)
	}
}

func TestTwoWhoMakeTheOwnersKeyGetTheSame(t *testing.T) {
	name := filepath.Join(t.TempDir(), "owner.key")
	var all sync.WaitGroup
	keys := make([]string, 8)
	for i := range keys {
		all.Go(func() {
			if ids, err := Owner(name); err == nil && len(ids) > 0 {
				keys[i] = ids[0].String()
			} else if id, err := MakeOwner(name); err != nil {
				t.Error(err)
			} else {
				keys[i] = id.String()
			}
		})
	}
	all.Wait()
	for _, k := range keys {
		if k != keys[0] {
			t.Error("two owner's keys were made")
		}
	}
}

package secureshell

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"lanternfield/internal/core/field"
)

// TestAKeyIsBroughtOnceByAPassword has a host that takes a password, and the keys of its user's file.
func TestAKeyIsBroughtOnceByAPassword(t *testing.T) {
	c := newClient(t)
	s := newServer(t, nil)
	file := filepath.Join(c.home, ".ssh", "authorized_keys") // client and host share a home here
	s.config.PublicKeyCallback = func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		data, _ := os.ReadFile(file)
		if !strings.Contains(string(data), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))) {
			return nil, os.ErrPermission
		}
		return nil, nil
	}
	s.config.PasswordCallback = func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if string(password) != "low tide" {
			return nil, os.ErrPermission
		}
		return nil, nil
	}
	target := believed(t, c, s, field.Ground{})
	if f := fault(t, target); f == nil || f.Kind != Login {
		t.Fatalf("without its key: %v", f)
	}
	var f *Fault
	if _, err := BringKey(context.Background(), target, "high tide"); !errors.As(err, &f) || f.Kind != Login || !strings.Contains(f.Why, "does not take this password of harbour") {
		t.Errorf("a wrong password: %v", err)
	}
	if err := os.WriteFile(file, []byte("ssh-ed25519 AAAA somebody else, without an end of line"), 0o600); err != nil {
		t.Fatal(err)
	}
	for try := range 2 {
		if added, err := BringKey(context.Background(), target, "low tide"); err != nil || (added != "") != (try == 0) {
			t.Fatal(added, err)
		}
	}
	data, err := os.ReadFile(file)
	if lines := strings.Split(strings.TrimSpace(string(data)), "\n"); err != nil || len(lines) != 2 || !strings.HasPrefix(lines[0], "ssh-ed25519 AAAA somebody") {
		t.Errorf("the file of keys is %q, %v", data, err)
	}
	if f := fault(t, target); f != nil {
		t.Errorf("with its key: %v", f)
	}
	conn, err := Dial(context.Background(), target, false)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	public, err := target.Public()
	if err == nil {
		err = conn.TakeKeyBack(context.Background(), public)
	}
	if data, _ := os.ReadFile(file); err != nil || strings.TrimSpace(string(data)) != "ssh-ed25519 AAAA somebody else, without an end of line" {
		t.Errorf("after it was taken back: %q, %v", data, err)
	}
	if target.Password != "" {
		t.Error("the password is kept")
	}
}

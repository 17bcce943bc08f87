package e2e

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/keyring"
)

// TestAFieldIsRestoredFromABackup has whoever keeps a field back it up, loses the state folder, and goes on from the newest backup: as it was, and, where
// more has happened since, by name.
func TestAFieldIsRestoredFromABackup(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "lf-backups-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	to := filepath.Join(dir, "of", "quay")
	x := newTrial(t, strings.Replace(secretive, "sealed-quay", "lost-quay", 1)+"backup: {to: "+to+", every: 1s, keep: 2}\n")
	own := filepath.Join(x.state, "lost-quay", "own")
	if out, code := x.try(20*time.Second, "backup", x.file); code != 2 || !strings.Contains(out, "is not deployed, so there is nothing to back up") {
		t.Errorf("before it is deployed: %d %s", code, out)
	}
	x.must("deploy", x.file, "--yes")
	key := x.keyring().Key()
	serving, stop := context.WithCancel(context.Background())
	serve := x.command(serving, "serve", x.file)
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	list := func() []string {
		names, _ := filepath.Glob(filepath.Join(to, "lost-quay-*.backup.age"))
		return names
	}
	var all []string
	x.until("there are two backups, and older ones are gone", 60*time.Second, func() bool {
		for _, name := range list() {
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
		}
		return len(all) >= 3 && len(list()) == 2
	})
	// A folder that cannot be written to is said, and again when it can.
	if err := os.Rename(to, to+".away"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(to, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	x.until("it is said that it is not backed up", 30*time.Second, func() bool {
		return strings.Contains(x.must("status", x.file), "problem: the field is not backed up: ")
	})
	stop()
	_ = serve.Wait()
	x.alone()
	out := x.must("backup", x.file, "-o", filepath.Join(dir, "by-hand"))
	if !strings.Contains(out, "It was opened again, and all of it is as it should be.") {
		t.Errorf("by hand: %s", out)
	}
	data, err := os.ReadFile(filepath.Join(dir, "by-hand"))
	if err != nil || bytes.Contains(data, key) || bytes.Contains(data, []byte("crews")) {
		t.Errorf("a backup that is not sealed: %v", err)
	}

	// Lost, and restored as it was.
	before := x.status()
	if err := os.RemoveAll(own); err != nil {
		t.Fatal(err)
	}
	if out := x.must("restore", filepath.Join(dir, "by-hand")); !strings.Contains(out, "It had 2 members on 2 nodes") {
		t.Errorf("restore: %s", out)
	}
	if now := x.status(); now.State != "converged" || now.Members[0].PID != before.Members[0].PID {
		t.Errorf("after that: %s", now.Verdict)
	}
	x.must("restart", x.file, "crews-1", "--yes")
	last := x.status()
	if out, code := x.try(20*time.Second, "restore", filepath.Join(dir, "by-hand")); code != 2 || !strings.Contains(out, "there is something of lost-quay already") {
		t.Errorf("over what is there: %d %s", code, out)
	}
	x.unkept()

	// Lost again, with more that has happened since: nothing is done before somebody says so by name.
	if err := os.RemoveAll(own); err != nil {
		t.Fatal(err)
	}
	x.must("restore", filepath.Join(dir, "by-hand"))
	if out, code := x.try(30*time.Second, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, "the log of lost-quay lacks what its nodes were told: gull-1") {
		t.Errorf("acting on an older copy: %d %s", code, out)
	}
	x.unkept()
	if out, code := x.try(30*time.Second, "restart", x.file, "crews-2", "--yes"); code != 2 || !strings.Contains(out, "the log of lost-quay lacks what its nodes were told: gull-1") {
		t.Errorf("restarting with an older copy: %d %s", code, out)
	}
	x.must("deploy", x.file, "--yes", "--take-over", "lost-quay")
	switch now := x.status(); {
	case now.State != "converged" || !bytes.Equal(x.keyring().Key(), key):
		t.Errorf("taken over: %s", now.Verdict)
	case now.Members[0].PID != last.Members[0].PID:
		t.Error("crews-1 was restarted for no reason but that the log had lost an earlier restart")
	}

	// Lost once more, with no backup at hand: agents keep a copy of what it had come to.
	x.alone()
	held := x.status()
	if err := os.RemoveAll(own); err != nil {
		t.Fatal(err)
	}
	if out, code := x.try(20*time.Second, "restore", "--from-nodes", "lost-key"); code != 2 || !strings.Contains(out, "no node of lost-key in ") {
		t.Errorf("of another field: %d %s", code, out)
	}
	x.must("restore", "--from-nodes", "lost-quay")
	if now := x.status(); now.State != "converged" || now.Members[0].PID != held.Members[0].PID || !bytes.Equal(x.keyring().Key(), key) {
		t.Errorf("from the nodes: %s", now.Verdict)
	}
	x.must("restart", x.file, "crews-2", "--yes")
	x.unkept()

	// With a passphrase, on a machine that has nothing but the backup.
	said := filepath.Join(x.dir, "passphrase")
	if err := os.WriteFile(said, []byte("low tide at noon"), 0o600); err != nil {
		t.Fatal(err)
	}
	x.must("trust", "seal", x.file, "--passphrase-file", said)
	x.unkept()
	if out := x.must("backup", x.file, "-o", filepath.Join(dir, "sealed")); !strings.Contains(out, "It was not opened again to be checked: the keyring is sealed here") {
		t.Errorf("with a sealed keyring: %s", out)
	}
	there := filepath.Join(dir, "there")
	wrong := filepath.Join(x.dir, "wrong")
	if err := os.WriteFile(wrong, []byte("high tide at noon"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, code := x.try(20*time.Second, "restore", filepath.Join(dir, "sealed"), "--state", there, "--passphrase-file", wrong); code != 2 || !strings.Contains(out, keyring.ErrPassphrase.Error()) {
		t.Errorf("a wrong passphrase: %d %s", code, out)
	}
	x.must("restore", filepath.Join(dir, "sealed"), "--state", there, "--passphrase-file", said)
	for _, name := range []string{"events.db", keyring.File, keyring.PassphraseFile, "watch.pem"} {
		if info, err := os.Stat(filepath.Join(there, "lost-quay", "own", name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s was not put back: %v", name, err)
		}
	}
	x.must("trust", "unseal", x.file, "--passphrase-file", said)
	x.must("trust", "seal", x.file, "--owner-key", os.Getenv(keyring.OwnerVariable))
}

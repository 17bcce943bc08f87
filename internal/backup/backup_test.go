package backup

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
)

func written(t *testing.T, id *age.X25519Identity) []byte {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{"events.db": strings.Repeat("event ", 50000), "keyring.age": "sealed"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var out bytes.Buffer
	l := List{Head: Head{Field: "quay", Made: time.Unix(1_800_000_000, 0).UTC(), For: id.Recipient().String()}, Events: 9}
	if err := Write(&out, l, id.Recipient(), []File{{"events.db", filepath.Join(dir, "events.db")}, {"keyring.age", filepath.Join(dir, "keyring.age")}}); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func read(t *testing.T, data []byte, ids ...age.Identity) (string, *List, error) {
	t.Helper()
	dir := t.TempDir()
	h, rest, err := ReadHead(bytes.NewReader(data))
	if err != nil {
		return dir, nil, err
	}
	l, err := Extract(rest, h, dir, ids...)
	return dir, l, err
}

func TestABackupHoldsWhatWasPutIn(t *testing.T) {
	id, _ := age.GenerateX25519Identity()
	data := written(t, id)
	if bytes.Contains(data, []byte("event event")) || !bytes.HasPrefix(data, []byte("lanternfield backup 1\n{\"field\":\"quay\"")) {
		t.Error("it is not sealed, or its head is not in the clear")
	}
	dir, l, err := read(t, data, id)
	if err != nil || l.Events != 9 || len(l.Files) != 2 {
		t.Fatalf("%+v %v", l, err)
	}
	if text, _ := os.ReadFile(filepath.Join(dir, "events.db")); string(text) != strings.Repeat("event ", 50000) {
		t.Error("the log is another")
	}
	if info, _ := os.Stat(filepath.Join(dir, "keyring.age")); info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v", info.Mode())
	}
}

func TestABackupThatIsNotWholeIsRefused(t *testing.T) {
	id, _ := age.GenerateX25519Identity()
	stranger, _ := age.GenerateX25519Identity()
	data := written(t, id)
	if _, _, err := read(t, data, stranger); err == nil || !strings.Contains(err.Error(), "it is sealed for "+id.Recipient().String()) {
		t.Errorf("another's key: %v", err)
	}
	if _, _, err := read(t, []byte("PK\x03\x04 something else"), id); !errors.Is(err, ErrNone) {
		t.Errorf("no backup: %v", err)
	}
	if _, _, err := read(t, bytes.Replace(data, []byte("backup 1"), []byte("backup 2"), 1), id); err == nil || !strings.Contains(err.Error(), "newer release") {
		t.Errorf("a newer one: %v", err)
	}
	if _, _, err := read(t, bytes.Replace(data, []byte(`"quay"`), []byte(`"pier"`), 1), id); err == nil || !strings.Contains(err.Error(), "its head says that it is of pier, and what is sealed in it is of quay") {
		t.Errorf("another head: %v", err)
	}
	body := bytes.Index(data, []byte("age-encryption"))
	for cut := body + 1; cut < len(data); cut += 1 + (len(data)-body)/37 { // anywhere
		if _, _, err := read(t, data[:cut], id); err == nil {
			t.Errorf("cut short at %d of %d, and taken for whole", cut, len(data))
		}
		changed := bytes.Clone(data)
		changed[cut] ^= 0x20
		if _, _, err := read(t, changed, id); err == nil {
			t.Errorf("changed at %d of %d, and taken for what it was", cut, len(data))
		}
	}
}

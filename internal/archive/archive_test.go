package archive

import (
	"archive/zip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// packed writes an archive of two files, and gives its name.
func packed(t *testing.T, m Manifest) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{"events.db": "events", "lines/crews-1.ndjson": "{}\n"} {
		at := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	out := filepath.Join(t.TempDir(), "saltmarsh"+Ending)
	if err := Write(out, m, dir); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestAnArchiveIsReadAsItWasWritten(t *testing.T) {
	m := Manifest{Field: "saltmarsh", From: time.Unix(1000, 0).UTC(), To: time.Unix(2000, 0).UTC(), Made: time.Unix(2001, 0).UTC(), Events: 7}
	name := packed(t, m)
	dir := t.TempDir()
	got, err := Extract(name, dir)
	if err != nil {
		t.Fatal(err)
	}
	if got.Field != m.Field || !got.From.Equal(m.From) || got.Events != 7 || len(got.Files) != 2 || got.Version != Version {
		t.Errorf("the manifest is %+v", got)
	}
	if data, err := os.ReadFile(filepath.Join(dir, "lines", "crews-1.ndjson")); err != nil || string(data) != "{}\n" {
		t.Errorf("%q, %v", data, err)
	}
	if err := Write(name, m, dir); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("what is there already is written over: %v", err)
	}
	if left, _ := filepath.Glob(name + ".new"); len(left) > 0 || !Is(name) || Is("x.zip") {
		t.Errorf("%q is left", left)
	}
}

// TestAnArchiveThatIsNotAsItWasMadeIsRefused cuts one, changes it, and makes some that would write elsewhere.
func TestAnArchiveThatIsNotAsItWasMadeIsRefused(t *testing.T) {
	whole, err := os.ReadFile(packed(t, Manifest{Field: "saltmarsh"}))
	if err != nil {
		t.Fatal(err)
	}
	made := func(files ...string) []byte { // names and contents in turn
		name := filepath.Join(t.TempDir(), "x")
		f, err := os.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		z := zip.NewWriter(f)
		for i := 0; i < len(files); i += 2 {
			if err := put(z, files[i], time.Time{}, strings.NewReader(files[i+1])); err != nil {
				t.Fatal(err)
			}
		}
		if err := z.Close(); err != nil {
			t.Fatal(err)
		}
		f.Close()
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		return data
	}
	for says, data := range map[string][]byte{
		"is no archive, or its end is missing": whole[:len(whole)-40],
		"is no archive":                        []byte("hello"),
		"it has no manifest":                   made("a", "b"),
		"its manifest cannot be read":          made(manifestName, "{"),
		"a newer release has made it":          made(manifestName, `{"version": 99, "field": "saltmarsh"}`),
		`its field is called "../x"`:           made(manifestName, `{"version": 1, "field": "../x"}`),
		"which its manifest does not name":     made(manifestName, `{"version": 1, "field": "saltmarsh"}`, "a", "b"),
		`holds "../../a"`:                      made(manifestName, `{"version": 1, "field": "saltmarsh", "files": {"../../a": "x"}}`, "../../a", "b"),
		"its checksum is another":              made(manifestName, `{"version": 1, "field": "saltmarsh", "files": {"a": "x"}}`, "a", "b"),
		"lacks a, which its manifest names":    made(manifestName, `{"version": 1, "field": "saltmarsh", "files": {"a": "x"}}`),
	} {
		name := filepath.Join(t.TempDir(), "x"+Ending)
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Extract(name, t.TempDir()); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("it says %v, and not %q", err, says)
		}
	}
}

package cli

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

// What a member's archive holds is not believed: nothing is written outside of where it was to go, and no links are made.
func TestAnArchiveWritesNowhereElse(t *testing.T) {
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for _, h := range []tar.Header{
		{Name: "logs/", Typeflag: tar.TypeDir, Mode: 0o755},
		{Name: "logs/a", Typeflag: tar.TypeReg, Mode: 0o4644, Size: 3},
		{Name: "logs/out", Typeflag: tar.TypeSymlink, Linkname: "/etc"},
		{Name: "../../escaped", Typeflag: tar.TypeReg, Mode: 0o644, Size: 3},
		{Name: "/escaped-too", Typeflag: tar.TypeReg, Mode: 0o644, Size: 3},
	} {
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			_, _ = w.Write([]byte("abc"))
		}
	}
	w.Close()
	dir := t.TempDir()
	into := filepath.Join(dir, "into")
	if err := os.Mkdir(into, 0o755); err != nil {
		t.Fatal(err)
	}
	if _, _, err := unpack(bytes.NewReader(archive.Bytes()), into); err != nil {
		t.Fatal(err)
	}
	var found []string
	_ = filepath.WalkDir(dir, func(name string, d os.DirEntry, _ error) error {
		if !d.IsDir() {
			below, _ := filepath.Rel(into, name)
			found = append(found, below)
		}
		return nil
	})
	if got := strings.Join(found, " "); got != "escaped escaped-too logs/a" {
		t.Errorf("there is %s", got)
	}
	if info, _ := os.Stat(filepath.Join(into, "logs/a")); info.Mode() != 0o644 {
		t.Errorf("its mode is %v", info.Mode())
	}
	if err := os.Symlink(dir, filepath.Join(into, "escaped.d")); err != nil {
		t.Fatal(err)
	}
	var through bytes.Buffer
	w = tar.NewWriter(&through)
	_ = w.WriteHeader(&tar.Header{Name: "escaped.d/x", Typeflag: tar.TypeReg, Mode: 0o644, Size: 1})
	_, _ = w.Write([]byte("x"))
	w.Close()
	if _, _, err := unpack(&through, into); err == nil {
		t.Error("it went through a link that leads outside")
	}
}

// A folder that is packed and unpacked is the same; under another name where that does not exist yet.
func TestPackedAndUnpackedIsTheSame(t *testing.T) {
	from, to := filepath.Join(t.TempDir(), "books"), t.TempDir()
	if err := os.MkdirAll(filepath.Join(from, "old"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{"log": "fair wind", "old/log": strings.Repeat("fog ", 100_000), "empty": ""} {
		if err := os.WriteFile(filepath.Join(from, name), []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	var archive bytes.Buffer
	files, size, err := pack(&archive, from)
	if err != nil || files != 3 || size != 400_009 {
		t.Fatalf("%d files, %d bytes, %v", files, size, err)
	}
	if _, _, err := unpack(&archive, filepath.Join(to, "shelf")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"log", "old/log", "empty"} {
		was, _ := os.ReadFile(filepath.Join(from, name))
		is, err := os.ReadFile(filepath.Join(to, "shelf", name))
		if err != nil || !bytes.Equal(was, is) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// Lines of several members come whole, each with its name, whatever parts they come in.
func TestLinesComeWholeWithAName(t *testing.T) {
	var out bytes.Buffer
	var lock sync.Mutex
	a, b := &named{to: &out, name: "a-1  ", lock: &lock}, &named{to: &out, name: "b-1  ", lock: &lock}
	for _, s := range []struct {
		to   *named
		text string
	}{{a, "one\ntw"}, {b, "ONE\n"}, {a, "o\n\nthr\x1b[2Jee"}} {
		_, _ = s.to.Write([]byte(s.text))
	}
	a.finish()
	b.finish()
	if got := out.String(); got != "a-1  one\nb-1  ONE\na-1  two\na-1  \na-1  thr\\x1b[2Jee\n" && strings.ContainsRune(got, 0x1b) {
		t.Errorf("%q", got)
	}
	out.Reset()
	_, _ = a.Write(bytes.Repeat([]byte("x"), 3*mostLine/2))
	if n := strings.Count(out.String(), "\n"); n != 1 {
		t.Errorf("a line without an end is printed in %d parts", n)
	}
}

package fieldfile

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestVariablesDoNotMultiply has eleven variables, each made of twenty of the one before: 100 bytes become two quadrillion.
func TestVariablesDoNotMultiply(t *testing.T) {
	text := "format: 1\nfield: many\nabout: ${v10}\nvariables:\n  v0: " + strings.Repeat("x", 100) + "\n"
	for i := 1; i <= 10; i++ {
		text += fmt.Sprintf("  v%d: \"%s\"\n", i, strings.Repeat(fmt.Sprintf("${v%d}", i-1), 20))
	}
	text += "nodes: [{name: gull-1}]\nroles: {crews: {program: {command: [sleep, \"1\"]}}}\n"
	begin := time.Now()
	_, err := Parse("many.field.yaml", []byte(text), nil)
	if err == nil || !strings.Contains(err.Error(), "with its variables put in, this has more than 64 KiB") || !strings.Contains(err.Error(), "many.field.yaml:8:") {
		t.Errorf("got %v", err)
	}
	if n := strings.Count(err.Error(), "multiply"); n != 1 {
		t.Errorf("it is said %d times", n)
	}
	t.Logf("refused after %s", time.Since(begin))
	usual := strings.ReplaceAll(text, strings.Repeat("${v2}", 20), "${v2} and ${v2}")
	for i := 3; i < 10; i++ {
		usual = strings.ReplaceAll(usual, strings.Repeat(fmt.Sprintf("${v%d}", i), 20), fmt.Sprintf("${v%d}", i))
	}
	usual = strings.ReplaceAll(usual, strings.Repeat("${v1}", 20), "${v1}")
	if f, err := Parse("many.field.yaml", []byte(usual), nil); err != nil || len(f.Field.About) != 2*20*100+5 {
		t.Errorf("what is usual: %v", err)
	}
}

// TestOnlyFilesOfAFieldsSizeAreRead gives a name of a field file to what is none.
func TestOnlyFilesOfAFieldsSizeAreRead(t *testing.T) {
	dir := t.TempDir()
	sparse, pipe := filepath.Join(dir, "sparse.field.yaml"), filepath.Join(dir, "pipe.field.yaml")
	if err := os.WriteFile(sparse, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(sparse, 200<<30); err != nil {
		t.Skipf("no sparse file can be had here: %v", err)
	}
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{sparse: "the file has 209715200 KiB; a field file may have 1024 KiB at most", pipe: "is not a regular file", dir: "is a folder"} {
		if _, err := Load(name, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v", name, err)
		}
		if _, err := NameIn(name, ""); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("the name in %s: got %v", name, err)
		}
	}
}

// TestSavingThroughALinkKeepsTheLink saves a file whose name is a link into another folder.
func TestSavingThroughALinkKeepsTheLink(t *testing.T) {
	dir := t.TempDir()
	real, link := filepath.Join(dir, "real", "quay.field.yaml"), filepath.Join(dir, "quay.field.yaml")
	text := "format: 1\nfield: quay\nnodes: [{name: gull-1}]\nroles: {crews: {program: {command: [sleep, \"1\"]}}}\n"
	if err := os.Mkdir(filepath.Dir(real), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(real, []byte(text), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("real/quay.field.yaml", link); err != nil {
		t.Fatal(err)
	}
	f, err := Load(link, "")
	if err == nil {
		err = f.Save([]byte(text + "# more\n"))
	}
	if err != nil {
		t.Fatal(err)
	}
	if to, err := os.Readlink(link); err != nil || to != "real/quay.field.yaml" {
		t.Errorf("the link leads to %q, %v", to, err)
	}
	data, _ := os.ReadFile(real)
	info, err := os.Stat(real)
	if string(data) != text+"# more\n" || err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("%s holds %q, %v", real, data, info.Mode())
	}
}

// TestTheNameIsFoundAsItIsWritten finds the name in plain text, quoted, made of a variable, and in a file that is broken further down.
func TestTheNameIsFoundAsItIsWritten(t *testing.T) {
	rest := "nodes:\n  - {name: gull-1}\nroles:\n  crews: {members: 1, program: {command: [sleep, '1']}}\n"
	for file, want := range map[string]string{
		"format: 1\nfield: saltmarsh # ours\n" + rest:                                                         "saltmarsh",
		"format: 1\r\nfield: saltmarsh\r\n" + strings.ReplaceAll(rest, "\n", "\r\n"):                          "saltmarsh",
		"format: 1\nfield: 'saltmarsh'\n" + rest:                                                              "saltmarsh",
		"format: 1\nfield: saltmarsh\nroles: [\n":                                                             "saltmarsh",
		"format: 1\nvariables: {where: {default: quay}}\nfield: salt-${where}\n" + rest:                       "salt-quay",
		"format: 1\nabout: |\n  field: other\nfield: saltmarsh\n" + rest:                                      "saltmarsh",
		"format: 1\nfield: \"saltmarsh\"\nabout: >\n  two lines,\n  field: other\nnetworks: [front]\n" + rest: "saltmarsh",
	} {
		name := filepath.Join(t.TempDir(), "it.field.yaml")
		if err := os.WriteFile(name, []byte(file), 0o644); err != nil {
			t.Fatal(err)
		}
		if got, err := NameIn(name, ""); got != want {
			t.Errorf("found %q, want %q (%v) in\n%s", got, want, err, file)
		}
	}
}

package e2e

import (
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// TestTheKitOfTheDocuments follows docs/kits.md: its files are written as they stand there, checked, deployed, and the programs are asked.
func TestTheKitOfTheDocuments(t *testing.T) {
	data, err := os.ReadFile("../docs/kits.md")
	if err != nil {
		t.Fatal(err)
	}
	files := regexp.MustCompile("(?s)\n`([a-z/.-]+)`:\n\n```[a-z]*\n(.*?)```").FindAllStringSubmatch(string(data), -1)
	if len(files) != 3 {
		t.Fatalf("docs/kits.md shows %d files", len(files))
	}
	x := newTrial(t, "format: 1\nfield: quay\nnodes: [{name: gull-1}]\nroles: {it: {program: {command: [sleep, '60']}}}\n")
	for _, f := range files {
		name := filepath.Join(x.dir, f[1])
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(f[2]), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	x.file = filepath.Join(x.dir, "quay.field.yaml")
	if out := x.must("kit", "check", filepath.Join(x.dir, "kits", "tides")); !strings.Contains(string(data), strings.TrimSpace(out)) {
		t.Errorf("docs/kits.md does not show what kit check says:\n%s", out)
	}
	if out := x.must("kit", "list", x.file); !strings.Contains(out, "tides") || !strings.Contains(out, "beside the field file") {
		t.Errorf("kit list:\n%s", out)
	}
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	for _, m := range x.status().Members {
		c, err := net.DialTimeout("tcp", net.JoinHostPort(m.Address, "6379"), time.Second)
		if err != nil {
			t.Fatal(err)
		}
		answer := make([]byte, 64)
		_ = c.SetDeadline(time.Now().Add(time.Second))
		_, _ = c.Write([]byte("CONFIG GET maxmemory\r\n"))
		n, err := c.Read(answer)
		if c.Close(); err != nil || !strings.Contains(string(answer[:n]), "33554432") {
			t.Errorf("%s has not what the field sets: %q, %v", m.Member, answer[:n], err)
		}
	}
	if err := os.RemoveAll(filepath.Join(x.dir, "kits")); err != nil { // what was deployed does not need it any more
		t.Fatal(err)
	}
	x.must("restart", x.file, "caches-1", "--yes")
	x.must("retire", x.file, "--yes", "--forget")
}

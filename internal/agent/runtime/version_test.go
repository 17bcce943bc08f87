package runtime

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// TestOneOfSeveralVersionsIsChosen has three versions of a program on a node, of which one is on the PATH.
func TestOneOfSeveralVersionsIsChosen(t *testing.T) {
	dir := t.TempDir()
	for _, version := range []string{"1.9", "1.10", "2.0"} {
		bin := filepath.Join(dir, version, "bin")
		if err := os.MkdirAll(bin, 0o755); err != nil {
			t.Fatal(err)
		}
		for name, script := range map[string]string{"tide-table": "echo tide-table " + version, "tide-ask": "tide-table --version"} {
			if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
				t.Fatal(err)
			}
		}
	}
	t.Setenv("PATH", filepath.Join(dir, "1.9", "bin")+":"+os.Getenv("PATH"))
	for _, test := range []struct{ want, least, runs, refused string }{
		{"", "", "1.9", ""}, // the one on the PATH, as anywhere
		{"1.9", "", "1.9", ""},
		{"1", "1.10", "1.10", ""}, // the newest that suits
		{"", "1.10", "2.0", ""},
		{"2.0", "", "2.0", ""},
		{"3", "", "", "tide-table here is version 1.9, and version 3 is wanted; there is also 2.0 in " + dir + "/2.0/bin, 1.10 in " + dir + "/1.10/bin"},
	} {
		r := &Processes{kept: map[field.MemberName]*processes{}}
		at := Place{Folder: t.TempDir(), Node: dir}
		at.Data = at.Folder
		p := r.Member("tides-1", at).(*processes)
		spec := &order.Spec{LookIn: []string{dir + "/*/bin"}, Version: test.want, Tells: &field.VersionOf{Exec: []string{"tide-table", "--version"}, Pattern: "tide-table ([0-9.]+)", Least: field.Text(test.least)}}
		err := r.Lacks(order.Lookup{Program: "tide-ask", LookIn: spec.LookIn, Version: spec.Version, Tells: spec.Tells})
		if got := fmt.Sprint(err); test.refused != "" && (err == nil || !strings.HasPrefix(got, test.refused)) || test.refused == "" && err != nil {
			t.Errorf("%s of at least %q: %s", test.want, test.least, got)
		}
		if test.refused != "" {
			continue
		}
		for _, name := range []string{"tide-table", "tide-ask"} { // also what it runs by itself
			var out bytes.Buffer
			if code, err := p.Exec(context.Background(), spec, []string{name}, &out); err != nil || code != 0 || out.String() != "tide-table "+test.runs+"\n" {
				t.Errorf("%s of at least %q: %s says %q, %v", test.want, test.least, name, out.String(), err)
			}
		}
	}
	host.ReapOrphans()
}

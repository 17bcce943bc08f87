package fit

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestLookUpFindsProgramsOnThePathThenInFolders(t *testing.T) {
	dir := t.TempDir()
	for _, version := range []string{"9.6", "14", "15"} {
		if err := os.MkdirAll(filepath.Join(dir, version, "bin"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, version, "bin", "tide-table"), []byte("#!/bin/sh\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if path, err := LookUp("sh", []string{dir}); err != nil || !filepath.IsAbs(path) {
		t.Errorf("sh: %s, %v", path, err)
	}
	if path, err := LookUp("tide-table", []string{dir + "/*/bin"}); err != nil || path != dir+"/15/bin/tide-table" {
		t.Errorf("tide-table: %s, %v", path, err)
	}
	if _, err := LookUp("tide-table", []string{"/nowhere"}); err == nil || !strings.HasSuffix(err.Error(), "nor in /nowhere; install it on this node, it is tried again") {
		t.Errorf("missing: %v", err)
	}
	if _, err := LookUp("/nowhere/tide-table", nil); err == nil || err.Error() != "there is no program /nowhere/tide-table on this node" {
		t.Errorf("missing by path: %v", err)
	}
}

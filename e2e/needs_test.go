package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestWhatAProgramNeeds says which version, limits and kernel settings a program needs: what is not so is refused with what mends it, what is so is
// given and read back from the member that runs.
func TestWhatAProgramNeeds(t *testing.T) {
	t.Parallel()
	x := newTrial(t, "")
	program := filepath.Join(x.dir, "bell")
	if err := os.WriteFile(program, []byte("#!/bin/sh\n[ \"$1\" = --version ] && { echo bell 2.11.3; exit; }\nexec sleep 600\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	const file = `format: 1
field: quay
nodes: [{name: gull-1}, {name: tern-1}]
roles:
  it:
    members: 1
    version: "2.11"
    program:
      command: [BELL]
      version: {exec: [BELL, --version], pattern: 'bell ([0-9.]+)', least: "2.9"}
      limits: {open_files: 777}
      kernel: {vm.max_map_count: 1}
`
	write := func(changes ...string) {
		x.write(strings.NewReplacer(append(changes, "BELL", program)...).Replace(file))
	}
	write()
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	x.until("its version is read back", 10*time.Second, func() bool { return x.status().member("it-1").Version == "2.11.3" })
	x.contains(x.must("run", x.file, "it-1", "--", "sh", "-c", "ulimit -n"), "777")
	x.contains(x.must("journal", x.file), "it-1 runs version 2.11.3")
	for says, change := range map[string][2]string{
		"here is version 2.11.3, and version 2.12 is wanted":              {`version: "2.11"`, `version: "2.12"`},
		"here is version 2.11.3, and 2.20 is the oldest that works":       {`least: "2.9"`, `least: "2.20"`},
		"has no version by the pattern `drum ([0-9.]+)`: \"bell 2.11.3\"": {"'bell (", "'drum ("},
		"it needs 1073741000 open files, and":                             {"open_files: 777", "open_files: 1073741000"},
		"for the setting vm.max_map_count of the kernel, which is":        {"vm.max_map_count: 1", "vm.max_map_count: 999999999"},
		"the setting vm.max_mop_count of the kernel, and there is none":   {"vm.max_map_count: 1", "vm.max_mop_count: 1"},
		"put the version in parentheses, as in  Version: ([0-9.]+)":       {"'bell ([0-9.]+)'", "'bell [0-9.]+'"},
		"this pattern cannot be used: missing closing )":                  {"'bell ([0-9.]+)'", "'bell ([0-9.]+'"},
	} {
		write(change[0], change[1])
		if out, code := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "20s"); code == 0 || !strings.Contains(out, says) {
			t.Errorf("%q is not said: %d\n%s", says, code, out)
		}
	}
	if m := x.status().member("it-1"); m.Phase != "ready" || m.Attempt != 0 {
		t.Errorf("what was refused has changed it: %+v", m)
	}
	// Where its node is new, it is found before that is made.
	x.must("retire", x.file, "--yes", "--forget")
	write("open_files: 777", "open_files: 1073741000")
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "20s"); code != 2 || !strings.Contains(out, "it-1 on gull-1: it needs 1073741000 open files") || !strings.Contains(out, "Nothing has been changed") {
		t.Errorf("on a new node: %d\n%s", code, out)
	}
}

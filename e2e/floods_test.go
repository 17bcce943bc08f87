package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"lanternfield/internal/core/plain"
)

// TestAFullDiskCanBeStoppedAndRetired fills the disk that the state is on.
func TestAFullDiskCanBeStoppedAndRetired(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a small file system takes root to mount")
	}
	x := newTrial(t, ferries)
	if err := os.Mkdir(x.state, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("lantern", x.state, "tmpfs", 0, "size=12m,mode=755"); err != nil {
		t.Skipf("no small file system here: %v", err)
	}
	defer func() { _ = syscall.Unmount(x.state, syscall.MNT_DETACH) }()
	x.must("deploy", x.file, "--yes")
	x.alone()
	fill := func() {
		f, err := os.Create(filepath.Join(x.state, "filler"))
		for size := 1 << 16; size > 0; size /= 2 {
			for err == nil {
				_, err = f.Write(make([]byte, size))
			}
			err = nil
		}
		f.Close()
	}
	fill()
	if out, code := x.try(time.Minute, "scale", x.file, "crews", "5", "--yes"); code != 2 || !strings.Contains(out, "the disk is full") {
		t.Errorf("scale on a full disk: exit status %d\n%s", code, out)
	}
	x.must("stop", x.file, "--yes")
	if n := x.witnesses(); n != 0 {
		t.Errorf("%d members run after they were stopped", n)
	}
	fill()
	if out := x.must("retire", x.file, "--yes"); !strings.Contains(out, "found none") || len(x.processes()) > 0 {
		t.Errorf("retire on a full disk:\n%s\n%v", out, x.processes())
	}
	x.cleaned = true
	if err := syscall.Unmount(x.state, syscall.MNT_DETACH); err != nil {
		t.Error(err)
	}
	os.RemoveAll(x.dir)
}

// TestAFloodIsBoundedWhileTheAgentIsAway has a program write as fast as it can after its agent was killed.
func TestAFloodIsBoundedWhileTheAgentIsAway(t *testing.T) {
	x := newTrial(t, `format: 1
field: flood
nodes: [{name: gull-1}]
roles:
  crews:
    members: 1
    program: {command: [sh, -c, 'while [ ! -e data/now ]; do sleep 0.1; done; exec yes "a line of a program that says too much"']}
`)
	x.must("deploy", x.file, "--yes")
	if err := syscall.Kill(x.agentOf("gull-1"), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(x.state, "flood/nodes/gull-1/members/crews-1/data/now"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	log := filepath.Join(x.state, "flood/nodes/gull-1/agent/logs/crews-1.log")
	most, cuts, last := int64(0), 0, int64(0)
	for begin := time.Now(); time.Since(begin) < 6*time.Second; time.Sleep(10 * time.Millisecond) {
		info, err := os.Stat(log)
		if err != nil {
			t.Fatal(err)
		}
		if most = max(most, info.Size()); info.Size() < last {
			cuts++
		}
		last = info.Size()
	}
	if cuts < 3 || most > 2<<30 {
		t.Errorf("the log was cut %d times and had up to %d MiB", cuts, most>>20)
	}
	t.Logf("the log was cut %d times and had up to %d MiB", cuts, most>>20)
}

// TestNothingThatWasWrittenByOthersActs has a file, a program and a probe say what acts on terminals, and gives every command that prints it.
func TestNothingThatWasWrittenByOthersActs(t *testing.T) {
	const evil = `\e]0;owned\a\e[2J\u202e\u2066\u009b31m\r`
	x := newTrial(t, strings.ReplaceAll(`format: 1
field: hostile
about: "EVIL"
zones: {north: {about: "EVIL"}}
nodes: [{name: gull-1, zone: north, out: false}]
variables: {word: "EVIL"}
roles:
  crews:
    about: "EVIL ${word}"
    members: 2
    spread: none
    votes: true
    program:
      command: [sh, -c, "printf '\\033[2Jboo\\342\\200\\256 level=error msg=\"a\\\\x1b[2Jb\"\\n'; sleep 600", "EVIL"]
      env: {WORD: "EVIL"}
      files: {it.conf: {template: "EVIL\n"}}
      ready: {exec: [sh, -c, "printf '\\033[2Jno\\342\\200\\256'; exit 1"], every: 100ms}
      leader: {exec: [sh, -c, "printf '\\033[2Jno\\342\\200\\256'"], is_me: 'output == "yes"'}
      roster: {exec: [sh, -c, "printf '[{\"id\": 1, \"name\": \"it\\342\\200\\256\\033[2J\"}]'"], each: body, id: item.id, name: item.name, voter: "true"}
accepted:
  - {finding: even number of voters, role: crews, reason: "EVIL"}
`, "EVIL", evil))
	acts := func(what, out string) {
		t.Helper()
		for i, r := range out {
			if r != '\n' && r != '\t' && plain.Acts(r) {
				t.Errorf("%s prints %U in …%q…", what, r, out[max(0, i-40):min(len(out), i+20)])
				return
			}
		}
	}
	if out, code := x.try(time.Minute, "check", x.file); code != 0 {
		t.Fatalf("the file is to be good:\n%s", out)
	}
	for _, args := range [][]string{{"check"}, {"check", "--json"}, {"review"}, {"files", "crews-1"}, {"files", "crews-1", "--json"}, {"deploy", "--yes", "--timeout", "3s"}, {"status"}, {"status", "--json"},
		{"journal"}, {"journal", "--json"}, {"files", "crews-1", "--against", "live"}, {"export", "dot"}, {"export", "tosca"}, {"export", "--help"}, {"stop", "--yes", "no\x1b[2Jname"}, {"retire", "--yes"}} {
		out, _ := x.try(time.Minute, append([]string{args[0], x.file}, args[1:]...)...)
		acts(strings.Join(args, " "), out)
		if slices.Contains(args, "--json") && !json.Valid([]byte(out)) {
			t.Errorf("%v is no JSON:\n%s", args, out)
		}
	}
	out, _ := x.try(time.Minute, "check", filepath.Join(x.dir, "no\x1b[2J\u202e.field.yaml"))
	acts("the name of a file", out)
}

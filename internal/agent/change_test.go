package agent

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"
)

// checked is a member with a config file that a check reads: it refuses what contains "bad", with its reason well before the
// end of what it prints.
func checked(content string, on field.OnChange) *order.Spec {
	s := sleeper("it")
	s.Command = []string{"sh", "-c", `cat it.conf > read; trap 'cat it.conf >> read' HUP; while :; do sleep 0.05; done`}
	s.Files = []order.File{{Path: "it.conf", Mode: 0o644, Content: content, OnChange: on}}
	s.Validate = []string{"sh", "-c", `grep -q bad it.conf || exit 0; echo "[NOTICE] reading it.conf"; echo "[ALERT] it.conf:1: unknown keyword bad"; ` +
		`echo "[ALERT] fatal errors found"; exit 3`}
	s.Reload = &field.Reload{Signal: "HUP"}
	return s
}

func fileText(t *testing.T, parts ...string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(parts...))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// eventually waits until something holds.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("still not so: %s", what)
}

// TestARefusedFileLeavesTheOldOneInForce covers files that are read again, and those for the next start or a restart: what the
// program's own check refuses is said whole, the file before stays, also over a crash and over the agent's end.
func TestARefusedFileLeavesTheOldOneInForce(t *testing.T) {
	for _, on := range []field.OnChange{field.OnReload, field.OnNextStart, field.OnRestart} {
		t.Run(string(on), func(t *testing.T) {
			dir := t.TempDir()
			c, end := started(t, dir)
			var heard uint64
			round := 0
			put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: checked("good 1\n", on)})
			first := until(t, c, &heard, order.Started)
			if first.Revision != 1 {
				t.Errorf("it was started with revision %d", first.Revision)
			}
			until(t, c, &heard, order.Ready)
			if on == field.OnRestart {
				round = 1
			}
			put(t, c, order.Order{Term: 1, Revision: 2, Round: round, Member: "it-1", Want: order.Run, Spec: checked("bad 2\n", on)})
			r := until(t, c, &heard, order.Reloaded)
			want := "the check of its files ended with exit code 3: [NOTICE] reading it.conf | [ALERT] it.conf:1: unknown keyword bad | [ALERT] fatal errors found"
			if r.Revision != 2 || r.Why != want {
				t.Errorf("got revision %d: %s", r.Revision, r.Why)
			}
			if got := fileText(t, dir, "members/it-1/it.conf"); got != "good 1\n" {
				t.Errorf("the file is %q", got)
			}
			if !host.Lives(first.PID, host.StartTime(first.PID)) {
				t.Fatal("it was stopped for what was refused")
			}
			_ = syscall.Kill(first.PID, syscall.SIGKILL)
			again := until(t, c, &heard, order.Started)
			if again.Revision != 1 {
				t.Errorf("after a crash it was started with revision %d", again.Revision)
			}
			until(t, c, &heard, order.Ready)
			end()
			c, _ = started(t, dir)
			until(t, c, &heard, order.Adopted)
			_ = syscall.Kill(again.PID, syscall.SIGKILL)
			if third := until(t, c, &heard, order.Started); third.Revision != 1 || fileText(t, dir, "members/it-1/it.conf") != "good 1\n" {
				t.Errorf("the next agent started it with revision %d", third.Revision)
			}
			// Mended, it is taken.
			put(t, c, order.Order{Term: 1, Revision: 3, Round: round, Member: "it-1", Want: order.Run, Spec: checked("good 3\n", on)})
			kind := map[field.OnChange]order.ReportKind{field.OnReload: order.Reloaded, field.OnNextStart: order.Checked, field.OnRestart: order.Checked}[on]
			if r := until(t, c, &heard, kind); r.Revision != 3 || r.Why != "" {
				t.Errorf("got %+v", r)
			}
			put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Gone})
			until(t, c, &heard, order.Removed)
		})
	}
}

// TestAChangeThatTakesEffectLaterIsNotSeenBefore looks at the file while the member runs, and at what it read when it was
// started again.
func TestAChangeThatTakesEffectLaterIsNotSeenBefore(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: checked("good 1\n", field.OnNextStart)})
	first := until(t, c, &heard, order.Started)
	until(t, c, &heard, order.Ready)
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: checked("good 2\n", field.OnNextStart)})
	until(t, c, &heard, order.Checked)
	if got := fileText(t, dir, "members/it-1/it.conf"); got != "good 1\n" {
		t.Errorf("before its next start the file is %q", got)
	}
	_ = syscall.Kill(first.PID, syscall.SIGKILL)
	if again := until(t, c, &heard, order.Started); again.Revision != 2 {
		t.Errorf("it was started with revision %d", again.Revision)
	}
	eventually(t, "it reads the new file", func() bool { return fileText(t, dir, "members/it-1/read") == "good 2\n" })
}

// TestTheNextAgentCarriesOutWhatWasTaken has the order on disk and the agent dead before it did anything about it.
func TestTheNextAgentCarriesOutWhatWasTaken(t *testing.T) {
	dir := t.TempDir()
	c, end := started(t, dir)
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: checked("good 1\n", field.OnReload)})
	until(t, c, &heard, order.Ready)
	end()
	taken := order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: checked("good 2\n", field.OnReload)}
	if err := sealedDisk(t, dir).keepOrder(taken); err != nil {
		t.Fatal(err)
	}
	c, _ = started(t, dir)
	until(t, c, &heard, order.Adopted)
	if r := until(t, c, &heard, order.Reloaded); r.Revision != 2 || r.Why != "" {
		t.Errorf("got %+v", r)
	}
	eventually(t, "it has read the new file", func() bool { return strings.HasSuffix(fileText(t, dir, "members/it-1/read"), "good 2\n") })
}

// TestWhatAnAgentLeftUncheckedIsCheckedByTheNext has the agent end after it wrote a changed file, and before its check: the next
// one finds the file as it was ordered, and checks it all the same.
func TestWhatAnAgentLeftUncheckedIsCheckedByTheNext(t *testing.T) {
	dir := t.TempDir()
	c, end := started(t, dir)
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: checked("good 1\n", field.OnReload)})
	until(t, c, &heard, order.Ready)
	end()
	spec := checked("bad 2\n", field.OnReload)
	spec.Files = append(spec.Files, order.File{Path: "more.conf", Mode: 0o644, Content: "more\n"})
	taken := order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: spec}
	if err := sealedDisk(t, dir).keepOrder(taken); err != nil {
		t.Fatal(err)
	}
	if _, err := sealedDisk(t, dir).writeFiles("it-1", self(t), spec.Files); err != nil {
		t.Fatal(err)
	}
	c, _ = started(t, dir)
	until(t, c, &heard, order.Adopted)
	if r := until(t, c, &heard, order.Reloaded); r.Revision != 2 || !strings.Contains(r.Why, "unknown keyword bad") {
		t.Errorf("got %+v", r)
	}
	if got := fileText(t, dir, "members/it-1/it.conf"); got != "good 1\n" {
		t.Errorf("the file in force is %q", got)
	}
	if _, err := os.Stat(filepath.Join(dir, "members/it-1/more.conf")); !os.IsNotExist(err) {
		t.Errorf("a file of the refused change is left: %v", err)
	}
}

// TestAChangedModeIsSet gives a file with a secret to its owner alone, with the content that it had.
func TestAChangedModeIsSet(t *testing.T) {
	dir := t.TempDir()
	for _, mode := range []uint32{0o644, 0o600} {
		l := layout{dir: dir}
		if _, err := l.writeFiles("it-1", self(t), []order.File{{Path: "it.conf", Mode: mode, Content: "x"}}); err != nil {
			t.Fatal(err)
		}
		if info, err := os.Stat(filepath.Join(dir, "members/it-1/it.conf")); err != nil || uint32(info.Mode().Perm()) != mode {
			t.Errorf("want mode %o: %v, %v", mode, info.Mode(), err)
		}
	}
}

// TestAProgramIsLookedForBeforeAnythingIsStopped orders a restart with a program that is not there.
func TestAProgramIsLookedForBeforeAnythingIsStopped(t *testing.T) {
	c, _ := started(t, t.TempDir())
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")})
	first := until(t, c, &heard, order.Started)
	until(t, c, &heard, order.Ready)
	next := sleeper("it")
	next.Command = []string{"no-such-program-3.5"}
	put(t, c, order.Order{Term: 1, Revision: 2, Round: 1, Member: "it-1", Want: order.Run, Spec: next})
	r := until(t, c, &heard, order.Reloaded)
	if !strings.HasPrefix(r.Why, `the program "no-such-program-3.5" is not installed`) || !host.Lives(first.PID, host.StartTime(first.PID)) {
		t.Errorf("got %+v", r)
	}
	missing, err := c.Lookups(context.Background(), []order.Lookup{{Member: "it-1", Program: "sleep"}, {Member: "it-2", Program: "no-such-program-3.5"},
		{Member: "it-3", Program: "sleep", User: "no-such-user"}})
	if err != nil || len(missing) != 2 || !strings.HasPrefix(missing[0], `it-2 on gull-1: the program "no-such-program-3.5"`) ||
		missing[1] != `it-3 on gull-1: the user "no-such-user" is not known on this node` {
		t.Errorf("missing %q %v", missing, err)
	}
}

// TestAFileThatIsWrittenOnceBelongsToTheProgram changes the file as the program would, and the template too.
func TestAFileThatIsWrittenOnceBelongsToTheProgram(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	var heard uint64
	spec := func(text string) *order.Spec {
		s := sleeper("it")
		s.Files = []order.File{{Path: "own.conf", Mode: 0o644, Content: text, Once: true}}
		return s
	}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: spec("first\n")})
	first := until(t, c, &heard, order.Started)
	name := filepath.Join(dir, "members/it-1/own.conf")
	if err := os.WriteFile(name, []byte("rewritten\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if e := order.Effect(spec("first\n"), spec("second\n")); e != field.OnNextStart || len(order.Differences(spec("first\n"), spec("second\n"))) != 1 {
		t.Errorf("a changed template of it leads to %s", e)
	}
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: spec("second\n")})
	_ = syscall.Kill(first.PID, syscall.SIGKILL)
	until(t, c, &heard, order.Started)
	if got := fileText(t, name); got != "rewritten\n" {
		t.Errorf("the file is %q", got)
	}
}

// TestASettingIsAppliedByACall has a changed file brought to the program by a command, and by one that fails.
func TestASettingIsAppliedByACall(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	var heard uint64
	spec := func(text, call string) *order.Spec {
		s := sleeper("it")
		s.Files = []order.File{{Path: "it.conf", Mode: 0o644, Content: text, OnChange: field.OnApply}}
		s.Apply = []field.Probe{{Call: field.Call{Exec: []string{"sh", "-c", call}}}}
		return s
	}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: spec("one\n", "cp it.conf applied")})
	first := until(t, c, &heard, order.Started)
	eventually(t, "it is called after its start", func() bool {
		data, _ := os.ReadFile(filepath.Join(dir, "members/it-1/applied"))
		return string(data) == "one\n"
	})
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: spec("two\n", "cp it.conf applied")})
	if r := until(t, c, &heard, order.Reloaded); r.Why != "" || r.Revision != 2 || fileText(t, dir, "members/it-1/applied") != "two\n" {
		t.Errorf("got %+v", r)
	}
	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-1", Want: order.Run, Spec: spec("three\n", "echo the tide is too low; exit 4")})
	if r := until(t, c, &heard, order.Reloaded); r.Why != "call 1 of apply failed: sh ended with exit code 4: the tide is too low" ||
		fileText(t, dir, "members/it-1/it.conf") != "two\n" || !host.Lives(first.PID, host.StartTime(first.PID)) {
		t.Errorf("got %+v, the file is %q", r, fileText(t, dir, "members/it-1/it.conf"))
	}
}

func TestTheEndOfAnOutputIsKept(t *testing.T) {
	long := strings.Repeat("noise\n", 50) + "the reason\n"
	for _, test := range []struct {
		output string
		want   string
		whole  bool
	}{
		{"", "it wrote nothing", true},
		{"one\n\n  two\n", "one | two", true},
		{long, "… noise | noise | the reason", false},
		{strings.Repeat("x", 900) + " the reason", "… " + strings.Repeat("x", 689) + " the reason", false},
	} {
		lines := 8
		if strings.HasPrefix(test.output, "noise") {
			lines = 3
		}
		if got, whole := lastWords(test.output, lines, 700); got != test.want || whole != test.whole {
			t.Errorf("got %q %v, want %q", got, whole, test.want)
		}
	}
}

// TestWhatACommandLeavesBehindGoesWithTheMember has a probe that starts a process of its own, as some programs' tools do.
func TestWhatACommandLeavesBehindGoesWithTheMember(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	var heard uint64
	s := sleeper("it")
	s.Ready = &field.Probe{Call: field.Call{Exec: []string{"sh", "-c", "test -e left || { setsid sleep 601 >/dev/null 2>&1 & echo $! > left; }"}}}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: s})
	until(t, c, &heard, order.Ready)
	pid, err := strconv.Atoi(strings.TrimSpace(fileText(t, dir, "members/it-1/left")))
	if err != nil || syscall.Kill(pid, 0) != nil {
		t.Fatalf("it left no process: %v", err)
	}
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Gone})
	until(t, c, &heard, order.Removed)
	if state, _ := host.Stat(pid); state != 0 && state != 'Z' {
		t.Errorf("process %d is left", pid)
	}
	if left := host.FindAll(dir); len(left) > 0 {
		t.Errorf("processes %v are left", left)
	}
}

// self is the account of this very process.
func self(t *testing.T) *fit.Account {
	t.Helper()
	who, err := fit.AccountOf("")
	if err != nil {
		t.Fatal(err)
	}
	return who
}

// TestWhatWasChangedByHandIsFound changes files, their modes, and what a program may write itself.
func TestWhatWasChangedByHandIsFound(t *testing.T) {
	l := layout{dir: t.TempDir()}
	files := []order.File{{Path: "it.conf", Mode: 0o644, Content: "x"}, {Path: "deep/key.pem", Mode: 0o600, Content: "k"}, {Path: "own.conf", Mode: 0o644, Content: "o", Once: true}}
	if _, err := l.writeFiles("it-1", self(t), files); err != nil {
		t.Fatal(err)
	}
	at := func(name string) string { return filepath.Join(l.dir, "members/it-1", name) }
	for _, step := range []struct {
		what string
		do   func() error
		want string
	}{
		{"nothing", func() error { return nil }, ""},
		{"the program's own", func() error { return os.WriteFile(at("own.conf"), []byte("other"), 0o644) }, ""},
		{"a mode", func() error { return os.Chmod(at("deep/key.pem"), 0o644) }, "deep/key.pem"},
		{"a content", func() error { return os.WriteFile(at("it.conf"), []byte("y"), 0o644) }, "it.conf deep/key.pem"},
		{"one is gone", func() error { return os.Remove(at("it.conf")) }, "it.conf deep/key.pem"},
		{"a link in its place", func() error { return os.Symlink("/etc/hostname", at("it.conf")) }, "it.conf deep/key.pem"},
	} {
		if err := step.do(); err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(l.altered("it-1", files), " "); got != step.want {
			t.Errorf("%s: altered are %q, and not %q", step.what, got, step.want)
		}
	}
	if got := l.altered("it-2", files); len(got) > 0 {
		t.Errorf("of a member that is not there, altered are %q", got)
	}
}

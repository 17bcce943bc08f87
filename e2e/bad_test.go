package e2e

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// one is a field of one member that runs the given program lines.
func one(program string) string {
	return "format: 1\nfield: trouble\nnodes: [{name: gull-1}]\nroles:\n  it:\n    members: 1\n    program:\n" + program
}

// steady replaces what differs from run to run, so that a message can be compared whole.
func (x *trial) steady(out string) string {
	out = strings.ReplaceAll(out, x.dir, "DIR")
	for _, r := range []struct{ pattern, with string }{
		{`127\.\d+\.\d+\.\d+`, "ADDRESS"}, {`process \d+`, "process N"}, {`in /[^ ;\n]*(:[^ ;\n]*)+`, "in PATH"},
		{`(?m)^ *[\d.]+ s  `, "T  "}, {`\d\d:\d\d:\d\d`, "TIME"},
	} {
		out = regexp.MustCompile(r.pattern).ReplaceAllString(out, r.with)
	}
	return out
}

const head = `Deploying trouble would change, in this order:
First, the nodes
    1 · start the agent of gull-1
Stage 1
    2 + place it-1 on gull-1 and start it
T  it-1           placing
`

const tried = "Its agent goes on trying. Mend it and deploy again, or retire the field.\n"

// TestProgramsThatFailGetTheWholeMessage compares what deploy says, whole.
func TestProgramsThatFailGetTheWholeMessage(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		name, program string
		args          []string
		code          int
		want          string
	}{
		{"not installed", "      command: [no-such-program]\n      restart: {after: 50ms}\n", nil, 2,
			strings.TrimSuffix(head, "T  it-1           placing\n") +
				"    ! it-1 on gull-1: the program \"no-such-program\" is not installed: it is not in PATH\n" +
				"nodes lack what the draft needs; see above. Nothing has been changed\n"},
		{"exits at once", "      command: [sh, -c, 'echo no tide table; echo \"\x1b[31mgiving up\" >&2; exit 3']\n      restart: {after: 50ms}\n", nil, 1, head +
			"it-1 on gull-1 failed 3 times: ended with exit code 3\n    | no tide table\n    | giving up\n" +
			"Its whole log is DIR/state/trouble/nodes/gull-1/agent/logs/it-1.log\n" + tried},
		{"never ready", "      command: [sleep, '60']\n      ports: {main: {port: 7100}}\n", []string{"--timeout", "3s"}, 1, head +
			"T  it-1           starting\n" +
			"trouble did not become converged within 3.0 s: 0 of 1 lit\n" +
			"  it-1 waits for its ready probe to succeed: connect to ADDRESS:7100: connection refused\n" +
			"What was ordered goes on: process N keeps the field. `lanternfield status --wait converged` follows it, `lanternfield pause` holds it.\n"},
	} {
		t.Run(test.name, func(t *testing.T) {
			x := newTrial(t, strings.ReplaceAll(one(test.program), "\x1b", `\e`))
			out, code := x.try(time.Minute, append([]string{"deploy", x.file, "--yes"}, test.args...)...)
			got := regexp.MustCompile(`T  it-1           planned, waits for gull-1 to be there\n`).ReplaceAllString(x.steady(out), "") // a few milliseconds
			if test.name == "exits at once" {                                                                                          // how often it was seen starting between the tries is the moment's choice
				got = regexp.MustCompile(`T  it-1           (starting|failed[^\n]*)\n`).ReplaceAllString(got, "")
			}
			if code != test.code || got != test.want {
				t.Errorf("exit status %d, want %d; got\n%s\nwant\n%s", code, test.code, got, test.want)
			}
		})
	}
}

func TestAddressInUseByAForeignProcess(t *testing.T) {
	x := newTrial(t, one("      command: [{{witness}}, '{{.Address}}:{{.Port \"main\"}}']\n      ports: {main: {port: 7100}}\n      restart: {after: 100ms}\n"))
	foreign, err := net.Listen("tcp", "0.0.0.0:7100")
	if err != nil {
		t.Fatal(err)
	}
	out, code := x.try(time.Minute, "deploy", x.file, "--yes")
	if code != 1 {
		t.Errorf("exit status %d", code)
	}
	x.contains(out, "it-1 on gull-1 failed 3 times: its port main (127.", fmt.Sprintf(":7100) is in use by process %d (e2e.test)", os.Getpid()),
		"end that program, or give the port another number")
	foreign.Close()
	x.must("deploy", x.file, "--yes")
}

func TestProgramThatIgnoresItsStopSignal(t *testing.T) {
	x := newTrial(t, one("      command: [{{witness}}, '{{.Address}}:{{.Port \"main\"}}', ignore-term]\n      ports: {main: {port: 7100}}\n      stop: {within: 300ms}\n"))
	x.must("deploy", x.file, "--yes")
	x.must("stop", x.file, "--yes")
	x.contains(x.must("journal", x.file), "it-1 has stopped; it ignored its stop signal and had to be killed")
	x.must("start", x.file, "--yes")
	x.must("retire", x.file, "--yes")
	x.contains(x.must("journal", x.file), "it-1 is removed; it ignored its stop signal and had to be killed")
}

func TestProgramThatPrints100MB(t *testing.T) {
	x := newTrial(t, one("      command: [sh, -c, 'head -c 100000000 /dev/zero | tr \"\\0\" x; exec sleep 600']\n"))
	x.must("deploy", x.file, "--yes")
	log := x.state + "/trouble/nodes/gull-1/agent/logs/it-1.log"
	x.until("the log is cut", 30*time.Second, func() bool {
		info, err := os.Stat(log)
		old, err2 := os.Stat(log + ".1")
		return err == nil && err2 == nil && info.Size() < 16<<20 && old.Size() <= 8<<20+1<<10
	})
	x.contains(x.must("lines", x.file, "it-1", "--level", "warning"), "this log was cut at 16 MiB: ")
	if s := x.status(); s.State != "converged" {
		t.Errorf("%s", s.Verdict)
	}
}

// asNobody has a command run as a user who may not do everything.
func asNobody(cmd *exec.Cmd) {
	if os.Geteuid() == 0 {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
}

func TestStateFolderWithoutWritePermission(t *testing.T) {
	x := newTrial(t, one("      command: [sleep, '60']\n"))
	if err := os.Mkdir(x.state, 0o555); err != nil {
		t.Fatal(err)
	}
	cmd := x.command(context.Background(), "deploy", x.file, "--yes")
	asNobody(cmd)
	out, err := cmd.CombinedOutput()
	want := "the state folder DIR/state/trouble cannot be used: no permission to write there; make it writable, or name another folder with --state\n"
	if got := strings.ReplaceAll(string(out), x.dir, "DIR"); err == nil || cmd.ProcessState.ExitCode() != 2 || got != want {
		t.Errorf("%v; got\n%s\nwant\n%s", err, got, want)
	}
}

func TestFullDiskLosesNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a small file system takes root to mount")
	}
	x := newTrial(t, one("      command: [{{witness}}, '{{.Address}}:{{.Port \"main\"}}']\n      ports: {main: {port: 7100}}\n"))
	if err := os.Mkdir(x.state, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("lantern", x.state, "tmpfs", 0, "size=512k"); err != nil {
		t.Skipf("no small file system here: %v", err)
	}
	t.Cleanup(func() {
		if err := errors.Join(syscall.Unmount(x.state, syscall.MNT_DETACH), os.RemoveAll(x.dir)); err != nil {
			t.Error(err)
		}
	})
	t.Cleanup(x.clean) // before the file system goes
	x.must("deploy", x.file, "--yes")
	before := x.status()
	filler := x.state + "/filler"
	fill(t, filler)
	out, code := x.try(time.Minute, "restart", x.file, "--yes")
	if code != 2 {
		t.Errorf("exit status %d", code)
	}
	x.contains(out, "the disk is full", "free some space there")
	if s := x.status(); s.State != "converged" || s.Members[0].PID != before.Members[0].PID {
		out, _ := x.try(time.Minute, "status", x.file)
		t.Errorf("with a full disk: %s\n%s", s.Verdict, out)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	x.must("restart", x.file, "--yes")
	if s := x.status(); s.State != "converged" || s.Members[0].PID == before.Members[0].PID {
		t.Errorf("with space again: %s", s.Verdict)
	}
}

// fill writes a file until nothing more fits.
func fill(t *testing.T, name string) {
	t.Helper()
	f, err := os.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, size := range []int{4096, 1} {
		for {
			if _, err := f.Write(make([]byte, size)); err != nil {
				break
			}
		}
	}
}

func TestSecondControllerIsToldWhoHoldsTheField(t *testing.T) {
	t.Parallel()
	x := newTrial(t, one("      command: [sleep, '600']\n      ports: {main: {port: 7100}}\n"))
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	holder := x.command(ctx, "deploy", x.file, "--yes") // never becomes ready, so it goes on holding
	if err := holder.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = holder.Process.Kill(); _ = holder.Wait() }()
	x.until("the first holds the field", 10*time.Second, func() bool { return x.status().member("it-1").Phase == "starting" })

	// One that answers is used: the second command acts through it.
	x.must("stop", x.file, "--yes", "--timeout", "20s")
	if phase := x.status().member("it-1").Phase; phase != "stopped" {
		t.Errorf("an order through the holder: %s", phase)
	}
	// One that does not answer is named.
	keeper := x.keeper()
	if err := syscall.Kill(keeper, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	out, code := x.try(time.Minute, "start", x.file, "--yes")
	_ = syscall.Kill(keeper, syscall.SIGCONT)
	want := fmt.Sprintf("trouble is held by process %d (lanternfield deploy, process %d) since TIME, which does not answer; end that process, or wait for it. "+
		"Its members go on running meanwhile\n", keeper, holder.Process.Pid)
	if got := regexp.MustCompile(`\d\d:\d\d:\d\d`).ReplaceAllString(out, "TIME"); code != 2 || got != want {
		t.Errorf("exit status %d; got\n%s\nwant\n%s", code, got, want)
	}
}

// TestWordsOnTheCommandLine tries what people type.
func TestWordsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	for _, test := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"deploi"}, 2, "there is no command \"deploi\"; `lanternfield --help` lists them, and a field file is named NAME.field.yaml\n"},
		{[]string{"check", "--jsn"}, 2, "unknown flag: --jsn; `lanternfield check --help` tells what it takes\n"},
		{[]string{"status", "--wait", "convergd"}, 2, "there is no state \"convergd\"; a field is draft, deploying, converging, converged, degraded, down, stopped, retired; did you mean \"converged\"?\n"},
		{[]string{"stop", "--yes"}, 2, "saltmarsh is not deployed, so there is nothing to stop\n"},
		{[]string{"retire", "--yes"}, 2, "saltmarsh is not deployed, so there is nothing to retire\n"},
		{[]string{"scale", "wardns", "3"}, 2, "it.field.yaml has no role \"wardns\"; did you mean \"wardens\"?\n"},
		{[]string{"scale", "crews"}, 2, "scale takes pairs of a role and a number, e.g. `lanternfield scale crews 6`\n"},
		{[]string{"scale", "crews", "-1"}, 2, "\"-1\" is not a number of members; write 0 or more\n"},
		{[]string{"scale", "crews", "many"}, 2, "\"many\" is not a number of members; write 0 or more\n"},
		{[]string{"open"}, 2, "the full-screen application needs a terminal; `lanternfield status` prints the field\n"},
		{[]string{"journal"}, 2, "nothing has happened yet: DIR/state/saltmarsh holds no journal\n"},
		{[]string{"journal", "june.lantern.zip"}, 2, "june.lantern.zip is an archive, which is looked at with `lanternfield open june.lantern.zip`: journal, lines and charts are in its views\n"},
		{[]string{"check", "a.field.yaml", "b.field.yaml"}, 2, "two field files are named, a.field.yaml and b.field.yaml; name one\n"},
		{[]string{"retire", "--field", "../../etc", "--yes", "--forget"}, 2, "\"../../etc\" cannot be a field's name; a name is made of lower-case letters, digits and hyphens, starts with a letter and has at most 63 characters\n"},
		{[]string{"retire", "--field", "unheard", "--yes", "--forget"}, 2, "unheard is not deployed, so there is nothing to retire\n"},
		{[]string{"check", "it"}, 2, "\"it\" has no meaning here; a field file is named NAME.field.yaml\n"},
	} {
		out, code := x.try(20*time.Second, test.args...)
		if got := strings.ReplaceAll(out, x.dir, "DIR"); code != test.code || got != test.want {
			t.Errorf("%v: exit status %d, want %d; got\n%s\nwant\n%s", test.args, code, test.code, got, test.want)
		}
	}
	out, code := x.try(20*time.Second, "deploy")
	if code != 2 || !strings.HasSuffix(out, "this changes the real field, and there is no terminal to ask on; nothing has been done. Say --yes to go ahead\n") {
		t.Errorf("deploy without --yes: %d\n%s", code, out)
	}
	if left := x.processes(); len(left) > 0 {
		t.Errorf("something was started: %v", left)
	}
	x.must("deploy", "--yes")
	out, code = x.try(20*time.Second, "restart", "wardens", "rleays-1", "--yes")
	if want := "there is no role, node or member \"rleays-1\"; did you mean \"relays-1\"?\n"; code != 2 || out != want {
		t.Errorf("restart of a typing error: %d\n%s", code, out)
	}
	out, code = x.try(20*time.Second, "scale", "wardens", "5", "--yes")
	x.contains(out, "wardens-4 to wardens-5, 2 members, fit nowhere: port taken")
	if code != 1 {
		t.Errorf("exit status %d", code)
	}
	if file := example(t, x.file); strings.Contains(file, "members: 5") {
		t.Error("a refused scale changed the file")
	}
}

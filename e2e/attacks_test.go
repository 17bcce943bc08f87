package e2e

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite"

	"lanternfield/internal/core/plain"
)

// nobodysRights gives the user that attacks are made as.
func nobodysRights(t *testing.T) *syscall.Credential {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can run something as somebody else")
	}
	u, err := user.Lookup("nobody")
	if err != nil {
		t.Skip(err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

const twoUsers = `format: 1
field: quiet
nodes:
  - {name: gull-1}
roles:
  crews:
    members: 1
    program:
      command: [sh, -c, 'echo hello; exec sleep 600']
      user: nobody
      env: {TOKEN: '{{.Secret "tokens"}}'}
      files:
        it.conf: {template: 'secret {{.Secret "files"}}', on_change: reload}
        data/own.conf: {template: "first", once: true}
      validate: {exec: [id, -u]}
      reload: {exec: [sh, -c, "id -un; id -Gn"]}
      ready: {exec: [sh, -c, 'test "$(id -un)" = nobody']}
  others:
    members: 1
    program:
      command: [sleep, "600"]
      files:
        open.conf: {template: "nothing secret"}
`

// TestOtherUsersReadNothingWhateverTheUmask deploys under a umask that forbids nothing, and one that forbids all.
func TestOtherUsersReadNothingWhateverTheUmask(t *testing.T) {
	who := nobodysRights(t)
	for _, umask := range []string{"000", "077"} {
		x := newTrial(t, twoUsers)
		cmd := exec.Command("sh", "-c", "umask "+umask+`; AWS_TOKEN=operators-own exec "$0" deploy "$1" --yes`, binary, x.file)
		cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+x.state)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("umask %s: %v\n%s", umask, err, out)
		}
		// A controller that stays, for its socket.
		holder := x.holding()
		err := filepath.WalkDir(x.state, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := d.Info()
			if err != nil {
				return nil // it has just been replaced
			}
			st := info.Sys().(*syscall.Stat_t)
			rel, _ := filepath.Rel(x.state, path)
			mode, wanted := info.Mode().Perm(), "a file for its owner only"
			way := map[string]bool{".": true, "quiet": true, "quiet/nodes": true, "quiet/nodes/gull-1": true, "quiet/nodes/gull-1/members": true}
			ok := mode&0o077 == 0
			switch {
			case way[rel]:
				wanted, ok = "a folder that may be passed and no more", mode&0o066 == 0 && mode&0o001 != 0
			case rel == "quiet/nodes/gull-1/members/crews-1":
				wanted, ok = "root's, to be read by its user's group", st.Uid == 0 && st.Gid == who.Gid && mode == 0o750
			case strings.HasPrefix(rel, "quiet/nodes/gull-1/members/crews-1/"):
				wanted, ok = "its user's", st.Uid == who.Uid
				if filepath.Base(rel) == "it.conf" {
					ok = ok && mode == 0o600
				}
			case strings.HasPrefix(rel, "quiet/nodes/gull-1/members/others-1/open.conf"):
				ok = true
			}
			if !ok {
				t.Errorf("umask %s: %s is %s of user %d; wanted %s", umask, rel, info.Mode(), st.Uid, wanted)
			}
			return nil
		})
		if err != nil {
			t.Error(err)
		}
		for _, name := range []string{"own/events.db", "own/secret", "own/authority.pem", "own/control.sock", "nodes/gull-1/agent/logs/crews-1.log", "nodes/gull-1/agent/keep/others-1/order.json"} {
			cat := exec.Command("cat", filepath.Join(x.state, "quiet", name))
			cat.SysProcAttr = &syscall.SysProcAttr{Credential: who}
			if out, err := cat.CombinedOutput(); err == nil || !bytes.Contains(out, []byte("ermission denied")) {
				t.Errorf("umask %s: another user reads %s: %s", umask, name, out)
			}
		}
		other := exec.Command(binary, "status", "--field", "quiet")
		other.Env = append(os.Environ(), "LANTERNFIELD_STATE="+x.state)
		other.SysProcAttr = &syscall.SysProcAttr{Credential: who}
		if out, err := other.CombinedOutput(); err == nil {
			t.Errorf("umask %s: another user sees the field:\n%s", umask, out)
		}
		for _, p := range x.processes() {
			env, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", p.pid))
			if bytes.Contains(env, []byte("operators-own")) && !strings.Contains(p.what, " deploy ") {
				t.Errorf("umask %s: the operator's own variables are in the environment of %s", umask, p.what)
			}
		}
		secret := secretOf(t, filepath.Join(x.state, "quiet/nodes/gull-1/members/crews-1/it.conf"))
		_ = filepath.WalkDir(filepath.Join(x.state, "quiet"), func(path string, d fs.DirEntry, _ error) error {
			if data, err := os.ReadFile(path); d.Type().IsRegular() && err == nil && bytes.Contains(data, secret) && filepath.Base(path) != "it.conf" {
				t.Errorf("umask %s: a secret is in %s", umask, path)
			}
			return nil
		})
		holder()
		x.clean()
	}
}

func secretOf(t *testing.T, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return bytes.TrimPrefix(data, []byte("secret "))
}

// holding has a controller hold the field until it is told to end.
func (x *trial) holding() (end func()) {
	x.Helper()
	cmd := exec.Command("script", "-qfc", binary+" open "+x.file, "/dev/null")
	cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+x.state, "TERM=xterm-256color")
	in, err := cmd.StdinPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		x.Fatal(err)
	}
	x.until("a screen holds the field", 10*time.Second, func() bool {
		_, err := os.Stat(filepath.Join(x.state, x.field(), "own", "control.sock"))
		return err == nil
	})
	return func() {
		_, _ = in.Write([]byte("q"))
		in.Close()
		_ = cmd.Wait()
	}
}

// TestAMemberThatWasBrokenIntoStaysItsUser does what somebody does who has become a member's user: puts links, pipes and other folders
// wherever that user may, and waits for whoever has more rights to come by.
func TestAMemberThatWasBrokenIntoStaysItsUser(t *testing.T) {
	who := nobodysRights(t)
	x := newTrial(t, twoUsers)
	x.must("deploy", x.file, "--yes")
	precious := filepath.Join(x.dir, "precious")
	if err := os.WriteFile(precious, []byte("root's own\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	home := filepath.Join(x.state, "quiet/nodes/gull-1/members/crews-1")
	attack := func(script string) string {
		cmd := exec.Command("sh", "-c", script)
		cmd.Dir = home
		cmd.Env = append(os.Environ(), "PRECIOUS="+precious)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	// The names by which its configuration and its output could be led elsewhere are not its own to give.
	for _, name := range []string{"output.log", "it.conf.new", ".it.conf.new", "it.conf", "data", "other"} {
		attack(fmt.Sprintf("ln -sfn $PRECIOUS %s; rm -rf %s; mkfifo %s; mv %s %s.away", name, name, name, name, name))
		if name != "it.conf" && name != "data" {
			if _, err := os.Lstat(filepath.Join(home, name)); err == nil {
				t.Errorf("its user could make %s", name)
			}
		}
	}
	if _, err := os.Lstat(filepath.Join(home, "it.conf")); err != nil {
		t.Errorf("its configuration is gone: %v", err)
	}
	// In its data it may do anything, and it leads nowhere.
	attack("rm -f data/own.conf; ln -s $PRECIOUS data/own.conf; ln -s / data/root; mkfifo data/pipe")
	x.edit("nothing secret", "nothing secret, changed")
	x.edit("secret {{", "another secret {{")
	x.must("deploy", x.file, "--yes")
	attack("rm -f data/own.conf; mkfifo data/own.conf; rm -f it.conf")
	x.must("restart", x.file, "crews", "--yes")
	for begin := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		if data, err := os.ReadFile(precious); err != nil || string(data) != "root's own\n" {
			t.Fatalf("a file of root was changed: %q, %v", data, err)
		}
		if time.Since(begin) > 500*time.Millisecond {
			break
		}
	}
	info, err := os.Stat(precious)
	if err != nil || info.Sys().(*syscall.Stat_t).Uid != 0 || info.Mode().Perm() != 0o600 {
		t.Errorf("root's file was given away: %v, %v", info, err)
	}
	if text := x.must("journal", x.file); strings.Contains(text, "root's own") {
		t.Errorf("what is in root's file is in the journal:\n%s", text)
	}
	if s := x.status(); s.State != "converged" {
		t.Errorf("in the end: %s, %s", s.State, s.Verdict)
	}
	if out := x.must("retire", x.file, "--yes"); !strings.Contains(out, "found none") {
		t.Errorf("retire:\n%s", out)
	}
	if _, err := os.Stat(precious); err != nil {
		t.Errorf("root's file is gone with the member: %v", err)
	}
}

// TestADaemonThatHidesDoesNotRunTwice crashes a program that has left its session, closed its descriptors and cleared its environment.
func TestADaemonThatHidesDoesNotRunTwice(t *testing.T) {
	x := newTrial(t, `format: 1
field: hidden
nodes: [{name: gull-1}]
roles:
  crews:
    members: 1
    program:
      command: [sh, -c, 'env -i setsid -f sh -c "exec sleep 7654.321" >/dev/null 2>&1 </dev/null 3>&- 4>&-; exec sleep 600']
      restart: {after: 20ms}
`)
	daemons := func() (pids []int) {
		lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, name := range lines {
			if data, _ := os.ReadFile(name); string(data) == "sleep\x007654.321\x00" {
				pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
				pids = append(pids, pid)
			}
		}
		return pids
	}
	t.Cleanup(func() {
		for _, pid := range daemons() {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	})
	x.must("deploy", x.file, "--yes")
	for _, death := range []string{"a crash", "a crash while the agent is away"} {
		before := x.status().member("crews-1")
		if n := len(daemons()); n != 1 {
			t.Fatalf("before %s: %d daemons", death, n)
		}
		if death != "a crash" {
			if err := syscall.Kill(x.agentOf("gull-1"), syscall.SIGKILL); err != nil {
				t.Fatal(err)
			}
		}
		if err := syscall.Kill(before.PID, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		x.until("it was started again after "+death, 20*time.Second, func() bool {
			if death != "a crash" {
				x.must("deploy", x.file, "--yes")
			}
			m := x.status().member("crews-1")
			return m.Phase == "ready" && m.PID != before.PID && len(daemons()) > 0
		})
		if n := len(daemons()); n != 1 {
			t.Errorf("after %s: %d daemons", death, n)
		}
	}
	if out := x.must("retire", x.file, "--yes"); !strings.Contains(out, "found none") || len(daemons()) > 0 {
		t.Errorf("after retire %d daemons live, and it says\n%s", len(daemons()), out)
	}
}

// TestAnOlderCopyOfTheLogIsNotObeyed puts copies of the log back that lack what was done since, and takes the log away.
func TestAnOlderCopyOfTheLogIsNotObeyed(t *testing.T) {
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	own := filepath.Join(x.state, "saltmarsh", "own")
	copied := t.TempDir()
	move := func(from, to string) {
		t.Helper()
		x.alone()
		names, _ := filepath.Glob(filepath.Join(to, "events.db*"))
		for _, name := range names {
			_ = os.Remove(name)
		}
		names, _ = filepath.Glob(filepath.Join(from, "events.db*"))
		for _, name := range names {
			data, err := os.ReadFile(name)
			if err == nil {
				err = os.WriteFile(filepath.Join(to, filepath.Base(name)), data, 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
	}
	move(own, copied)
	x.must("scale", x.file, "crews", "5", "--yes")
	before := len(x.processes())
	newest := t.TempDir()
	move(own, newest)
	refused := func(what string) {
		t.Helper()
		for _, args := range [][]string{{"retire", x.file, "--yes"}, {"deploy", x.file, "--yes"}, {"scale", x.file, "crews", "2", "--yes"}} {
			out, code := x.try(time.Minute, args...)
			if code != 2 || !strings.Contains(out, "the log of saltmarsh lacks what its nodes were told") || !strings.Contains(out, "--take-over saltmarsh") || strings.Contains(out, "found none") {
				t.Errorf("%s: %v: exit status %d\n%s", what, args, code, out)
			}
		}
		if n := len(x.processes()); n != before {
			t.Errorf("%s: %d processes run, %d before", what, n, before)
		}
	}
	move(copied, own)
	if s := x.status(); s.State == "converged" {
		t.Errorf("with an older copy, status says %s: %s", s.State, s.Verdict)
	}
	refused("an older copy")
	move(t.TempDir(), own)
	if out, code := x.try(time.Minute, "status", x.file); code == 0 || !strings.Contains(out, "knows nothing of what was deployed there") {
		t.Errorf("without a log: exit status %d\n%s", code, out)
	}
	refused("no log")

	move(newest, own)
	x.must("deploy", x.file, "--yes")
	if s := x.status(); s.State != "converged" || len(x.processes()) != before {
		t.Errorf("with the right log back: %s, %d processes, %d before", s.State, len(x.processes()), before)
	}

	move(copied, own)
	x.edit("members: 5", "members: 3")
	x.must("deploy", x.file, "--yes", "--take-over", "saltmarsh")
	x.until("what the log does not know is gone", 20*time.Second, func() bool { return x.witnesses() == 9 })
	s := x.status()
	if s.State != "converged" {
		t.Errorf("taken over: %s, %s", s.State, s.Verdict)
	}
	x.contains(x.must("journal", x.file), "takes the field over with a log that lacks", "which the log does not know there")
	if out := x.must("retire", x.file, "--yes"); !strings.Contains(out, "found none") || len(x.processes()) > 0 {
		t.Errorf("retire:\n%s\n%v", out, x.processes())
	}
}

// oldAgent is an agent as older versions were: it tells whoever asks over plain HTTP where it is, and takes what it is sent for an order.
func oldAgent(dir string) {
	lock, err := os.OpenFile(filepath.Join(dir, "agent.lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err == nil {
		err = syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	}
	var l net.Listener
	if err == nil {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err == nil {
		started, _ := strconv.ParseInt(startTime(strconv.Itoa(os.Getpid())), 10, 64)
		end, _ := json.Marshal(map[string]any{"agent": "old", "url": "http://" + l.Addr().String(), "pid": os.Getpid(), "start_time": started})
		err = os.WriteFile(filepath.Join(dir, "agent.json"), end, 0o600)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		if f, err := os.OpenFile(filepath.Join(dir, "spoken-to"), os.O_CREATE|os.O_WRONLY, 0o600); err == nil {
			f.Close()
		}
		conn.Close()
	}
}

// TestAnAgentOfAnOlderVersionIsReplacedWithoutAWord has one run where a member does, and one that only says so.
func TestAnAgentOfAnOlderVersionIsReplacedWithoutAWord(t *testing.T) {
	x := newTrial(t, quay)
	x.must("deploy", x.file, "--yes")
	x.alone()
	before := x.status()
	node := filepath.Join(x.state, x.field(), "nodes", "gull-1")
	if err := syscall.Kill(x.agentOf("gull-1"), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	// What it keeps lies as an older version laid it.
	for _, name := range []string{"keep", "operations", "reports.ndjson", "memory.json"} {
		if err := os.Rename(filepath.Join(node, "agent", name), filepath.Join(node, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.RemoveAll(filepath.Join(node, "agent")); err != nil {
		t.Fatal(err)
	}
	old := filepath.Join(x.dir, "old", "lanternfield")
	self, err := os.Executable()
	if err == nil {
		err = os.Mkdir(filepath.Dir(old), 0o755)
	}
	if err == nil {
		err = exec.Command("cp", self, old).Run()
	}
	if err != nil {
		t.Fatal(err)
	}
	agent := exec.Command(old, "agent", "--dir", node)
	if err := agent.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- agent.Wait() }()
	x.until("the old agent runs", 10*time.Second, func() bool { _, err := os.Stat(filepath.Join(node, "agent.json")); return err == nil })
	if s := x.status(); s.State == "converged" || !strings.Contains(s.Verdict, "older version") {
		t.Errorf("status while the old agent runs: %s, %s", s.State, s.Verdict)
	}
	x.must("deploy", x.file, "--yes")
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		_ = agent.Process.Kill()
		t.Error("the old agent goes on")
	}
	if _, err := os.Stat(filepath.Join(node, "spoken-to")); err == nil {
		t.Error("the old agent was spoken to")
	}
	after := x.status()
	for _, m := range before.Members {
		if now := after.member(m.Member); now.PID != m.PID || now.Phase != "ready" {
			t.Errorf("%s was process %d, and is %d, %s", m.Member, m.PID, now.PID, now.Phase)
		}
	}
	x.alone()
	// A file that names a process which is no agent ends nobody.
	if err := syscall.Kill(x.agentOf("gull-1"), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	innocent := exec.Command("sleep", "600")
	if err := innocent.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = innocent.Process.Kill(); _ = innocent.Wait() }()
	pid := innocent.Process.Pid
	end := fmt.Sprintf(`{"agent":"old","url":"http://127.0.0.1:1","pid":%d,"start_time":%s}`, pid, startTime(strconv.Itoa(pid)))
	if err := os.WriteFile(filepath.Join(node, "agent", "agent.json"), []byte(end), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, _ := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "3s"); !strings.Contains(out, "is said to be the agent") {
		t.Errorf("with a process that is no agent:\n%s", out)
	}
	if startTime(strconv.Itoa(pid)) == "" {
		t.Error("a process that is no agent was ended")
	}
	if err := os.Remove(filepath.Join(node, "agent", "agent.json")); err != nil {
		t.Fatal(err)
	}
	x.must("deploy", x.file, "--yes")
}

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

// TestABrokenLogIsNamedAndCut changes one event of a log at several places, and goes on with what comes before it.
func TestABrokenLogIsNamedAndCut(t *testing.T) {
	x := newTrial(t, quay)
	for _, seq := range []int{6, 9, 20} { // between orders of one rollout, and after them
		x.must("deploy", x.file, "--yes")
		x.alone()
		run := len(x.processes())
		db, err := sql.Open("sqlite", filepath.Join(x.state, x.field(), "own", "events.db"))
		if err != nil {
			t.Fatal(err)
		}
		_, err = db.Exec(`UPDATE events SET at = at + 1 WHERE seq = ?`, seq)
		if err = errors.Join(err, db.Close()); err != nil {
			t.Fatal(err)
		}
		for _, args := range [][]string{{"status"}, {"deploy", "--yes"}, {"retire", "--yes"}} {
			out, code := x.try(time.Minute, append([]string{args[0], x.file}, args[1:]...)...)
			if code != 2 || !strings.Contains(out, fmt.Sprintf("event %d in ", seq)) || !strings.Contains(out, "is not as it was written") {
				t.Errorf("event %d: %v: exit status %d\n%s", seq, args, code, out)
			}
		}
		if n := len(x.processes()); n != run {
			t.Errorf("event %d: %d processes run, %d before", seq, n, run)
		}
		x.must("deploy", x.file, "--yes", "--take-over", x.field(), "--timeout", "30s")
		if s := x.status(); s.State != "converged" || len(x.processes()) != run {
			t.Errorf("event %d, cut: %s, %s; %d processes, %d before", seq, s.State, s.Verdict, len(x.processes()), run)
		}
		if out := x.must("retire", x.file, "--yes", "--forget"); len(x.processes()) > 0 {
			t.Errorf("event %d: retire leaves %v\n%s", seq, x.processes(), out)
		}
	}
}

package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite"
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
		for _, name := range []string{"own/events.db", "own/keyring.age", "own/watch.pem", "own/control.sock", "nodes/gull-1/agent/logs/crews-1.log", "nodes/gull-1/agent/keep/others-1/order.json"} {
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
	t.Parallel()
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

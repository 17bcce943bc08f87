package e2e

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "modernc.org/sqlite"
)

// TestAnOlderCopyOfTheLogIsNotObeyed puts copies of the log back that lack what was done since, and takes the log away.
func TestAnOlderCopyOfTheLogIsNotObeyed(t *testing.T) {
	t.Parallel()
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
	t.Parallel()
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

// TestABrokenLogIsNamedAndCut changes one event of a log at several places, and goes on with what comes before it.
func TestABrokenLogIsNamedAndCut(t *testing.T) {
	t.Parallel()
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

package runtime

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

func TestPortHolderNamesWhoHasIt(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	spec := &order.Spec{Address: "127.0.0.1", Ports: map[string]order.Port{"client": {Number: port}}}
	err = portHolder(spec)
	want := fmt.Sprintf("its port client (127.0.0.1:%d) is in use by process %d (runtime.test); end that program, or give the port another number", port, os.Getpid())
	if err == nil || err.Error() != want {
		t.Errorf("got %v, want %s", err, want)
	}
	l.Close()
	if err := portHolder(spec); err != nil {
		t.Errorf("a free port: %v", err)
	}
	spec.Address = "192.0.2.1" // not of this machine
	if err := portHolder(spec); err == nil || !strings.Contains(err.Error(), "cannot be used") {
		t.Errorf("a foreign address: %v", err)
	}
}

// TestTheLockOutlivesWhoTookIt is what keeps a member from running twice: a child holds the lock until it ends, whatever
// became of the agent.
func TestTheLockOutlivesWhoTookIt(t *testing.T) {
	name := filepath.Join(t.TempDir(), "alive.lock")
	held, err := host.HoldLock(name)
	if err != nil {
		t.Fatal(err)
	}
	child := exec.Command("sleep", "600")
	child.ExtraFiles = []*os.File{held}
	if err := child.Start(); err != nil {
		t.Fatal(err)
	}
	held.Close() // the agent's own handle
	if !host.LockHeld(name) {
		t.Error("the lock is free while the child lives")
	}
	if err := child.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = child.Wait()
	if host.LockHeld(name) {
		t.Error("the lock is held after the child has ended")
	}
	if host.LockHeld(name + "-missing") {
		t.Error("a lock that is not there is held")
	}
}

func TestAProcessIsKnownByItsStartNotItsNumberAlone(t *testing.T) {
	child := exec.Command("sleep", "600")
	if err := child.Start(); err != nil {
		t.Fatal(err)
	}
	pid, started := child.Process.Pid, host.StartTime(child.Process.Pid)
	if !host.Lives(pid, started) || host.Lives(pid, started+1) || host.Lives(0, 0) {
		t.Error("a process is not told apart from another one with its number")
	}
	if _, err := host.Adopt(pid, started-1); err == nil {
		t.Error("another process's number was adopted")
	}
	p, err := host.Adopt(pid, started)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if err := killExactly(pid, started+1); err != nil || !host.Lives(pid, started) {
		t.Errorf("the wrong process was killed: %v", err)
	}
	if err := p.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	select {
	case <-p.Exited:
	case <-time.After(20 * time.Second):
		t.Fatal("the end of an adopted process was not seen")
	}
	if host.Lives(pid, started) {
		t.Error("a zombie is taken to live")
	}
	_ = child.Wait()
}

func TestExitsAreToldApart(t *testing.T) {
	for script, want := range map[string]order.Exit{"exit 3": {Known: true, Code: 3}, "kill -9 $$": {Known: true, Code: 137, Signal: "9 (KILL)"}, "true": {Known: true}} {
		cmd := exec.Command("sh", "-c", script)
		_ = cmd.Run()
		if got := host.ExitOf(cmd.ProcessState); got != want {
			t.Errorf("%s: got %+v, want %+v", script, got, want)
		}
	}
}

func TestSweepEndsOnlyWhatBelongsToTheMember(t *testing.T) {
	node := t.TempDir()
	start := func(env ...string) *exec.Cmd {
		cmd := exec.Command("sleep", "600")
		cmd.Env = env
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd
	}
	ours := start(host.EnvMember+"=it-1", host.EnvHome+"="+node, host.EnvIncarnation+"=2")
	others := []*exec.Cmd{start(host.EnvMember+"=it-2", host.EnvHome+"="+node), start(host.EnvMember+"=it-1", host.EnvHome+"=/elsewhere"), start("X=" + host.EnvMember + "=it-1")}
	if pids := find(node, "it-1", 2); len(pids) != 1 || pids[0] != ours.Process.Pid || len(find(node, "it-1", 1)) != 0 {
		t.Errorf("found %v", pids)
	}
	NewProcesses(node, false).Member("it-1", Place{Node: node}).Sweep(0) // where there are no control groups
	if host.Lives(ours.Process.Pid, host.StartTime(ours.Process.Pid)) {
		t.Error("the member's process lives")
	}
	for i, o := range others {
		if !host.Lives(o.Process.Pid, host.StartTime(o.Process.Pid)) {
			t.Errorf("another process (%d) was ended", i)
		}
	}
}

// killExactly kills that very process, if it still is.
func killExactly(pid int, started int64) error {
	p, err := host.Adopt(pid, started)
	if err != nil {
		return nil
	}
	return p.Signal(9)
}

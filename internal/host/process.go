// Package host is what of this machine is ours: the folders of nodes, the processes of agents and members, their groups; found again by
// their marks, told apart from those of others, ended.
package host

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/order"
)

// end asks a process to end, and kills it when it does not.
func (p *Process) end() error {
	_ = p.Signal(syscall.SIGTERM)
	select {
	case <-p.Exited:
		return nil
	case <-time.After(3 * time.Second):
	}
	if err := p.Signal(syscall.SIGKILL); err != nil {
		return err
	}
	<-p.Exited
	return nil
}

// Process is a running process of a member, started by this agent or by one before it.
type Process struct {
	PID    int
	Pidfd  int
	Exited chan order.Exit // gets one value
}

// The environment by which a process is found again. The folder tells fields and nodes apart.
const (
	EnvMember      = "LANTERNFIELD_MEMBER"
	EnvIncarnation = "LANTERNFIELD_INCARNATION"
	EnvHome        = "LANTERNFIELD_HOME"
)

var ErrStillAlive = errors.New("a process of an earlier start is still alive")

// HoldLock takes the lock that says that a process of a member lives. Our own handle is closed after the fork; the
// child's keeps it held.
func HoldLock(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, DiskError(err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, ErrStillAlive
	}
	return f, nil
}

// LockHeld tells whether some process of the member lives.
func LockHeld(name string) bool {
	if _, err := os.Stat(name); err != nil {
		return false
	}
	f, err := HoldLock(name)
	if err == nil {
		f.Close()
	}
	return errors.Is(err, ErrStillAlive)
}

// Adopt watches a process that another agent has started. It fails when the pid is another process by now.
func Adopt(pid int, started int64) (*Process, error) {
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return nil, err
	}
	if state, at := Stat(pid); at != started || state == 'Z' || state == 0 {
		unix.Close(fd)
		return nil, fmt.Errorf("process %d is another one by now", pid)
	}
	p := &Process{PID: pid, Pidfd: fd, Exited: make(chan order.Exit, 1)}
	go func() {
		fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		for {
			n, err := unix.Poll(fds, -1)
			if n > 0 || (err != nil && !errors.Is(err, unix.EINTR)) {
				break
			}
		}
		p.Exited <- order.Exit{}
	}()
	return p, nil
}

func ExitOf(s *os.ProcessState) order.Exit {
	w, ok := s.Sys().(syscall.WaitStatus)
	switch {
	case !ok:
		return order.Exit{}
	case w.Signaled():
		return order.Exit{Known: true, Code: 128 + int(w.Signal()), Signal: fmt.Sprintf("%d (%s)", w.Signal(), strings.TrimPrefix(unix.SignalName(w.Signal()), "SIG"))}
	}
	return order.Exit{Known: true, Code: w.ExitStatus()}
}

// Signal reaches this very process, never one that took over its number.
func (p *Process) Signal(s syscall.Signal) error {
	if p.Pidfd >= 0 {
		return unix.PidfdSendSignal(p.Pidfd, s, nil, 0)
	}
	return syscall.Kill(p.PID, s)
}

func (p *Process) Close() {
	if p.Pidfd >= 0 {
		unix.Close(p.Pidfd)
		p.Pidfd = -1
	}
}

// SignalByName knows the signals of the field file.
func SignalByName(name string) syscall.Signal {
	if name == "" {
		return syscall.SIGTERM
	}
	if s := unix.SignalNum("SIG" + name); s != 0 {
		return s
	}
	return syscall.SIGTERM
}

// Stat gives a process's state letter and start time; zeros when there is none.
func Stat(pid int) (state byte, started int64) {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, 0
	}
	fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
	if len(fields) < 20 {
		return 0, 0
	}
	started, _ = strconv.ParseInt(fields[19], 10, 64)
	return fields[0][0], started
}

func StartTime(pid int) int64 {
	_, at := Stat(pid)
	return at
}

// FindAll lists the living processes that were started for members on the node with that folder: members, what they started, and
// what commands about them left behind.
func FindAll(dir string) []int { return FindIn([]string{dir})[dir] }

// FindIn does the same for many nodes in one look at the machine's processes.
func FindIn(dirs []string) map[string][]int {
	found := map[string][]int{}
	wanted := map[string]string{}
	for _, dir := range dirs {
		wanted[EnvHome+"="+dir] = dir
		if h := FindHierarchy(dir, false); h != nil {
			groups, _ := filepath.Glob(filepath.Join(h.dir, "*", "cgroup.procs"))
			for _, g := range groups {
				found[dir] = append(found[dir], (&Group{filepath.Dir(g), h.v2}).Processes()...)
			}
		}
	}
	EachEnvironment(func(pid int, vars map[string]bool) {
		for mark, dir := range wanted {
			if vars[mark] {
				found[dir] = append(found[dir], pid)
			}
		}
	})
	for dir, pids := range found {
		slices.Sort(pids)
		found[dir] = slices.Compact(pids)
	}
	return found
}

// EachEnvironment goes through the living processes, but for this one, with their variables as NAME=VALUE.
func EachEnvironment(each func(pid int, vars map[string]bool)) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		data, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err != nil || !bytes.Contains(data, []byte(EnvHome+"=")) {
			continue
		}
		if state, _ := Stat(pid); state == 'Z' || state == 0 {
			continue
		}
		vars := map[string]bool{}
		for _, v := range bytes.Split(data, []byte{0}) {
			vars[string(v)] = true
		}
		each(pid, vars)
	}
}

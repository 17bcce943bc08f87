package agent

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// process is a running process of a member, started by this agent or by one before it.
type process struct {
	pid    int
	pidfd  int
	exited chan order.Exit // gets one value
}

// The environment by which a process is found again. The folder tells fields and nodes apart.
const (
	envMember      = "LANTERNFIELD_MEMBER"
	envIncarnation = "LANTERNFIELD_INCARNATION"
	envHome        = "LANTERNFIELD_HOME"
)

// spawn starts the member's program. Its output goes to a file opened for appending; the lock that it inherits is held
// until the last process of this incarnation has ended, whatever becomes of the agent.
func spawn(l layout, m field.MemberName, spec *order.Spec, incarnation int, cg *cgroup) (*process, int64, error) {
	program, err := lookUp(spec.Command[0], spec.LookIn)
	if err != nil {
		return nil, 0, err
	}
	who, err := accountOf(spec.User)
	if err == nil {
		err = who.mayEnter(l.member(m))
	}
	if err != nil {
		return nil, 0, err
	}
	held, err := holdLock(filepath.Join(l.keep(m), "alive.lock"))
	if err != nil {
		return nil, 0, err
	}
	defer held.Close()
	out, err := openLog(l.log(m), who)
	if err != nil {
		return nil, 0, diskError(err)
	}
	defer out.Close()
	cmd := &exec.Cmd{Path: program, Args: append([]string{spec.Command[0]}, spec.Command[1:]...), Dir: l.member(m),
		Stdout: out, Stderr: out, ExtraFiles: []*os.File{held}, SysProcAttr: &syscall.SysProcAttr{Setsid: true, Credential: who.credential}}
	cmd.Env = append(environment(l, m, spec), envIncarnation+"="+strconv.Itoa(incarnation))
	if err := cg.start(cmd); err != nil {
		return nil, 0, fmt.Errorf("%s could not be started: %w", program, err)
	}
	p := &process{pid: cmd.Process.Pid, exited: make(chan order.Exit, 1)}
	if p.pidfd, err = unix.PidfdOpen(p.pid, 0); err != nil {
		p.pidfd = -1
	}
	go func() {
		_ = cmd.Wait()
		born.Delete(p.pid)
		p.exited <- exitOf(cmd.ProcessState)
	}()
	return p, startTime(p.pid), nil
}

// openLog opens what a member writes to. It belongs to the member's user, so that the member may open its own output again by its
// descriptor, in a folder that only the agent may enter.
func openLog(name string, who *account) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND|logFlags, 0o600)
	if err == nil && os.Geteuid() == 0 {
		if err = f.Chown(who.uid, who.gid); err != nil {
			f.Close()
		}
	}
	return f, err
}

// ownName is the command by which kits name the program that the agent itself is.
const ownName = "lanternfield"

// lookUp finds a program on the PATH, then in further folders.
func lookUp(name string, further []string) (string, error) {
	if name == ownName { // the demo's programs are in the agent's own file: of the same version, wherever it is installed
		return os.Executable()
	}
	if strings.ContainsRune(name, '/') {
		if _, err := os.Stat(name); err != nil {
			return "", fmt.Errorf("there is no program %s on this node", name)
		}
		return name, nil
	}
	if path, err := exec.LookPath(name); err == nil {
		return filepath.Abs(path)
	}
	for _, dir := range further {
		matches, _ := filepath.Glob(filepath.Join(dir, name))
		if len(matches) > 0 {
			return matches[len(matches)-1], nil
		}
	}
	text := fmt.Sprintf("the program %q is not installed: it is not in %s", name, os.Getenv("PATH"))
	if len(further) > 0 {
		text += " nor in " + strings.Join(further, ", ")
	}
	return "", errors.New(text + "; install it on this node, it is tried again")
}

// lookFor tells what a member would lack on this node.
func (a *Agent) lookFor(l order.Lookup) error {
	if _, err := lookUp(l.Program, l.LookIn); err != nil {
		return fmt.Errorf("%s on %s: %w", l.Member, a.options.Node, err)
	}
	if l.User != "" {
		if _, err := user.Lookup(l.User); err != nil {
			return fmt.Errorf("%s on %s: the user %q is not known on this node", l.Member, a.options.Node, l.User)
		}
	}
	return nil
}

var errStillAlive = errors.New("a process of an earlier start is still alive")

// holdLock takes the lock that says that a process of a member lives. Our own handle is closed after the fork; the
// child's keeps it held.
func holdLock(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, diskError(err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, errStillAlive
	}
	return f, nil
}

// lockHeld tells whether some process of the member lives.
func lockHeld(name string) bool {
	if _, err := os.Stat(name); err != nil {
		return false
	}
	f, err := holdLock(name)
	if err == nil {
		f.Close()
	}
	return errors.Is(err, errStillAlive)
}

// adopt watches a process that another agent has started. It fails when the pid is another process by now.
func adopt(pid int, started int64) (*process, error) {
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return nil, err
	}
	if state, at := stat(pid); at != started || state == 'Z' || state == 0 {
		unix.Close(fd)
		return nil, fmt.Errorf("process %d is another one by now", pid)
	}
	p := &process{pid: pid, pidfd: fd, exited: make(chan order.Exit, 1)}
	go func() {
		fds := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		for {
			n, err := unix.Poll(fds, -1)
			if n > 0 || (err != nil && !errors.Is(err, unix.EINTR)) {
				break
			}
		}
		p.exited <- order.Exit{}
	}()
	return p, nil
}

func exitOf(s *os.ProcessState) order.Exit {
	w, ok := s.Sys().(syscall.WaitStatus)
	switch {
	case !ok:
		return order.Exit{}
	case w.Signaled():
		return order.Exit{Known: true, Code: 128 + int(w.Signal()), Signal: fmt.Sprintf("%d (%s)", w.Signal(), strings.TrimPrefix(unix.SignalName(w.Signal()), "SIG"))}
	}
	return order.Exit{Known: true, Code: w.ExitStatus()}
}

// signal reaches this very process, never one that took over its number.
func (p *process) signal(s syscall.Signal) error {
	if p.pidfd >= 0 {
		return unix.PidfdSendSignal(p.pidfd, s, nil, 0)
	}
	return syscall.Kill(p.pid, s)
}

func (p *process) close() {
	if p.pidfd >= 0 {
		unix.Close(p.pidfd)
		p.pidfd = -1
	}
}

// signalByName knows the signals of the field file.
func signalByName(name string) syscall.Signal {
	if name == "" {
		return syscall.SIGTERM
	}
	if s := unix.SignalNum("SIG" + name); s != 0 {
		return s
	}
	return syscall.SIGTERM
}

// stat gives a process's state letter and start time; zeros when there is none.
func stat(pid int) (state byte, started int64) {
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

func startTime(pid int) int64 {
	_, at := stat(pid)
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
		wanted[envHome+"="+dir] = dir
		if h := findHierarchy(dir, false); h != nil {
			groups, _ := filepath.Glob(filepath.Join(h.dir, "*", "cgroup.procs"))
			for _, g := range groups {
				found[dir] = append(found[dir], (&cgroup{filepath.Dir(g), h.v2}).processes()...)
			}
		}
	}
	eachEnvironment(func(pid int, vars map[string]bool) {
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

// eachEnvironment goes through the living processes, but for this one, with their variables as NAME=VALUE.
func eachEnvironment(each func(pid int, vars map[string]bool)) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		data, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err != nil || !bytes.Contains(data, []byte(envHome+"=")) {
			continue
		}
		if state, _ := stat(pid); state == 'Z' || state == 0 {
			continue
		}
		vars := map[string]bool{}
		for _, v := range bytes.Split(data, []byte{0}) {
			vars[string(v)] = true
		}
		each(pid, vars)
	}
}

// find lists the living processes of a member by their environment. Incarnation 0 means any.
func find(l layout, m field.MemberName, incarnation int) []int {
	var pids []int
	eachEnvironment(func(pid int, vars map[string]bool) {
		if vars[envMember+"="+string(m)] && vars[envHome+"="+l.dir] && (incarnation == 0 || vars[envIncarnation+"="+strconv.Itoa(incarnation)]) {
			pids = append(pids, pid)
		}
	})
	return pids
}

// find lists the living processes of a member. Where they have a group, what is in it says all; elsewhere their environment does.
func (m *member) find(incarnation int) []int {
	if m.cgroup != nil {
		pids := m.cgroup.processes()
		slices.SortFunc(pids, func(a, b int) int { return cmp.Compare(startTime(a), startTime(b)) })
		return pids
	}
	return find(m.disk, m.name, incarnation)
}

// sweep kills what is left of a member after its main process has ended.
func (m *member) sweep(group int) {
	if m.cgroup != nil {
		m.cgroup.end(5 * time.Second)
		return
	}
	if group > 1 {
		_ = syscall.Kill(-group, syscall.SIGKILL)
	}
	m.mu.Lock()
	seen := maps.Clone(m.kin)
	m.mu.Unlock()
	deadline := time.Now().Add(5 * time.Second)
	for time.Now().Before(deadline) {
		pids := find(m.disk, m.name, 0)
		if seen.end(5*time.Second) && len(pids) == 0 {
			return
		}
		for _, pid := range pids {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// portHolder checks that the member's ports are free, and says whose one is that is not.
func portHolder(spec *order.Spec) error {
	for name, p := range spec.Ports {
		host := cmp.Or(p.Address, spec.Address)
		address := net.JoinHostPort(host, strconv.Itoa(p.Number))
		l, err := net.Listen("tcp", address)
		if err == nil {
			l.Close()
			continue
		}
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("its port %s (%s) is in use by %s; end that program, or give the port another number", name, address, whoListens(host, p.Number))
		}
		return fmt.Errorf("its port %s (%s) cannot be used: %w", name, address, err)
	}
	return nil
}

// whoListens names the process that listens on an address, as far as we may know.
func whoListens(address string, port int) string {
	inode := listeningInode(address, port)
	if inode == "" {
		return "a process that could not be found"
	}
	target := "socket:[" + inode + "]"
	entries, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, fd := range entries {
		if link, err := os.Readlink(fd); err == nil && link == target {
			pid := strings.Split(fd, "/")[2]
			name, _ := os.ReadFile("/proc/" + pid + "/comm")
			return fmt.Sprintf("process %s (%s)", pid, strings.TrimSpace(string(name)))
		}
	}
	return "a process of another user"
}

// listeningInode looks an address up among the kernel's listening sockets.
func listeningInode(address string, port int) string {
	ip := net.ParseIP(address).To4()
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		data, _ := os.ReadFile(table)
		for _, line := range strings.Split(string(data), "\n")[1:] {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != "0A" {
				continue
			}
			host, hexPort, _ := strings.Cut(f[1], ":")
			p, _ := strconv.ParseInt(hexPort, 16, 32)
			if int(p) != port {
				continue
			}
			any := strings.Trim(host, "0") == ""
			if any || (ip != nil && strings.HasSuffix(host, fmt.Sprintf("%02X%02X%02X%02X", ip[3], ip[2], ip[1], ip[0]))) {
				return f[9]
			}
		}
	}
	return ""
}

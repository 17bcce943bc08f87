package agent

import (
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
	"lanternfield/internal/host"
)

// spawn starts the member's program. Its output goes to a file opened for appending; the lock that it inherits is held
// until the last process of this incarnation has ended, whatever becomes of the agent.
func spawn(l layout, m field.MemberName, spec *order.Spec, incarnation int, cg *host.Group) (*host.Process, int64, error) {
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
	held, err := host.HoldLock(filepath.Join(l.record(m), "alive.lock"))
	if err != nil {
		return nil, 0, err
	}
	defer held.Close()
	out, err := openLog(l.log(m), who)
	if err != nil {
		return nil, 0, host.DiskError(err)
	}
	defer out.Close()
	cmd := &exec.Cmd{Path: program, Args: append([]string{spec.Command[0]}, spec.Command[1:]...), Dir: l.member(m),
		Stdout: out, Stderr: out, ExtraFiles: []*os.File{held}, SysProcAttr: &syscall.SysProcAttr{Setsid: true, Credential: who.credential}}
	cmd.Env = append(environment(l, m, spec), host.EnvIncarnation+"="+strconv.Itoa(incarnation))
	if err := cg.Start(cmd); err != nil {
		return nil, 0, fmt.Errorf("%s could not be started: %w", program, err)
	}
	p := &host.Process{PID: cmd.Process.Pid, Exited: make(chan order.Exit, 1)}
	if p.Pidfd, err = unix.PidfdOpen(p.PID, 0); err != nil {
		p.Pidfd = -1
	}
	go func() {
		_ = cmd.Wait()
		host.Born.Delete(p.PID)
		p.Exited <- host.ExitOf(cmd.ProcessState)
	}()
	return p, host.StartTime(p.PID), nil
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

// find lists the living processes of a member by their environment. Incarnation 0 means any.
func find(l layout, m field.MemberName, incarnation int) []int {
	var pids []int
	host.EachEnvironment(func(pid int, vars map[string]bool) {
		if vars[host.EnvMember+"="+string(m)] && vars[host.EnvHome+"="+l.dir] && (incarnation == 0 || vars[host.EnvIncarnation+"="+strconv.Itoa(incarnation)]) {
			pids = append(pids, pid)
		}
	})
	return pids
}

// find lists the living processes of a member. Where they have a group, what is in it says all; elsewhere their environment does.
func (m *member) find(incarnation int) []int {
	if m.cgroup != nil {
		pids := m.cgroup.Processes()
		slices.SortFunc(pids, func(a, b int) int { return cmp.Compare(host.StartTime(a), host.StartTime(b)) })
		return pids
	}
	return find(m.disk, m.name, incarnation)
}

// sweep kills what is left of a member after its main process has ended.
func (m *member) sweep(group int) {
	if m.cgroup != nil {
		m.cgroup.End(5 * time.Second)
		return
	}
	if group > 1 {
		_ = syscall.Kill(-group, syscall.SIGKILL)
	}
	m.mu.Lock()
	seen := maps.Clone(m.descendants)
	m.mu.Unlock()
	deadline := time.Now().Add(5 * time.Second)
	for time.Now().Before(deadline) {
		pids := find(m.disk, m.name, 0)
		if seen.End(5*time.Second) && len(pids) == 0 {
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

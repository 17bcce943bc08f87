package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Lives tells whether that very process lives.
func Lives(pid int, started int64) bool {
	state, at := Stat(pid)
	return pid > 0 && state != 0 && state != 'Z' && at == started
}

// command is the command line by which agents are started; the folder in it is the mark by which one is found whose folder is gone.
func command(binary, nodeDir string) []string { return []string{binary, "agent", "--dir", nodeDir} }

// Command gives the command line that starts the agent of a node.
func Command(binary, nodeDir, node, address string) []string {
	return append(command(binary, nodeDir), "--node", node, "--address", address, "--enrol-fd", "3")
}

// isAgent tells whether a process is an agent of that folder: it runs as this user, from a program of this name, with that command line.
func isAgent(pid int, binary, nodeDir string) bool {
	proc := "/proc/" + strconv.Itoa(pid)
	name, uid := nameAndUser(proc)
	if uid != os.Geteuid() {
		return false
	}
	line, err := os.ReadFile(proc + "/cmdline")
	if err != nil {
		return false
	}
	args, wanted := strings.Split(string(line), "\x00"), command(binary, nodeDir)
	if len(args) < len(wanted) {
		return false
	}
	for i, w := range wanted[1:] {
		if args[i+1] != w {
			return false
		}
	}
	exe, err := os.Readlink(proc + "/exe")
	if errors.Is(err, fs.ErrPermission) { // agents keep that to themselves, as they do their memory
		return name == shortName(binary)
	}
	return err == nil && filepath.Base(strings.TrimSuffix(exe, " (deleted)")) == filepath.Base(binary)
}

// nameAndUser are what the kernel calls a process, and whose it is; -1 where it is gone.
func nameAndUser(proc string) (name string, uid int) {
	data, _ := os.ReadFile(proc + "/status")
	uid = -1
	for line := range strings.Lines(string(data)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), ":")
		switch fields := strings.Fields(value); {
		case key == "Name":
			name = strings.TrimSpace(value)
		case key == "Uid" && len(fields) > 1:
			if n, err := strconv.Atoi(fields[1]); err == nil { // the effective one
				uid = n
			}
		}
	}
	return name, uid
}

// shortName is what the kernel calls a process that runs that program.
func shortName(binary string) string {
	name := filepath.Base(binary)
	return name[:min(len(name), 15)]
}

// FindAgents lists the agents that run for a node's folder, whether or not that folder is there.
func FindAgents(binary, nodeDir string) []int {
	var pids []int
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		if pid, err := strconv.Atoi(e.Name()); err == nil && pid != os.Getpid() && isAgent(pid, binary, nodeDir) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// FoldersBelow lists the nodes' folders below one that living agents and members name as theirs, whether or not they are there.
func FoldersBelow(root string) []string {
	var dirs []string
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		if pid, err := strconv.Atoi(e.Name()); err != nil || pid == os.Getpid() {
			continue
		}
		line, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
		if args := strings.SplitN(string(line), "\x00", 5); len(args) == 5 && args[1] == "agent" && args[2] == "--dir" && strings.HasPrefix(args[3], root+"/") {
			dirs = append(dirs, args[3])
		}
	}
	EachEnvironment(func(_ int, vars map[string]bool) {
		for v := range vars {
			if dir, ok := strings.CutPrefix(v, EnvHome+"="); ok && strings.HasPrefix(dir, root+"/") {
				dirs = append(dirs, dir)
			}
		}
	})
	slices.Sort(dirs)
	return slices.Compact(dirs)
}

// holdsLock tells whether a process holds the lock on that file, by the kernel's own list.
func holdsLock(pid int, name string) bool {
	var st unix.Stat_t
	if unix.Lstat(name, &st) != nil {
		return false
	}
	locks, _ := os.ReadFile("/proc/locks")
	file := fmt.Sprintf("%02x:%02x:%d", unix.Major(st.Dev), unix.Minor(st.Dev), st.Ino)
	for _, line := range bytes.Split(locks, []byte{'\n'}) {
		f := strings.Fields(string(line))
		if len(f) >= 6 && f[1] == "FLOCK" && f[4] == strconv.Itoa(pid) && f[5] == file {
			return true
		}
	}
	return false
}

// End ends the agent that an endpoint file of that folder names, without a word to it: first it is made sure that it is that agent, by
// its lock, its process and when that was started, its user and its program. Its members go on.
func End(end Endpoint, binary, nodeDir string) error {
	p, err := Adopt(end.PID, end.StartTime)
	if err != nil {
		return nil // it has ended
	}
	defer p.Close()
	locked := false
	for _, lock := range []string{LockFile(nodeDir), filepath.Join(nodeDir, "agent.lock")} {
		locked = locked || holdsLock(end.PID, lock)
	}
	if !locked || !isAgent(end.PID, binary, nodeDir) {
		return fmt.Errorf("process %d is said to be the agent in %s, and is not; it is left alone", end.PID, nodeDir)
	}
	return p.end()
}

// EndAdrift ends an agent whose folder is gone.
func EndAdrift(pid int, binary, nodeDir string) error {
	p, err := Adopt(pid, StartTime(pid))
	if err != nil {
		return nil
	}
	defer p.Close()
	if !isAgent(pid, binary, nodeDir) {
		return nil
	}
	return p.end()
}

// EndAll ends everything that was started for members on the node with that folder. Its agent has ended.
func EndAll(ctx context.Context, nodeDir string) error {
	for _, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGKILL} {
		for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); {
			pids := FindAll(nodeDir)
			if len(pids) == 0 {
				return nil
			}
			for _, pid := range pids {
				if p, err := Adopt(pid, StartTime(pid)); err == nil {
					_ = p.Signal(sig)
					p.Close()
				}
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	return fmt.Errorf("processes that were started in %s do not end: %v", nodeDir, FindAll(nodeDir))
}

package host

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
)

// Hierarchy is where the agent can make control groups for its members: cgroup version 2, or the pids controller of version 1. A group
// holds all that was ever started from the member's processes, whatever session, descriptors and environment they gave up: nothing
// leaves it without root's rights.
type Hierarchy struct {
	dir string // the folder below which members have their groups
	v2  bool
}

// FindHierarchy finds the node's group, or makes it; nil where there is none.
func FindHierarchy(nodeDir string, make bool) *Hierarchy {
	sum := sha256.Sum256([]byte(nodeDir))
	name := "lanternfield-" + hex.EncodeToString(sum[:8])
	own, _ := os.ReadFile("/proc/self/cgroup")
	mounts, _ := os.ReadFile("/proc/self/mountinfo")
	for _, v2 := range []bool{true, false} {
		mount, root := cgroupMount(string(mounts), v2)
		if mount == "" {
			continue
		}
		for _, below := range []string{cgroupOf(string(own), v2), "/"} {
			rel, err := filepath.Rel(root, below)
			if err != nil || strings.HasPrefix(rel, "..") {
				rel = "."
			}
			// An agent that is started by one of its members' groups, or by another agent's, shall not be in it: it would end with it.
			if i := strings.Index(rel, "lanternfield-"); i >= 0 {
				rel = filepath.Clean(rel[:i])
			}
			h := &Hierarchy{filepath.Join(mount, rel, name), v2}
			if _, err := os.Stat(h.dir); err != nil && !make {
				continue
			}
			if err := h.try(); err == nil {
				return h
			}
		}
	}
	return nil
}

// try makes the group and finds out whether members can have theirs in it.
func (h *Hierarchy) try() error {
	if err := os.Mkdir(h.dir, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	if err := unix.Access(h.dir, unix.W_OK); err != nil {
		return err
	}
	if h.v2 {
		return unix.Access(filepath.Join(h.dir, "cgroup.kill"), unix.W_OK)
	}
	return nil
}

// cgroupMount finds where a hierarchy is mounted, and what of it.
func cgroupMount(mountinfo string, v2 bool) (mount, root string) {
	for _, line := range strings.Split(mountinfo, "\n") {
		before, after, ok := strings.Cut(line, " - ")
		f, g := strings.Fields(before), strings.Fields(after)
		if !ok || len(f) < 5 || len(g) < 3 {
			continue
		}
		if v2 && g[0] == "cgroup2" || !v2 && g[0] == "cgroup" && strings.Contains(","+g[2]+",", ",pids,") {
			return f[4], f[3]
		}
	}
	return "", ""
}

// cgroupOf finds in which group this process is.
func cgroupOf(own string, v2 bool) string {
	for _, line := range strings.Split(own, "\n") {
		f := strings.SplitN(line, ":", 3)
		if len(f) == 3 && (v2 && f[0] == "0" && f[1] == "" || !v2 && strings.Contains(","+f[1]+",", ",pids,")) {
			return f[2]
		}
	}
	return "/"
}

// Group is a member's group. A nil one stands for none.
type Group struct {
	Dir string
	V2  bool
}

// Of gives a member's group, which need not be there.
func (h *Hierarchy) Of(m field.MemberName) *Group {
	if h == nil {
		return nil
	}
	return &Group{filepath.Join(h.dir, string(m)), h.v2}
}

// Remove removes the node's group, once it is empty.
func (h *Hierarchy) Remove() {
	if h != nil {
		_ = os.Remove(h.dir)
	}
}

// Start starts a command inside the group from its first instruction on.
func (c *Group) Start(cmd *exec.Cmd) error {
	if c == nil {
		err := cmd.Start()
		if err == nil {
			Born.Store(cmd.Process.Pid, true)
		}
		return err
	}
	if err := os.MkdirAll(c.Dir, 0o755); err != nil {
		slog.Warn("a group for a member's processes cannot be made", "error", err)
		return cmd.Start()
	}
	if c.V2 {
		fd, err := unix.Open(c.Dir, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if err != nil {
			return cmd.Start()
		}
		defer unix.Close(fd)
		cmd.SysProcAttr.UseCgroupFD, cmd.SysProcAttr.CgroupFD = true, fd
		return cmd.Start()
	}
	// Version 1: a process is born in the group of the thread that makes it.
	runtime.LockOSThread()
	tid := []byte(strconv.Itoa(unix.Gettid()))
	before := filepath.Join(filepath.Dir(filepath.Dir(c.Dir)), "tasks")
	if err := os.WriteFile(filepath.Join(c.Dir, "tasks"), tid, 0); err != nil {
		runtime.UnlockOSThread()
		return cmd.Start()
	}
	err := cmd.Start()
	if os.WriteFile(before, tid, 0) == nil {
		runtime.UnlockOSThread() // else the thread ends with its goroutine, and is not used for others
	}
	return err
}

// Processes lists who is in the group.
func (c *Group) Processes() []int {
	if c == nil {
		return nil
	}
	data, _ := os.ReadFile(filepath.Join(c.Dir, "cgroup.procs"))
	var pids []int
	for _, f := range bytes.Fields(data) {
		if pid, err := strconv.Atoi(string(f)); err == nil && pid > 0 {
			if state, _ := Stat(pid); state != 'Z' && state != 0 {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// End kills everything in the group and removes it. It tells whether nothing is left.
func (c *Group) End(within time.Duration) bool {
	if c == nil {
		return true
	}
	deadline := time.Now().Add(within)
	for {
		if err := os.Remove(c.Dir); err == nil || errors.Is(err, os.ErrNotExist) {
			return true
		}
		pids := c.Processes()
		if c.V2 && len(pids) > 0 {
			_ = os.WriteFile(filepath.Join(c.Dir, "cgroup.kill"), []byte("1"), 0)
		} else {
			for _, pid := range pids {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		if time.Now().After(deadline) {
			return len(c.Processes()) == 0
		}
		time.Sleep(time.Millisecond)
	}
}

// RemoveGroups removes what is left of the groups of a node when nothing runs in them any more.
func RemoveGroups(nodeDir string) {
	h := FindHierarchy(nodeDir, false)
	if h == nil {
		return
	}
	entries, _ := os.ReadDir(h.dir)
	for _, e := range entries {
		if e.IsDir() {
			_ = os.Remove(filepath.Join(h.dir, e.Name()))
		}
	}
	h.Remove()
}

// GroupsHere tells whether members can have control groups on this machine. It leaves nothing behind.
func GroupsHere() bool {
	h := FindHierarchy("a look", true)
	h.Remove()
	return h != nil
}

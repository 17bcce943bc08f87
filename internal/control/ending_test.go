package control

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// endBelow ends the processes that run in a folder, with their control groups: members go on when their agents have ended.
func endBelow(t *testing.T, dir string) {
	t.Helper()
	groups := map[string]bool{}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		left := 0
		all, _ := filepath.Glob("/proc/[0-9]*/cwd")
		for _, link := range all {
			if at, err := os.Readlink(link); err != nil || !strings.HasPrefix(at, dir+"/") {
				continue
			}
			left++
			data, _ := os.ReadFile(filepath.Join(filepath.Dir(link), "cgroup"))
			for line := range strings.Lines(string(data)) {
				if _, path, found := strings.Cut(line, "::"); found && strings.Contains(path, "/lanternfield-") {
					groups[strings.TrimSpace(path)] = true
				}
			}
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link))); err == nil && pid != os.Getpid() {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		if left == 0 {
			break
		}
		if time.Now().After(deadline) {
			t.Errorf("%d processes are left in %s", left, dir)
			break
		}
	}
	for path := range groups {
		for _, root := range []string{"/sys/fs/cgroup", "/sys/fs/cgroup/unified"} {
			_ = os.Remove(filepath.Join(root, path))
			_ = os.Remove(filepath.Join(root, filepath.Dir(path))) // when it was the last in it
		}
	}
}

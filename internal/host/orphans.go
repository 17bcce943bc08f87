package host

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// MostProcesses is how many processes of a member are looked at.
const MostProcesses = 1000

// Where no control groups can be had, the agent becomes the parent of every process below its members whose own parent has ended
// (PR_SET_CHILD_SUBREAPER). What a member was seen to have started is ended with it, whatever session and environment it gave up. What
// nobody has seen before it left cannot be told to be anybody's: then it is said, and nothing is started beside it. A successor of the
// agent sees of all that only what bears the member's marks.

// Born are the processes that this agent has started itself and not yet waited for.
var Born sync.Map

// AdoptOrphans has orphans come to this process.
func AdoptOrphans() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// Children lists the processes whose parent that is.
func Children(pid int) []int {
	var pids []int
	tasks, _ := filepath.Glob("/proc/" + strconv.Itoa(pid) + "/task/*/children")
	for _, task := range tasks {
		data, _ := os.ReadFile(task)
		for _, child := range strings.Fields(string(data)) {
			if n, err := strconv.Atoi(child); err == nil {
				pids = append(pids, n)
			}
		}
	}
	return pids
}

// Descendants is what a member was seen to have started, with when each of them was started.
type Descendants map[int]int64

// See adds all that lives below a process, and forgets what has ended.
func (k Descendants) See(pid int) {
	for old, started := range k {
		if !Lives(old, started) {
			delete(k, old)
		}
	}
	queue := append([]int{pid}, k.pids()...)
	for seen := 0; len(queue) > 0 && seen < MostProcesses; seen++ {
		for _, child := range Children(queue[0]) {
			if _, known := k[child]; !known {
				k[child] = StartTime(child)
				queue = append(queue, child)
			}
		}
		queue = queue[1:]
	}
}

func (k Descendants) pids() []int {
	pids := make([]int, 0, len(k))
	for pid := range k {
		pids = append(pids, pid)
	}
	return pids
}

// End kills those that live, and what they have started since. It tells whether nothing is left.
func (k Descendants) End(within time.Duration) bool {
	for deadline := time.Now().Add(within); ; time.Sleep(5 * time.Millisecond) {
		k.See(0)
		if len(k) == 0 {
			return true
		}
		for pid, started := range k {
			if p, err := Adopt(pid, started); err == nil {
				_ = p.Signal(syscall.SIGKILL)
				p.Close()
			}
		}
		if time.Now().After(deadline) {
			return false
		}
	}
}

// ReapOrphans lists the children of this process that it has not started itself, and waits for those that have ended.
func ReapOrphans() []int {
	var pids []int
	for _, pid := range Children(os.Getpid()) {
		if _, own := Born.Load(pid); own {
			continue
		}
		if state, _ := Stat(pid); state == 'Z' {
			_, _ = syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
			continue
		}
		pids = append(pids, pid)
	}
	return pids
}

// CheckOrphans says which orphans bear no member's marks and were not seen before they left, so that they may be anybody's.
func CheckOrphans(known func(pid int) bool) error {
	for try := range 2 { // one that has just been started is not noted yet
		var pids []string
		for _, pid := range ReapOrphans() {
			env, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/environ")
			if !known(pid) && !strings.Contains(string(env), EnvHome+"=") {
				name, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/comm")
				pids = append(pids, fmt.Sprintf("%d (%s)", pid, strings.TrimSpace(string(name))))
			}
		}
		if len(pids) == 0 {
			return nil
		}
		if try == 1 {
			return fmt.Errorf("process %s has left the member that started it, and which one that was is not known; it may be this one's, so nothing is started beside it. End it, it is tried again",
				strings.Join(pids, ", "))
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil
}

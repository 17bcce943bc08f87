package runtime

import (
	"bytes"
	"os"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/host"
)

// Usage is what a member takes of its machine, with all that it has started.
type Usage struct {
	Memory        int64         // bytes that its processes have for themselves, without what they share with others
	CPU           time.Duration // of the processor, since they were started; less than before when one of them has ended unawaited
	Read, Written int64         // bytes, from and to disks

	Received, Sent int64 // bytes that its TCP connections have carried, since it is looked at
}

// tick is the unit of processor times in /proc: USER_HZ, which Linux shows as 100 on every architecture.
const tick = 10 * time.Millisecond

// usageOf sums up what a process and all below it take. A process that ends meanwhile counts for nothing.
func usageOf(pid int, t *traffic) Usage {
	var u Usage
	begin := time.Now()
	inodes := t.due(begin)
	page := int64(os.Getpagesize())
	queue := []int{pid}
	for seen := 0; len(queue) > 0 && seen < host.MostProcesses; seen++ {
		pid := queue[0]
		proc := "/proc/" + strconv.Itoa(pid)
		queue = queue[1:]
		data, err := os.ReadFile(proc + "/statm") // pages: size, resident, shared
		if f := strings.Fields(string(data)); err == nil && len(f) > 2 {
			resident, _ := strconv.ParseInt(f[1], 10, 64)
			shared, _ := strconv.ParseInt(f[2], 10, 64)
			u.Memory += max(0, resident-shared) * page
		}
		u.CPU += processorTime(proc)
		read, written := diskTraffic(proc)
		u.Read, u.Written = u.Read+read, u.Written+written
		if inodes != nil {
			socketsOf(proc, inodes)
		}
		queue = append(queue, host.Children(pid)...)
	}
	if inodes != nil {
		t.look(inodes, tcp.now())
		t.took(begin, time.Now())
	}
	u.Received, u.Sent = t.total.received, t.total.sent
	return u
}

// processorTime is what a process has used of processors, with its children that have ended; see proc_pid_stat(5).
func processorTime(proc string) time.Duration {
	data, _ := os.ReadFile(proc + "/stat")
	_, rest, found := bytes.Cut(data[max(0, bytes.LastIndexByte(data, ')')):], []byte(" ")) // its name may hold anything
	f := strings.Fields(string(rest))
	if !found || len(f) < 15 {
		return 0
	}
	ticks := int64(0)
	for _, field := range f[11:15] { // utime, stime, cutime, cstime
		n, _ := strconv.ParseInt(field, 10, 64)
		ticks += n
	}
	return time.Duration(ticks) * tick
}

// diskTraffic is what a process has had read from disks and written to them; zero where that may not be seen.
func diskTraffic(proc string) (read, written int64) {
	data, _ := os.ReadFile(proc + "/io")
	for line := range strings.Lines(string(data)) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
		switch n, _ := strconv.ParseInt(value, 10, 64); key {
		case "read_bytes":
			read = n
		case "write_bytes":
			written = n
		}
	}
	return read, written
}

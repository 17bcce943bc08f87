package agent

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
)

// weigh notes how much memory the member has. It is ended when it is beyond its ceiling twice in a row: a short peak is none of the
// ceiling's business.
func (m *member) weigh() {
	if m.proc == nil {
		m.heavy = false
		return
	}
	bytes := memoryOf(m.proc.PID)
	m.mu.Lock()
	if m.cgroup == nil {
		m.descendants.See(m.proc.PID)
	}
	m.measure.Memory = bytes
	m.mu.Unlock()
	spec := m.order.Spec
	if spec == nil || spec.Ceiling.Memory == 0 || bytes <= int64(spec.Ceiling.Memory) {
		m.heavy = false
		return
	}
	if !m.heavy {
		m.heavy = true
		return
	}
	m.heavy = false
	m.beyond = fmt.Sprintf("took %s of memory, beyond its ceiling of %s", field.Bytes(bytes), spec.Ceiling.Memory)
	_ = m.proc.Signal(syscall.SIGKILL)
	_ = syscall.Kill(-m.proc.PID, syscall.SIGKILL)
}

// memoryOf is how many bytes a process and all that it has started have for themselves, without what they share with
// others. A process that ends meanwhile counts for nothing.
func memoryOf(pid int) int64 {
	total, page := int64(0), int64(os.Getpagesize())
	queue := []int{pid}
	for seen := 0; len(queue) > 0 && seen < host.MostProcesses; seen++ {
		pid := queue[0]
		proc := "/proc/" + strconv.Itoa(pid)
		queue = queue[1:]
		data, err := os.ReadFile(proc + "/statm") // pages: size, resident, shared
		if f := strings.Fields(string(data)); err == nil && len(f) > 2 {
			resident, _ := strconv.ParseInt(f[1], 10, 64)
			shared, _ := strconv.ParseInt(f[2], 10, 64)
			total += max(0, resident-shared) * page
		}
		queue = append(queue, host.Children(pid)...)
	}
	return total
}

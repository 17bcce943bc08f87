// Package process tells what a process takes of the machine.
package process

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"
)

// Spent gives the processor time and the memory, in MiB, of a process.
func Spent(pid int) (time.Duration, map[string]float64, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, nil, err
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	memory := map[string]float64{}
	for _, line := range strings.Split(string(status), "\n") {
		if name, rest, ok := strings.Cut(line, ":"); ok && strings.HasSuffix(rest, "kB") {
			kib, _ := strconv.Atoi(strings.Fields(rest)[0])
			memory[name] = float64(kib) / 1024
		}
	}
	return time.Duration(user+system) * 10 * time.Millisecond, memory, err
}

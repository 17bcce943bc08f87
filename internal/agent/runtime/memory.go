package runtime

import (
	"os"
	"strconv"
	"strings"

	"lanternfield/internal/host"
)

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

package fit

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
)

// limit is one limit of the operating system that a program may need.
type limit struct {
	words    string // what there may be so many of
	resource int
	of       func(field.Limits) uint64
	unit     string // under which the agent's own service raises it
	bytes    bool
}

func (x limit) amount(n uint64) string {
	if x.bytes {
		return field.Bytes(n).String()
	}
	return strconv.FormatUint(n, 10)
}

var limits = []limit{
	{"open files", unix.RLIMIT_NOFILE, func(l field.Limits) uint64 { return l.OpenFiles }, "LimitNOFILE", false},
	{"processes of its user", unix.RLIMIT_NPROC, func(l field.Limits) uint64 { return l.Processes }, "LimitNPROC", false},
	{"of locked memory", unix.RLIMIT_MEMLOCK, func(l field.Limits) uint64 { return uint64(l.LockedMemory) }, "LimitMEMLOCK", true},
}

// LimitError says that a limit that a program needs cannot be given to it here.
type LimitError struct {
	why    string
	Kernel *KernelError // the setting that stands in the way, where it is one
}

func (e *LimitError) Error() string { return e.why }

// mostOpen is the setting of the kernel that bounds how many files a process may have open.
const mostOpen = "fs.nr_open"

// CheckLimits tells which limit a program needs that this agent cannot give it.
func CheckLimits(l field.Limits) error {
	for _, x := range limits {
		want := x.of(l)
		var have unix.Rlimit
		if want == 0 || unix.Getrlimit(x.resource, &have) != nil {
			continue
		}
		most := have.Max
		if MayRaise() { // up to what the kernel allows
			most = unix.RLIM_INFINITY
			if x.resource == unix.RLIMIT_NOFILE {
				most = max(have.Max, kernelMost("fs/nr_open"))
			}
		}
		if want > most {
			lacks := &LimitError{why: fmt.Sprintf("it needs %s %s, and %s is the most that can be given here; raise the hard limit of the agent (ulimit -H, or %s= of a service)", x.amount(want), x.words, x.amount(most), x.unit)}
			if MayRaise() && x.resource == unix.RLIMIT_NOFILE {
				lacks.Kernel = &KernelError{Setting: mostOpen, Want: int(want), Have: int(most)}
				lacks.why = fmt.Sprintf("it needs %s %s, and the kernel allows %s of them (%s)", x.amount(want), x.words, x.amount(most), mostOpen)
			}
			return lacks
		}
	}
	return nil
}

// MayRaise tells whether this process may raise hard limits. Not every root may: a container's often may not.
func MayRaise() bool {
	data, _ := os.ReadFile("/proc/self/status")
	_, after, found := strings.Cut(string(data), "CapEff:")
	if !found {
		return false
	}
	caps, err := strconv.ParseUint(strings.TrimSpace(strings.SplitN(after, "\n", 2)[0]), 16, 64)
	return err == nil && caps&(1<<unix.CAP_SYS_RESOURCE) != 0
}

// KernelError says that a setting of the kernel is less than what a program needs.
type KernelError struct {
	Setting    string
	Want, Have int
}

func (e *KernelError) Error() string {
	return fmt.Sprintf("it needs at least %d for the setting %s of the kernel, which is %d; as root: sysctl -w %s=%d, and the same as a line in /etc/sysctl.d for the next start of the machine",
		e.Want, e.Setting, e.Have, e.Setting, e.Want)
}

// CheckKernel tells which setting of the kernel is less than what a program needs.
func CheckKernel(kernel map[string]int) error {
	if errs := KernelLacks(kernel); len(errs) > 0 {
		return errs[0]
	}
	return nil
}

// KernelLacks tells all of them.
func KernelLacks(kernel map[string]int) (lacks []error) {
	for _, name := range slices.Sorted(maps.Keys(kernel)) {
		at := filepath.Join("/proc/sys", filepath.Clean("/"+strings.ReplaceAll(name, ".", "/")))
		data, err := os.ReadFile(at)
		if err != nil {
			lacks = append(lacks, fmt.Errorf("it needs the setting %s of the kernel, and there is none of that name here", name))
			continue
		}
		have, err := strconv.Atoi(strings.Fields(string(data) + " x")[0])
		if err != nil {
			lacks = append(lacks, fmt.Errorf("it needs at least %d for the setting %s of the kernel, which is %q and no number", kernel[name], name, strings.TrimSpace(string(data))))
			continue
		}
		if have < kernel[name] {
			lacks = append(lacks, &KernelError{Setting: name, Want: kernel[name], Have: have})
		}
	}
	return lacks
}

func kernelMost(name string) uint64 {
	data, _ := os.ReadFile("/proc/sys/" + name)
	most, _ := strconv.ParseUint(strings.TrimSpace(string(data)), 10, 64)
	return most
}

// Limiting gives limits to processes as they are started. A process takes the limits of who starts it, so those of the agent are changed for that
// moment, by one at a time.
type Limiting struct {
	sync.Mutex
	first uint64 // how many open files a process had that was given none, before any limit was changed; 0 while none was
}

// Start starts a command with limits.
func (g *Limiting) Start(l field.Limits, start func(*exec.Cmd) error, cmd *exec.Cmd) error {
	g.Lock()
	defer g.Unlock()
	if l == (field.Limits{}) && g.first == 0 {
		return start(cmd)
	}
	if g.first == 0 { // the Go runtime raises its own, and hands on what it was; no more once that is changed
		g.first = 1024
		if out, err := exec.Command("sh", "-c", "ulimit -Sn").Output(); err == nil {
			if n, err := strconv.ParseUint(strings.TrimSpace(string(out)), 10, 64); err == nil {
				g.first = n
			}
		}
	}
	for _, x := range limits {
		want := x.of(l)
		if want == 0 && x.resource == unix.RLIMIT_NOFILE {
			want = g.first
		}
		var before syscall.Rlimit
		if want == 0 || syscall.Getrlimit(x.resource, &before) != nil {
			continue
		}
		if err := syscall.Setrlimit(x.resource, &syscall.Rlimit{Cur: want, Max: max(want, before.Max)}); err != nil {
			return fmt.Errorf("it cannot be given %s %s: %w", x.amount(want), x.words, err)
		}
		defer func() { _ = syscall.Setrlimit(x.resource, &before) }()
	}
	return start(cmd)
}

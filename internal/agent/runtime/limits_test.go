package runtime

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/fit"
)

// A program has the limits that it asks for, those beside it have what they had before, and the agent keeps its own.
func TestProcessesHaveTheLimitsThatTheyAskFor(t *testing.T) {
	var own syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &own); err != nil {
		t.Fatal(err)
	}
	plain, err := exec.Command("sh", "-c", "ulimit -Sn").Output()
	if err != nil {
		t.Fatal(err)
	}
	at := t.TempDir()
	r := NewProcesses(at, false)
	p := r.Member("bells-1", Place{Node: at, Folder: at, Data: at})
	run := func(l field.Limits) string {
		var out bytes.Buffer
		if code, err := p.Exec(context.Background(), &order.Spec{Limits: l}, []string{"awk", "/open files/ { n = $4 } /locked memory/ { l = $4 } /processes/ { p = $3 } END { print n; print l; print p }", "/proc/self/limits"}, &out); err != nil || code != 0 {
			t.Errorf("%d, %v", code, err)
		}
		return out.String()
	}
	was := run(field.Limits{})
	if got, want := run(field.Limits{OpenFiles: 333, LockedMemory: 64 << 10, Processes: 4321}), "333\n65536\n4321\n"; got != want {
		t.Errorf("with limits it has %q, want %q", got, want)
	}
	if got := run(field.Limits{}); got != was {
		t.Errorf("without limits it has %q, and had %q before others had some", got, was)
	}
	var all sync.WaitGroup
	for i := range 40 { // at the same time, each has its own
		all.Go(func() {
			n := uint64(200 + i)
			if got := run(field.Limits{OpenFiles: n}); !strings.HasPrefix(got, fmt.Sprintf("%d\n", n)) {
				t.Errorf("with %d it has %q", n, got)
			}
		})
	}
	all.Wait()
	var now syscall.Rlimit
	if _ = syscall.Getrlimit(syscall.RLIMIT_NOFILE, &now); now != own {
		t.Errorf("the agent had %+v, and has %+v", own, now)
	}
	if !strings.HasPrefix(was, string(plain)) {
		t.Errorf("without limits it has %q, and what is started here has %q", was, plain)
	}
}

// What cannot be given is said before anything is started, with what mends it.
func TestLimitsThatCannotBeGivenAreSaid(t *testing.T) {
	r := NewProcesses(t.TempDir(), false)
	for _, s := range []struct {
		lookup order.Lookup
		says   []string
	}{
		{order.Lookup{Program: "sh", Limits: field.Limits{OpenFiles: 16}}, nil},
		{order.Lookup{Program: "sh", Limits: field.Limits{OpenFiles: 1 << 40}}, []string{"it needs 1099511627776 open files, and ", "is the most that can be given here", "LimitNOFILE="}},
		{order.Lookup{Program: "sh", Kernel: map[string]int{"kernel.pid_max": 100}}, nil},
		{order.Lookup{Program: "sh", Kernel: map[string]int{"vm.max_map_count": 1 << 50}}, []string{"it needs at least 1125899906842624 for the setting vm.max_map_count of the kernel, which is ", "sysctl -w vm.max_map_count=1125899906842624"}},
		{order.Lookup{Program: "sh", Kernel: map[string]int{"vm.max_mop_count": 1}}, []string{"there is none of that name here"}},
		{order.Lookup{Program: "sh", Kernel: map[string]int{"../../etc/hostname": 1}}, []string{"there is none of that name here"}},
	} {
		err := r.Lacks(s.lookup)
		if (err == nil) != (s.says == nil) {
			t.Errorf("%+v: %v", s.lookup, err)
		}
		for _, piece := range s.says {
			if err != nil && !strings.Contains(err.Error(), piece) {
				t.Errorf("%q is not in %q", piece, err)
			}
		}
	}
	var own syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &own); err != nil {
		t.Fatal(err)
	}
	if err := r.Lacks(order.Lookup{Program: "sh", Limits: field.Limits{OpenFiles: own.Max + 1}}); (err == nil) != fit.MayRaise() {
		t.Errorf("one more than the hard limit, where it may be raised %t: %v", fit.MayRaise(), err)
	}
}

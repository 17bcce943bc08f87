package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// hidden lists the processes of a program that slept so long, whatever they gave up.
func hidden(seconds string) (pids []int) {
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range lines {
		if data, _ := os.ReadFile(name); string(data) == "sleep\x00"+seconds+"\x00" {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
			if state, _ := host.Stat(pid); state != 'Z' && state != 0 {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// TestWithoutGroupsWhatWasSeenIsEnded has a program hide a process from its agent where there are no control groups: one that was seen
// before is ended with it; one that was not is named, and nothing is started beside it.
func TestWithoutGroupsWhatWasSeenIsEnded(t *testing.T) {
	for name, test := range map[string]struct {
		seconds, script string
		seen            bool
	}{
		"seen":   {"7001.25", `setsid env -i sleep 7001.25 >/dev/null 2>&1 3>&- & sleep 600`, true},
		"unseen": {"7002.25", `setsid env -i sh -c 'sleep 7002.25 & exit' >/dev/null 2>&1 3>&-; sleep 600`, false},
	} {
		t.Run(name, func(t *testing.T) {
			c, _ := startedWith(t, Options{Dir: t.TempDir(), NoGroups: true})
			t.Cleanup(func() {
				for _, pid := range hidden(test.seconds) {
					_ = syscall.Kill(pid, syscall.SIGKILL)
				}
				waitFor(t, func() bool { return len(hidden(test.seconds)) == 0 })
				host.ReapOrphans()
			})
			spec := sleeper("it")
			spec.Command = []string{"sh", "-c", test.script}
			spec.Restart = field.Restart{After: field.Duration(20 * time.Millisecond)}
			var heard uint64
			put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: spec})
			first := until(t, c, &heard, order.Ready)
			waitFor(t, func() bool { return len(hidden(test.seconds)) == 1 })
			time.Sleep(2500 * time.Millisecond) // it is looked at once a second
			before := hidden(test.seconds)[0]
			var main int
			for _, pid := range host.Children(os.Getpid()) {
				if env, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid)); strings.Contains(string(env), host.EnvIncarnation+"="+strconv.Itoa(first.Incarnation)) {
					main = pid
				}
			}
			if err := syscall.Kill(main, syscall.SIGKILL); err != nil {
				t.Fatal(err)
			}
			if !test.seen {
				if why := until(t, c, &heard, order.StartFailed).Why; !strings.Contains(why, strconv.Itoa(before)+" (sleep) has left the member that started it") {
					t.Errorf("got %s", why)
				}
				if err := syscall.Kill(before, syscall.SIGKILL); err != nil {
					t.Fatal(err)
				}
			}
			until(t, c, &heard, order.Started)
			waitFor(t, func() bool { now := hidden(test.seconds); return len(now) == 1 && now[0] != before })
			put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Gone})
			until(t, c, &heard, order.Removed)
		})
	}
}

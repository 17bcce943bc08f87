package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
)

// started runs an agent in this process and gives a client of it; end ends it as a kill would: members go on.
func started(t *testing.T, dir string) (c *agentapi.Client, end func()) {
	t.Helper()
	return startedWith(t, Options{Dir: dir})
}

func startedWith(t *testing.T, o Options) (c *agentapi.Client, end func()) {
	t.Helper()
	dir := o.Dir
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	authority, us := parties(t)
	ours, theirs := net.Pipe()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		o.Node, o.Address, o.Enrol = "gull-1", "127.0.0.1", theirs
		done <- Run(ctx, o)
		theirs.Close()
	}()
	url, err := authority.Enrol(ours, "gull-1", make([]byte, 32))
	if err != nil {
		t.Fatalf("the agent did not come up: %v %v", err, <-done)
	}
	ended := false
	end = func() {
		if !ended {
			ended = true
			cancel()
			if err := <-done; err != nil {
				t.Error(err)
			}
		}
	}
	t.Cleanup(func() {
		end()
		for _, pid := range host.FindAll(dir) { // members outlive their agent; nobody outlives the test
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		waitFor(t, func() bool { return len(host.FindAll(dir)) == 0 })
		host.RemoveGroups(dir)
	})
	return agentapi.NewClient(url, us.To("gull-1"), nil), end
}

// parties gives the one authority of these tests, and a controller of its.
var parties = func() func(t *testing.T) (*identity.Authority, *identity.Controller) {
	var authority *identity.Authority
	return func(t *testing.T) (*identity.Authority, *identity.Controller) {
		t.Helper()
		var err error
		if authority == nil {
			authority, err = identity.Open(filepath.Join(t.TempDir(), "authority.pem"))
		}
		if err != nil {
			t.Fatal(err)
		}
		us, err := authority.Controller()
		if err != nil {
			t.Fatal(err)
		}
		return authority, us
	}
}()

func sleeper(role field.RoleName) *order.Spec {
	return &order.Spec{Role: role, Address: "127.0.0.1", Command: []string{"sleep", "600"}, Restart: field.Restart{After: field.Duration(20 * time.Millisecond)}}
}

// lives remembers of which life the numbers are that a test has heard.
var lives = map[*uint64]string{}

// until collects reports until one is of that kind.
func until(t *testing.T, c *agentapi.Client, after *uint64, kind order.ReportKind) order.Report {
	t.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for time.Now().Before(deadline) {
		news, err := c.Reports(context.Background(), lives[after], *after, *after, time.Second)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range news.Reports {
			if r.Life != lives[after] {
				if r.Seq != 1 || r.Kind != order.Begun {
					t.Fatalf("a life begins with report %d, %s", r.Seq, r.Kind)
				}
				lives[after], *after = r.Life, 0
			}
			if r.Seq != *after+1 {
				t.Fatalf("report %d after %d: there is a hole", r.Seq, *after)
			}
			*after = r.Seq
			if r.Kind == kind {
				return r
			}
		}
	}
	t.Fatalf("no report of kind %s", kind)
	return order.Report{}
}

func put(t *testing.T, c *agentapi.Client, o order.Order) {
	t.Helper()
	if err := c.Put(context.Background(), o); err != nil {
		t.Fatal(err)
	}
}

func TestMemberOutlivesItsAgentAndIsAdopted(t *testing.T) {
	dir := t.TempDir()
	c, end := started(t, dir)
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")})
	first := until(t, c, &heard, order.Started)
	until(t, c, &heard, order.Ready)
	end()
	if !host.Lives(first.PID, host.StartTime(first.PID)) {
		t.Fatal("the member ended with its agent")
	}

	c, _ = started(t, dir)
	adopted := until(t, c, &heard, order.Adopted)
	if adopted.PID != first.PID || adopted.Incarnation != first.Incarnation {
		t.Errorf("adopted %+v, started %+v", adopted, first)
	}
	p, err := host.Adopt(first.PID, host.StartTime(first.PID))
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	if err := p.Signal(9); err != nil {
		t.Fatal(err)
	}
	exit := until(t, c, &heard, order.Exited)
	t.Logf("the crash of an adopted member was reported after %s", time.Since(begin))
	if exit.PID != first.PID || exit.Attempt != 1 {
		t.Errorf("got %+v", exit)
	}
	again := until(t, c, &heard, order.Started)
	if again.Incarnation != first.Incarnation+1 || again.PID == first.PID {
		t.Errorf("got %+v", again)
	}
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Gone, Spec: sleeper("it")})
	until(t, c, &heard, order.Removed)
	if host.Lives(again.PID, host.StartTime(again.PID)) {
		t.Error("the process of a member that is gone lives")
	}
	if _, err := os.Stat(filepath.Join(dir, "members/it-1")); !os.IsNotExist(err) {
		t.Errorf("the folder of a member that is gone is left: %v", err)
	}
}

func TestOldOrdersAreRefusedAlsoByTheNextAgent(t *testing.T) {
	dir := t.TempDir()
	c, end := started(t, dir)
	var heard uint64
	put(t, c, order.Order{Term: 5, Revision: 7, Member: "it-1", Want: order.Run, Spec: sleeper("it")})
	until(t, c, &heard, order.Started)
	refusals := func(c *agentapi.Client) {
		for _, test := range []struct {
			o    order.Order
			want string
		}{
			{order.Order{Term: 4, Revision: 9, Member: "it-1", Want: order.Gone}, "the order is of term 4, and a controller of term 5 has taken over"},
			{order.Order{Term: 5, Revision: 6, Member: "it-1", Want: order.Gone}, "the order has revision 6, and revision 7 has been taken"},
			{order.Order{Term: 5, Revision: 8, Member: "../it", Want: order.Gone}, `"../it" cannot name a member`},
		} {
			err := c.Put(context.Background(), test.o)
			var refused *agentapi.Refused
			if !errors.As(err, &refused) || refused.Why != test.want && test.o.Member != "../it" {
				t.Errorf("%+v: got %v, want %s", test.o, err, test.want)
			}
		}
	}
	refusals(c)
	end()
	c, _ = started(t, dir)
	refusals(c)
	put(t, c, order.Order{Term: 5, Revision: 7, Member: "it-1", Want: order.Run, Spec: sleeper("it")}) // the same again
	put(t, c, order.Order{Term: 6, Revision: 8, Member: "it-1", Want: order.Gone, Spec: sleeper("it")})
	until(t, c, &heard, order.Removed)
}

func TestASecondAgentOfAFolderIsRefused(t *testing.T) {
	dir := t.TempDir()
	_, _ = started(t, dir)
	if err := Run(context.Background(), Options{Dir: dir, Node: "gull-1", Address: "127.0.0.1"}); !errors.Is(err, ErrRunning) {
		t.Errorf("got %v", err)
	}
}

// sealedDisk is an agent's folder as the agents of these tests seal it.
func sealedDisk(t *testing.T, dir string) layout {
	t.Helper()
	sealer, err := identity.NewSealer(make([]byte, 32))
	if err != nil {
		t.Fatal(err)
	}
	return layout{dir: dir, sealer: sealer}
}

func TestBackOffDoublesUpToItsMost(t *testing.T) {
	m := newMember(layout{dir: t.TempDir()}, runtime.NewProcesses(t.TempDir(), false), nil, "it-1")
	m.order.Spec = &order.Spec{Restart: field.Restart{After: field.Duration(time.Second), Most: field.Duration(10 * time.Second)}}
	for attempt, want := range []time.Duration{0, 1, 2, 4, 8, 10, 10} {
		m.kept.Attempt = attempt
		if got := m.backOff(); attempt > 0 && got != want*time.Second {
			t.Errorf("after %d failures: %s, want %s", attempt, got, want*time.Second)
		}
	}
	m.kept.Attempt = 1_000_000
	if got := m.backOff(); got != 10*time.Second {
		t.Errorf("after a million failures: %s", got)
	}
}

func TestLogsAreCutInPlace(t *testing.T) {
	m := newMember(layout{dir: t.TempDir()}, runtime.NewProcesses(t.TempDir(), false), nil, "it-1")
	if err := os.MkdirAll(filepath.Dir(m.logFile()), 0o755); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(m.logFile(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	line := strings.Repeat("x", 1023) + "\n"
	for range logMost/1024 + 10 {
		fmt.Fprint(f, line)
	}
	fmt.Fprintln(f, "the end")
	rotate(m.logFile())
	fmt.Fprintln(f, "goes on\x1b[2J")
	now, _ := os.ReadFile(m.logFile())
	old, _ := os.ReadFile(m.logFile() + ".1")
	if string(now) != "goes on\x1b[2J\n" || !strings.HasPrefix(string(old), line) || !strings.Contains(string(old), "the end\n{") {
		t.Errorf("%d bytes now, %d kept", len(now), len(old))
	}
	whole := int64((logMost/1024+10)*1024 + len("the end\n"))
	kept := int64(strings.Index(string(old), "{"))
	if l := lostOf(m.logFile() + ".1"); kept < logKeep-1024 || kept > logKeep || l.Bytes != whole-kept || l.Times != 1 {
		t.Errorf("of %d bytes %d are kept, and %+v", whole, kept, l)
	}
	if lines := m.lastLines(); len(lines) != 1 || lines[0] != "goes on" {
		t.Errorf("last lines: %q", lines)
	}
	// Cut again, while it is being written to: every line is either there or counted.
	var wrote atomic.Int64
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			select {
			case <-stop:
				return
			default:
				n, _ := fmt.Fprint(f, line)
				wrote.Add(int64(n))
			}
		}
	}()
	waitFor(t, func() bool { return wrote.Load() > logMost })
	if !rotate(m.logFile()) {
		t.Fatal("it was not cut")
	}
	close(stop)
	<-stopped
	old, _ = os.ReadFile(m.logFile() + ".1")
	now, _ = os.ReadFile(m.logFile())
	l := lostOf(m.logFile() + ".1")
	end := strings.LastIndex(strings.TrimSuffix(string(old), "\n"), "\n") + 1
	there := int64(end + len(now))
	all := wrote.Load() + int64(len("goes on\x1b[2J\n"))
	if missed := all - there - (l.Bytes - (whole - kept)); l.Times != 2 || missed < 0 || missed > logKeep {
		t.Errorf("%d bytes were written, %d are there, and %+v: %d are missed", all, there, l, missed)
	}
	if line := logline.Parse(string(old[end:]), time.UTC); line.Level != logline.Warning || !strings.Contains(line.Text, "this log was cut at 16 MiB: ") || !strings.Contains(line.Text, "in 2 cuts so far") {
		t.Errorf("it says %+v", line)
	}
}

// TestAMemberBeyondItsCeilingIsEnded lets one member have more memory than it may, and another as much as it may. What a
// process started by it has counts too.
func TestAMemberBeyondItsCeilingIsEnded(t *testing.T) {
	c, _ := started(t, t.TempDir())
	var heard uint64
	taker := func(ceiling field.Bytes) *order.Spec {
		s := sleeper("it")
		s.Command = []string{"sh", "-c", `(sh -c 'x=$(head -c 60000000 /dev/zero | tr "\\0" a); sleep 600'); true`}
		s.Ceiling.Memory = ceiling
		return s
	}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: taker(1 << 30)})
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-2", Want: order.Run, Spec: taker(32 << 20)})
	exit := until(t, c, &heard, order.Exited)
	if exit.Member != "it-2" || exit.Exit == nil || !strings.HasPrefix(exit.Exit.Why, "took 5") || !strings.HasSuffix(exit.Exit.Why, "MiB of memory, beyond its ceiling of 32 MiB") {
		t.Errorf("got %+v of %s", exit.Exit, exit.Member)
	}
	waitFor(t, func() bool {
		// Members without a ceiling are weighed while a controller comes for reports.
		_, err := c.Reports(context.Background(), lives[&heard], heard, heard, time.Second)
		all, failed := c.Series(context.Background(), time.Time{})
		return err == nil && failed == nil && len(all["it-1"]) == 1 && all["it-1"][0].Value.Memory > 50<<20
	})
	for i, name := range []field.MemberName{"it-1", "it-2"} {
		put(t, c, order.Order{Term: 1, Revision: uint64(3 + i), Member: name, Want: order.Gone})
		until(t, c, &heard, order.Removed)
	}
}

// waitFor waits until something holds.
func waitFor(t *testing.T, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !holds(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it did not come true")
		}
	}
}

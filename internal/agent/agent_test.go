package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
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
	return agentapi.NewClient(url, us.To("gull-1")), end
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

func TestReportsAreKeptUntilAcknowledged(t *testing.T) {
	name := filepath.Join(t.TempDir(), "reports.ndjson")
	l, err := openReports(name, "a", "")
	if err != nil {
		t.Fatal(err)
	}
	for range 5 {
		l.add(order.Report{Kind: order.Ready, Member: "it-1"})
	}
	l.acknowledge("a", 2)
	// The agent dies while it writes: the last line is cut short.
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(f, `{"seq":6,"kind":"rea`)
	f.Close()

	if l, err = openReports(name, "b", ""); err != nil {
		t.Fatal(err)
	}
	after := func(life string, seq uint64) string {
		var out []string
		for _, r := range l.since(life, seq) {
			out = append(out, fmt.Sprint(r.Life, r.Seq))
		}
		return strings.Join(out, " ")
	}
	l.add(order.Report{Kind: order.Ready})
	// Who has heard all of the life before, also what was not acknowledged, hears the new one only; so does who has heard more of it
	// than was left on the disk.
	for _, test := range []struct {
		life string
		seq  uint64
		want string
	}{{"a", 2, "a3 a4 a5 b1"}, {"a", 5, "b1"}, {"a", 9, "b1"}, {"b", 0, "a1 a2 a3 a4 a5 b1"}, {"b", 1, ""}, {"", 0, "a1 a2 a3 a4 a5 b1"}} {
		if got := after(test.life, test.seq); got != test.want {
			t.Errorf("after %s%d: got %q, want %q", test.life, test.seq, got, test.want)
		}
	}
	l.acknowledge("a", 4)
	if got := after("", 0); got != "a5 b1" {
		t.Errorf("got %q", got)
	}
	l.acknowledge("b", 1)
	if err := l.compact(); err != nil {
		t.Fatal(err)
	}
	if l, err = openReports(name, "c", ""); err != nil {
		t.Fatal(err)
	}
	l.add(order.Report{Kind: order.Ready})
	if got := after("b", 1); got != "c1" {
		t.Errorf("after all was acknowledged: %q", got)
	}
}

// TestALongReportHidesNone has one that is larger than a reader's buffer among others.
func TestALongReportHidesNone(t *testing.T) {
	name := filepath.Join(t.TempDir(), "reports.ndjson")
	l, err := openReports(name, "a", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, why := range []string{"short", strings.Repeat("long", 1<<19), "short"} {
		l.add(order.Report{Kind: order.Unready, Member: "it-1", Why: why})
	}
	if l, err = openReports(name, "b", ""); err != nil || len(l.kept) != 3 {
		t.Errorf("%d reports are left: %v", len(l.kept), err)
	}
}

// TestReportsOfAWeekWithoutControllerStaySmall has a member crash over and over while nobody comes.
func TestReportsOfAWeekWithoutControllerStaySmall(t *testing.T) {
	name := filepath.Join(t.TempDir(), "reports.ndjson")
	l, err := openReports(name, "a", "")
	if err != nil {
		t.Fatal(err)
	}
	const crashes = 20_000
	l.add(order.Report{Kind: order.Taken, Member: "it-1", Revision: 1})
	l.add(order.Report{Kind: order.Removed, Member: "it-2"})
	for i := range crashes {
		l.add(order.Report{Kind: order.Started, Member: "it-1", Incarnation: i})
		l.add(order.Report{Kind: order.Exited, Member: "it-1", Incarnation: i})
	}
	if len(l.kept) > mostReports {
		t.Errorf("%d reports are kept", len(l.kept))
	}
	dropped, last := 0, uint64(0)
	kinds := map[order.ReportKind]bool{}
	for _, r := range l.kept {
		if r.Seq <= last {
			t.Fatalf("report %d comes after %d", r.Seq, last)
		}
		last = r.Seq
		kinds[r.Kind] = true
		if r.Kind == order.Dropped {
			dropped += r.Attempt
		}
	}
	if !kinds[order.Taken] || !kinds[order.Removed] || last != 2*crashes+2 || dropped+len(l.kept)-1 != 2*crashes+2 {
		t.Errorf("kinds %v, last %d, %d dropped and %d kept", kinds, last, dropped, len(l.kept))
	}
	if info, err := os.Stat(name); err != nil || info.Size() > 4<<20 {
		t.Errorf("the file: %v, %v", info.Size(), err)
	}
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

// probed serves answers and asks about them.
func probed(t *testing.T, handler http.HandlerFunc) *asker {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	host, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	number, _ := strconv.Atoi(port)
	m := newMember(layout{dir: t.TempDir()}, runtime.NewProcesses(t.TempDir(), false), nil, "it-1")
	return m.asker(&order.Spec{Address: host, Ports: map[string]order.Port{"main": {Number: number}}})
}

func TestProbesJudgeAnswers(t *testing.T) {
	a := probed(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/health":
			fmt.Fprint(w, `{"health":"true","members":[{"ID":"7","name":"it-1"},{"ID":"8","name":"","isLearner":true}],"leader":7,"me":7,"term":"12"}`)
		case "/method":
			fmt.Fprint(w, r.Method)
		case "/rude":
			fmt.Fprint(w, "\x1b[2Jboo")
		case "/slow":
			<-r.Context().Done()
		default:
			http.Error(w, "no", http.StatusTeapot)
		}
	})
	probe := func(path, body, expect string) *field.Probe {
		return &field.Probe{Call: field.Call{HTTP: &field.HTTPCall{Port: "main", Path: path, Body: body}}, Expect: expect}
	}
	for _, test := range []struct {
		probe *field.Probe
		want  string
	}{
		{probe("/health", "", `body.health == "true"`), ""},
		{probe("/health", "", `body.health == "false"`), "the answer was {\"health\":\"true\",\"leader\":7,\"me\":7,\"members\":[{\"ID\":\"7\",\"name\":\"it-1\"},{\"ID\":\"8\",\"isLearner\":true,\"name\":\"\"}],\"term\":\"12\"}, and `body.health == \"false\"` does not hold"},
		{probe("/method", "", `body == "GET"`), ""},
		{probe("/method", "{}", `body == "POST"`), ""},
		{probe("/nowhere", "", ""), "the answer was HTTP status 418"},
		{probe("/nowhere", "", "status == 418"), ""},
		{probe("/rude", "", "false"), "the answer was boo, and `false` does not hold"},
		{probe("/slow", "", ""), "GET /slow: no answer in time"},
		{probe("/rude", "", "body.x.y"), "the answer was boo, and `body.x.y` cannot be evaluated on it: "},
		{&field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "main"}}}, ""},
		{&field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "main", Send: "GET /method HTTP/1.0\r\n\r\n", Expect: "200 OK"}}}, ""},
		{&field.Probe{Call: field.Call{Exec: []string{"sh", "-c", "echo tide; exit 4"}}}, "sh ended with exit code 4: tide"},
		{&field.Probe{Call: field.Call{Exec: []string{"echo", "high"}}, Expect: `trim(output) == "high" and code == 0`}, ""},
		{&field.Probe{Call: field.Call{Exec: []string{"sleep", "60"}}}, "sleep took too long"},
		{&field.Probe{Call: field.Call{Exec: []string{"no-such-program"}}}, `the program "no-such-program" is not installed`},
	} {
		err := a.check(context.Background(), test.probe, 300*time.Millisecond)
		if (err == nil) != (test.want == "") || err != nil && !strings.HasPrefix(err.Error(), test.want) {
			t.Errorf("%+v: got %v, want %q", test.probe, err, test.want)
		}
	}
	leads, term, err := a.leads(context.Background(), &field.LeaderProbe{Call: probe("/health", "", "").Call, IsMe: "body.leader == body.me", Term: "int(body.term)"})
	if !leads || term != 12 || err != nil {
		t.Errorf("leads: %v %d %v", leads, term, err)
	}
	roster, err := a.roster(context.Background(), &field.RosterProbe{Call: probe("/health", "", "").Call, Each: "body.members", ID: "item.ID", Name: "item.name", Voter: "not (item.isLearner ?? false)"})
	if err != nil || fmt.Sprint(roster) != "[{8  false} {7 it-1 true}]" {
		t.Errorf("roster: %v %v", roster, err)
	}
	if _, err := a.roster(context.Background(), &field.RosterProbe{Call: probe("/health", "", "").Call, Each: "body.leader", ID: "1", Name: "1"}); err == nil {
		t.Error("a number was taken for a roster")
	}
}

// TestStartUpLeavesASlowAnswerEarly shows that a start-up's probe does not wait out its whole timeout on a call that a
// starting program leaves hanging.
func TestStartUpLeavesASlowAnswerEarly(t *testing.T) {
	asked := make(chan struct{}, 100)
	first := true
	a := probed(t, func(w http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		if first {
			first = false
			<-r.Context().Done()
		}
	})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	ready := make(chan struct{})
	w := &watcher{member: "it-1", spec: a.spec, ask: a, since: time.Now(), report: func(r order.Report) {
		if r.Kind == order.Ready {
			close(ready)
		}
	}, measure: func(agentapi.Measure) {}, becameReady: func() {}, hung: func() {}}
	w.spec.Ready = &field.Probe{Call: field.Call{HTTP: &field.HTTPCall{Port: "main"}}, Timeout: field.Duration(time.Minute)}
	go w.run(ctx)
	select {
	case <-ready:
	case <-time.After(20 * time.Second):
		t.Fatalf("not ready after %d calls", len(asked))
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
	if string(now) != "goes on\x1b[2J\n" || len(old) != logKeep || !strings.HasSuffix(string(old), "the end\n") {
		t.Errorf("%d bytes now, %d kept", len(now), len(old))
	}
	if lines := m.lastLines(); len(lines) != 1 || lines[0] != "goes on" {
		t.Errorf("last lines: %q", lines)
	}
}

// TestAFullDiskRefusesOrdersAndLosesNothing runs an agent on a file system that is too small.
func TestAFullDiskRefusesOrdersAndLosesNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a small file system takes root to mount")
	}
	dir := t.TempDir()
	if err := syscall.Mount("lantern", dir, "tmpfs", 0, "size=256k"); err != nil {
		t.Skipf("no small file system here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	c, end := started(t, dir)
	t.Cleanup(end) // before the file system goes
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")})
	first := until(t, c, &heard, order.Ready)
	filler := filepath.Join(dir, "filler")
	f, err := os.Create(filler)
	if err != nil {
		t.Fatal(err)
	}
	for err == nil {
		_, err = f.Write(make([]byte, 512))
	}
	f.Close()

	err = c.Put(context.Background(), order.Order{Term: 1, Revision: 2, Member: "it-2", Want: order.Run, Spec: sleeper("it")})
	var refused *agentapi.Refused
	if !errors.As(err, &refused) || refused.Status != http.StatusInsufficientStorage || !strings.HasPrefix(refused.Why, "the disk is full (") {
		t.Errorf("an order on a full disk: %v", err)
	}
	// A crash on a full disk is reported all the same, and tried again until there is space.
	for _, pid := range host.FindAll(dir) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	if exit := until(t, c, &heard, order.Exited); exit.Incarnation != first.Incarnation {
		t.Errorf("got %+v", exit)
	}
	if why := until(t, c, &heard, order.StartFailed).Why; !strings.HasPrefix(why, "the disk is full (") {
		t.Errorf("a start on a full disk: %s", why)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	until(t, c, &heard, order.Ready)
	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-2", Want: order.Gone, Spec: sleeper("it")})
	put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Gone, Spec: sleeper("it")})
	until(t, c, &heard, order.Removed)
	until(t, c, &heard, order.Removed)
}

// TestDataIsPutAsideAndTakenBack removes a member whose data is kept, has it come back to it, and has it deleted.
func TestDataIsPutAsideAndTakenBack(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	var heard uint64
	writer := sleeper("it")
	writer.Command = []string{"sh", "-c", "cat data/book >> data/book2; printf sailed >> data/book; exec sleep 600"}
	book := filepath.Join(dir, "members", "it-1", "data", "book")
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: writer})
	until(t, c, &heard, order.Started)
	waitFor(t, func() bool { return content(book) == "sailed" })

	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Gone, Keep: true, Spec: writer})
	if r := until(t, c, &heard, order.Removed); !r.Kept || r.Bytes != int64(len("sailed")) {
		t.Errorf("reported as kept: %t, %d bytes", r.Kept, r.Bytes)
	}
	if _, err := os.Stat(filepath.Join(dir, "members", "it-1")); !os.IsNotExist(err) {
		t.Errorf("the folder of a member that is gone is left: %v", err)
	}

	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-1", Want: order.Run, Spec: writer})
	until(t, c, &heard, order.Started)
	waitFor(t, func() bool { return content(book) == "sailedsailed" })

	kept := filepath.Join(dir, "kept", "it-1")
	put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Gone, Keep: true, Spec: writer})
	until(t, c, &heard, order.Removed)
	if content(filepath.Join(kept, "book")) != "sailedsailed" {
		t.Errorf("kept was %q", content(filepath.Join(kept, "book")))
	}
	put(t, c, order.Order{Term: 1, Revision: 5, Member: "it-1", Want: order.Gone})
	if r := until(t, c, &heard, order.Removed); r.Kept {
		t.Error("data that was to be deleted is reported as kept")
	}
	if _, err := os.Stat(kept); !os.IsNotExist(err) {
		t.Errorf("data that was to be deleted is left: %v", err)
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

// TestDataIsNeverPutOverOther has data put aside where some is already: neither is lost.
func TestDataIsNeverPutOverOther(t *testing.T) {
	l := layout{dir: t.TempDir()}
	for _, name := range []string{filepath.Join(l.data("it-1"), "new"), filepath.Join(l.aside("it-1"), "old")} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, []byte("x"), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	if _, _, err := l.retainData("it-1"); err == nil || !strings.Contains(err.Error(), "Move one of the two away") {
		t.Errorf("putting aside over other data: %v", err)
	}
	if err := l.restoreData("it-1"); err == nil || !strings.Contains(err.Error(), "Move one of the two away") {
		t.Errorf("taking back over other data: %v", err)
	}
	if content(filepath.Join(l.data("it-1"), "new")) != "x" || content(filepath.Join(l.aside("it-1"), "old")) != "x" {
		t.Error("data was lost")
	}
}

func content(name string) string {
	data, _ := os.ReadFile(name)
	return string(data)
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

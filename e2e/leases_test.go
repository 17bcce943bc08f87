package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

const leased = `format: 1
field: harbour-leases
nodes:
  - {name: "gull-{1..2}", zone: north-quay}
  - {name: "tern-{1..2}", zone: south-quay}
  - {name: skua-1, zone: lighthouse}
roles:
  tariffs: {kit: etcd, members: 3}
  berths: {kit: postgresql, members: 3, lease: {store: tariffs}, settings: {database: berths}}
  desk: {kit: haproxy, members: 1, calls: {members: berths}}
place:
  tariffs: [gull-1, tern-1, skua-1]
  berths: [gull-2, tern-2, skua-1]
  desk: [gull-1]
`

// commit is a write that was acknowledged.
type commit struct {
	id           int64
	begun, ended time.Time
	line         string // the timeline on which it was written
	entry        bool   // it came through the entry, as those of clients do
}

// observer writes, through the entry and to every member, and remembers what was acknowledged.
type observer struct {
	config  *pgx.ConnConfig
	done    chan struct{}
	all     sync.WaitGroup
	next    atomic.Int64
	mu      sync.Mutex
	commits []commit
	failed  atomic.Int64
}

// insert is one transaction, which says on which timeline it was written.
const insert = "insert into calls values ($1) returning substr(pg_walfile_name(pg_current_wal_lsn()), 1, 8)"

// writes goes on writing until the observer ends, so many times a second, each time with a fresh number. What has no answer within a second and a
// half counts as failed, and another connection is made.
func (o *observer) writes(config *pgx.ConnConfig, every time.Duration, entry bool) {
	var conn *pgx.Conn
	drop := func() {
		if conn != nil {
			_ = conn.PgConn().Conn().Close() // without asking that what goes on is given up: that could have it acknowledged
			conn = nil
		}
	}
	defer drop()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-o.done:
			return
		case <-tick.C:
		}
		if conn == nil {
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			c, err := pgx.ConnectConfig(ctx, config)
			cancel()
			if err != nil {
				o.failed.Add(1)
				continue
			}
			conn = c
		}
		w := commit{id: o.next.Add(1), begun: time.Now(), entry: entry}
		_ = conn.PgConn().Conn().SetDeadline(w.begun.Add(1500 * time.Millisecond))
		if err := conn.QueryRow(context.Background(), insert, w.id).Scan(&w.line); err != nil {
			o.failed.Add(1)
			var refused *pgconn.PgError
			if !errors.As(err, &refused) || refused.Severity != "ERROR" { // else it says that it only reads, and goes on
				drop()
			}
			continue
		}
		w.ended = time.Now()
		o.mu.Lock()
		o.commits = append(o.commits, w)
		o.mu.Unlock()
	}
}

// after gives when the first write through the entry was acknowledged that had begun after a time; zero where none was.
func (o *observer) after(t time.Time) (at time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for i := len(o.commits) - 1; i >= 0 && o.commits[i].ended.After(t); i-- {
		if w := o.commits[i]; w.entry && w.begun.After(t) {
			at = w.ended
		}
	}
	return at
}

// observe begins to write: through the entry by eight clients, and to every member by one each. Soaking, that is 200 times a second and 20 times a second; else a
// fifth of that, as other tests go on beside it.
func observe(x *trial, s status) *observer {
	o := &observer{done: make(chan struct{})}
	config, err := pgx.ParseConfig(x.access("berths").url)
	if err != nil {
		x.Fatal(err)
	}
	config.DefaultQueryExecMode = pgx.QueryExecModeExec
	config.ConnectTimeout = time.Second
	o.config = config
	conn, err := pgx.ConnectConfig(context.Background(), config)
	if err == nil {
		_, err = conn.Exec(context.Background(), "create table calls (n bigint primary key)")
		_ = conn.Close(context.Background())
	}
	if err != nil {
		x.Fatal(err)
	}
	slower := 5 * time.Second
	if os.Getenv("LANTERNFIELD_SOAK") != "" {
		slower = time.Second
	}
	for range 8 {
		o.all.Go(func() { o.writes(config, 8*slower/200, true) })
	}
	for _, m := range s.Members {
		if m.Role == "berths" {
			own := config.Copy()
			own.Host, own.Port, own.Fallbacks, own.ValidateConnect = m.Address, uint16(m.Ports["client"]), nil, nil
			own.TLSConfig.ServerName = m.Address
			o.all.Go(func() { o.writes(own, slower/20, false) })
		}
	}
	x.Cleanup(o.end)
	return o
}

func (o *observer) end() {
	select {
	case <-o.done:
	default:
		close(o.done)
	}
	o.all.Wait()
}

// check looks for what may not be: a write that was acknowledged and is not there, and two that acknowledged writes at the same time. Each time that another
// comes to lead, a new timeline begins, so of no two timelines may a write of the earlier one begin after one of the later one was acknowledged.
func (o *observer) check(x *trial) {
	x.Helper()
	var conn *pgx.Conn
	for until := time.Now().Add(30 * time.Second); conn == nil; time.Sleep(100 * time.Millisecond) {
		c, err := pgx.ConnectConfig(context.Background(), o.config)
		if conn = c; err != nil && time.Now().After(until) {
			x.Fatal(err)
		}
	}
	defer conn.Close(context.Background())
	rows, err := conn.Query(context.Background(), "select n from calls")
	if err != nil {
		x.Fatal(err)
	}
	there, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		x.Fatal(err)
	}
	kept := map[int64]bool{}
	for _, n := range there {
		kept[n] = true
	}
	first := map[string]time.Time{} // when the first write of a timeline was acknowledged
	lost := 0
	for _, w := range o.commits {
		if !kept[w.id] {
			lost++
			x.Errorf("%d was acknowledged at %s on timeline %s, and is gone", w.id, w.ended.Format("15:04:05.000"), w.line)
		}
		if at, known := first[w.line]; !known || w.ended.Before(at) {
			first[w.line] = w.ended
		}
	}
	for _, w := range o.commits {
		for line, at := range first {
			if line > w.line && w.begun.After(at) {
				x.Errorf("%d began at %s and was acknowledged on timeline %s, when %s had been written on since %s", w.id, w.begun.Format("15:04:05.000"), w.line, line, at.Format("15:04:05.000"))
			}
		}
	}
	x.Logf("%d writes acknowledged, %d of them lost, on %d timelines; %d tries without an answer", len(o.commits), lost, len(first), o.failed.Load())
}

// guardOf gives the process that guards a member.
func (x *trial) guardOf(name string) int {
	for _, pid := range x.guards("/members/" + name + "/guarded.sh") {
		return pid
	}
	return 0
}

// guards lists the guards of this trial with that in their command line.
func (x *trial) guards(text string) (pids []int) {
	entries, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, e := range entries {
		data, _ := os.ReadFile(e)
		if strings.HasPrefix(string(data), "lanternfield\x00guard\x00") && strings.Contains(string(data), x.state) && strings.Contains(string(data), text) {
			var pid int
			fmt.Sscanf(e, "/proc/%d/", &pid)
			pids = append(pids, pid)
		}
	}
	return pids
}

// below lists a process and all that lives below it.
func below(pid int) []int {
	pids := []int{pid}
	for i := 0; i < len(pids); i++ {
		data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pids[i], pids[i]))
		if all, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pids[i])); len(all) > 1 {
			data = nil
			for _, f := range all {
				more, _ := os.ReadFile(f)
				data = append(data, more...)
			}
		}
		for _, child := range strings.Fields(string(data)) {
			var n int
			fmt.Sscan(child, &n)
			pids = append(pids, n)
		}
	}
	return pids
}

// programOf gives the main process of a member that has a guard.
func (x *trial) programOf(name string) int {
	for _, pid := range below(x.guardOf(name)) {
		if data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); strings.HasPrefix(string(data), "postgres\x00-D") {
			return pid
		}
	}
	return 0
}

func send(s syscall.Signal, pids ...int) {
	for _, pid := range pids {
		if pid > 1 {
			_ = syscall.Kill(pid, s)
		}
	}
}

// leadKept is what the guards' own files say of who holds the lease, and by which number.
func (x *trial) leadKept() (name string, number uint64) {
	files, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "members", "berths-*", "data", "lease", "kept.json"))
	for _, f := range files {
		var k struct {
			Number uint64
			Lead   string
		}
		if data, err := os.ReadFile(f); err == nil && json.Unmarshal(data, &k) == nil && k.Number > number {
			name, number = k.Lead, k.Number
		}
	}
	return name, number
}

// fault is something that befalls who leads, and what sets it right again.
type fault struct {
	name string
	do   func(x *trial, s status, leader string) (mend func())
}

func nothing() {}

// once has something done the first time only, also where that fails the test: what sync.OnceFunc gives panics the next time, and all other tests with it.
func once(do func()) func() {
	var first sync.Once
	return func() { first.Do(do) }
}

// faults are what may befall who leads; the first few are done by every run.
var faults = []fault{
	{"process killed", func(x *trial, _ status, leader string) func() {
		send(syscall.SIGKILL, x.programOf(leader))
		return nothing
	}},
	{"guard stopped", func(x *trial, _ status, leader string) func() {
		guard := x.guardOf(leader)
		send(syscall.SIGSTOP, guard)
		return func() { send(syscall.SIGCONT, guard) }
	}},
	{"agent killed, then process", func(x *trial, s status, leader string) func() {
		send(syscall.SIGKILL, x.agentOf(s.member(leader).Node))
		send(syscall.SIGKILL, x.programOf(leader))
		return func() { x.must("deploy", x.file, "--yes", "--timeout", "120s"); x.unkept() }
	}},
	{"replication cut, then process killed", func(x *trial, s status, leader string) func() {
		cut := x.receivers(leader)
		send(syscall.SIGSTOP, cut...)
		x.until("the other follower may take over, or the cut one did not count", 15*time.Second, func() bool { return x.mayTakeOver(leader, cut) })
		send(syscall.SIGKILL, x.programOf(leader))
		return func() { send(syscall.SIGCONT, cut...) }
	}},
	{"process stopped", func(x *trial, _ status, leader string) func() {
		send(syscall.SIGSTOP, below(x.programOf(leader))...)
		return nothing // its guard ends it
	}},
	{"guard killed", func(x *trial, _ status, leader string) func() {
		send(syscall.SIGKILL, x.guardOf(leader))
		return nothing
	}},
	{"all of a node stopped", func(x *trial, s status, leader string) func() {
		agent := x.agentOf(s.member(leader).Node)
		pids := below(agent)
		for _, guard := range x.guards("/nodes/" + s.member(leader).Node + "/") {
			pids = append(pids, below(guard)...)
		}
		send(syscall.SIGSTOP, pids...)
		return func() { send(syscall.SIGCONT, pids...) }
	}},
}

// receivers gives the process that receives what a leader writes, of one of those that follow it.
func (x *trial) receivers(leader string) []int {
	for _, guard := range x.guards("/members/berths-") {
		if guard == x.guardOf(leader) {
			continue
		}
		for _, pid := range below(guard) {
			if data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); strings.Contains(string(data), "walreceiver") {
				return []int{pid}
			}
		}
	}
	return nil
}

// why is what the guard of a member says now.
func (x *trial) why(name string) string {
	files, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "members", name, "data", "lease", "why"))
	if len(files) != 1 {
		return ""
	}
	data, _ := os.ReadFile(files[0])
	return strings.TrimSpace(string(data))
}

// mayTakeOver tells whether the guard of who leads says that somebody may take over whose receiving is not cut.
func (x *trial) mayTakeOver(leader string, cut []int) bool {
	said, _ := strings.CutPrefix(x.why(leader), "it leads, and ")
	name, is := strings.CutSuffix(said, " may take over")
	guard := x.guardOf(name)
	return is && guard > 0 && !slices.Contains(below(guard), cut[0])
}

// TestFailover has the leader of a database lost in many ways while nobody keeps the field. Clients write again by themselves, and nothing that was
// acknowledged is lost; two never lead. Soaking does it forty times, in all the ways.
func TestFailover(t *testing.T) {
	t.Parallel()
	x := newTrial(t, leased)
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	s := x.status()
	o := observe(x, s)
	x.unkept()
	t.Cleanup(x.guardsSaid)
	soak := os.Getenv("LANTERNFIELD_SOAK") != ""
	rounds := 4
	if soak {
		rounds = 40
	}
	var table strings.Builder
	for i := range rounds {
		f := faults[i%len(faults)]
		x.until("all three follow or lead, and one may take over", 60*time.Second, func() bool { return x.settled() })
		leader, number := x.leadKept()
		mend := once(f.do(x, s, leader))
		t.Cleanup(mend)
		at := time.Now()
		x.until(fmt.Sprintf("after %s (%s): another leads", f.name, leader), 30*time.Second, func() bool {
			_, now := x.leadKept()
			return now > number
		})
		elected := time.Since(at)
		x.until("clients write again", 30*time.Second, func() bool { return !o.after(at.Add(elected)).IsZero() })
		again := o.after(at.Add(elected)).Sub(at)
		now, _ := x.leadKept()
		fmt.Fprintf(&table, "%2d  %-38s %s -> %s  another held the lease after %5.1f s, writes after %5.1f s\n", i+1, f.name, leader, now, elected.Seconds(), again.Seconds())
		if soak && (again > 25*time.Second || f.name == "process killed" && again > 7*time.Second) {
			t.Errorf("%s: clients write again after %.1f s", f.name, again.Seconds())
		}
		mend()
	}
	x.until("all three follow or lead, and one may take over", 60*time.Second, func() bool { return x.settled() })
	o.end()
	t.Logf("\n%s", table.String())
	o.check(x)
}

// guardsSaid shows what guards have said, where the test has failed.
func (x *trial) guardsSaid() {
	if !x.Failed() {
		return
	}
	var lines []string
	logs, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "agent", "logs", "berths-*.log"))
	for _, log := range logs {
		data, _ := os.ReadFile(log)
		for line := range strings.Lines(string(data)) {
			if at, said, is := strings.Cut(line, " guard: "); is {
				lines = append(lines, at+" "+strings.TrimSuffix(filepath.Base(log), ".log")+": "+strings.TrimSpace(said))
			}
		}
	}
	for _, log := range logs {
		data, _ := os.ReadFile(log)
		x.Logf("%s:\n%s", filepath.Base(log), tail(string(data), 25))
	}
	slices.Sort(lines)
	x.Logf("guards said:\n%s", strings.Join(lines[max(0, len(lines)-60):], "\n"))
}

// settled tells whether the guards say that one leads, that somebody may take over, and that two follow.
func (x *trial) settled() bool {
	follows := 0
	for _, name := range []string{"berths-1", "berths-2", "berths-3"} {
		if x.why(name) == "it follows" {
			follows++
		}
	}
	leader, _ := x.leadKept()
	return follows == 2 && x.mayTakeOver(leader, []int{0})
}

// processOf gives the main process of a member that has no guard.
func processOf(s status, name string) int { return s.member(name).PID }

// TestALeaseStoreThatLosesItsQuorum has the majority of the etcd stopped: nobody can take over, and who leads goes on, as long as all other guards promise
// that. When one of them does not, it ends its program before the lease does; when the etcd is back, somebody leads again.
func TestALeaseStoreThatLosesItsQuorum(t *testing.T) {
	soaking(t)
	t.Parallel()
	x := newTrial(t, strings.Replace(leased, "harbour-leases", "harbour-quorum", 1))
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	s := x.status()
	o := observe(x, s)
	x.unkept()
	t.Cleanup(x.guardsSaid)
	x.until("all three follow or lead, and one may take over", 60*time.Second, x.settled)
	leader, number := x.leadKept()

	stopped := []int{processOf(s, "tariffs-1"), processOf(s, "tariffs-2")}
	send(syscall.SIGSTOP, stopped...)
	t.Cleanup(func() { send(syscall.SIGCONT, stopped...) })
	began := time.Now()
	for time.Since(began) < 12*time.Second { // more than two leases
		at := time.Now()
		x.until("writes go on without the store, by promises", 3*time.Second, func() bool { return !o.after(at).IsZero() })
		time.Sleep(200 * time.Millisecond)
	}

	other := "berths-1"
	if other == leader {
		other = "berths-2"
	}
	guard := x.guardOf(other)
	send(syscall.SIGSTOP, guard)
	t.Cleanup(func() { send(syscall.SIGCONT, guard) })
	took := x.until("who leads ends its program when one guard does not promise", 8*time.Second, func() bool { return strings.Contains(x.said(leader), "the lease could not be renewed in time") })
	t.Logf("without a promise: its program ended after %.1f s", took.Seconds())
	at := time.Now()
	x.until("two leases pass, and nobody leads", 20*time.Second, func() bool {
		if now, n := x.leadKept(); n != number || now != leader {
			t.Fatalf("%s took over by number %d without the store", now, n)
		}
		return time.Since(at) > 10*time.Second
	})
	if !o.after(at).IsZero() {
		t.Error("somebody acknowledged a write that nobody may lead for")
	}

	send(syscall.SIGCONT, guard)
	send(syscall.SIGCONT, stopped...)
	at = time.Now()
	took = x.until("somebody leads again", 20*time.Second, func() bool { return !o.after(at).IsZero() })
	t.Logf("with the store again: writes after %.1f s", took.Seconds())
	o.end()
	o.check(x)
}

// said is all that the guard of a member has said.
func (x *trial) said(name string) string {
	var out strings.Builder
	logs, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "agent", "logs", name+".log"))
	for _, log := range logs {
		data, _ := os.ReadFile(log)
		for line := range strings.Lines(string(data)) {
			if _, said, is := strings.Cut(line, " guard: "); is {
				out.WriteString(said)
			}
		}
	}
	return out.String()
}

// TestTheLeadIsGivenOnPurpose pauses taking over, has the leader die and come back, goes on, and has the lead handed over by what people do: a restart of the
// leader, and a scale back by which it goes.
func TestTheLeadIsGivenOnPurpose(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(leased, "harbour-leases", "harbour-handing", 1))
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	s := x.status()
	o := observe(x, s)
	t.Cleanup(x.guardsSaid)
	settled := func() {
		t.Helper()
		x.until("all three follow or lead, and one may take over", 60*time.Second, x.settled)
	}
	settled()
	file, err := os.ReadFile(x.file)
	if err != nil {
		t.Fatal(err)
	}
	paused := strings.Replace(string(file), "lease: {store: tariffs}", "lease: {store: tariffs, paused: true}", 1)
	x.write(paused)
	out := x.must("deploy", x.file, "--yes", "--timeout", "60s")
	leader, number := x.leadKept()
	if now := x.status(); !strings.Contains(now.Verdict, "taking over is paused") {
		t.Errorf("paused: %s\n%s", now.Verdict, out)
	}
	at := time.Now()
	send(syscall.SIGKILL, x.programOf(leader))
	x.until("it leads again by itself", 20*time.Second, func() bool { now, n := x.leadKept(); return n > number && now == leader })
	x.until("writes go on", 20*time.Second, func() bool { return !o.after(at.Add(time.Second)).IsZero() })
	x.write(string(file))
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	settled()

	leader, number = x.leadKept()
	at = time.Now()
	x.must("restart", x.file, leader, "--yes", "--timeout", "60s")
	x.until("another leads", 10*time.Second, func() bool { now, n := x.leadKept(); return n > number && now != leader })
	x.until("writes go on", 20*time.Second, func() bool { return !o.after(at.Add(2 * time.Second)).IsZero() })
	t.Logf("restarting the leader: the longest time without an answer was %.1f s", o.gap(at).Seconds())
	settled()
	o.end()
	o.check(x)
}

// gap is the longest time in which no write was acknowledged, since a time.
func (o *observer) gap(since time.Time) (longest time.Duration) {
	o.mu.Lock()
	defer o.mu.Unlock()
	var ends []time.Time
	for _, w := range o.commits {
		if w.entry && w.ended.After(since) {
			ends = append(ends, w.ended)
		}
	}
	slices.SortFunc(ends, time.Time.Compare)
	for i := 1; i < len(ends); i++ {
		longest = max(longest, ends[i].Sub(ends[i-1]))
	}
	return longest
}

// TestALeasedRoleGrowsAndShrinks has a role with a lease scaled up and down under writes, past its leader, and its store lose what it knew: nobody takes over by it
// before a person says whose data counts.
func TestALeasedRoleGrowsAndShrinks(t *testing.T) {
	soaking(t)
	t.Parallel()
	content := leased[:strings.Index(leased, "place:")]
	x := newTrial(t, strings.Replace(content, "harbour-leases", "harbour-sizes", 1))
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	o := observe(x, x.status())
	t.Cleanup(x.guardsSaid)
	x.until("all three follow or lead, and one may take over", 60*time.Second, x.settled)
	for _, members := range []string{"5", "2", "3"} {
		at := time.Now()
		x.must("scale", x.file, "berths", members, "--yes", "--timeout", "120s")
		x.until("writes go on with "+members, 20*time.Second, func() bool { return !o.after(at.Add(time.Second)).IsZero() })
		if now := x.status(); now.State != "converged" {
			t.Errorf("with %s: %s", members, now.Verdict)
		}
		t.Logf("to %s members: the longest time without an answer was %.1f s", members, o.gap(at).Seconds())
	}
	o.end()
	o.check(x)

	// The store is put back to an earlier state.
	leader, number := x.leadKept()
	store := x.access("tariffs")
	record := "/lanternfield/harbour-sizes/berths/record"
	if out, err := store.runs("etcdctl", "put", record, fmt.Sprintf(`{"number": %d, "lead": "berths-9", "sync": ["berths-1", "berths-2", "berths-3"]}`, number-1)).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	x.unkept()
	send(syscall.SIGKILL, x.guardOf(leader))
	var others []string
	for _, m := range x.status().Members {
		if m.Role == "berths" {
			others = append(others, m.Member)
		}
	}
	x.until("all see it, and nobody takes over", 30*time.Second, func() bool {
		return !slices.ContainsFunc(others, func(name string) bool { return !strings.Contains(x.why(name), "put back to an earlier state") })
	})
	if out, err := store.runs("etcdctl", "put", record, fmt.Sprintf(`{"number": %d, "lead": %q}`, number+1, leader)).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	x.until("who was named leads", 30*time.Second, func() bool { now, n := x.leadKept(); return now == leader && n > number+1 })
	x.until("it leads, and somebody may take over", 30*time.Second, func() bool { return x.mayTakeOver(leader, []int{0}) })
}

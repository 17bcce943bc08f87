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
func (o *observer) writes(config *pgx.ConnConfig, every time.Duration) {
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
		w := commit{id: o.next.Add(1), begun: time.Now()}
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

// after gives when the first write was acknowledged that had begun after a time; zero where none was.
func (o *observer) after(t time.Time) (at time.Time) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for i := len(o.commits) - 1; i >= 0 && o.commits[i].ended.After(t); i-- {
		if w := o.commits[i]; w.begun.After(t) {
			at = w.ended
		}
	}
	return at
}

// observe begins to write: through the entry by eight clients, 200 times a second, and to every member by one each, twenty times a second.
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
	for range 8 {
		o.all.Go(func() { o.writes(config, 8*time.Second/200) })
	}
	for _, m := range s.Members {
		if m.Role == "berths" {
			own := config.Copy()
			own.Host, own.Port, own.Fallbacks, own.ValidateConnect = m.Address, uint16(m.Ports["client"]), nil, nil
			own.TLSConfig.ServerName = m.Address
			o.all.Go(func() { o.writes(own, 50*time.Millisecond) })
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
	conn, err := pgx.ConnectConfig(context.Background(), o.config)
	if err != nil {
		x.Fatal(err)
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
func guardOf(name string) int {
	for _, pid := range pidsWith("/members/" + name + "/guarded.sh") {
		return pid
	}
	return 0
}

// pidsWith lists the guards with that in their command line.
func pidsWith(text string) (pids []int) {
	entries, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, e := range entries {
		data, _ := os.ReadFile(e)
		if strings.HasPrefix(string(data), "lanternfield\x00guard\x00") && strings.Contains(string(data), text) {
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
func programOf(name string) int {
	for _, pid := range below(guardOf(name)) {
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

var faults = []fault{
	{"process killed", func(_ *trial, _ status, leader string) func() {
		send(syscall.SIGKILL, programOf(leader))
		return nothing
	}},
	{"process stopped", func(_ *trial, _ status, leader string) func() {
		send(syscall.SIGSTOP, below(programOf(leader))...)
		return nothing // its guard ends it
	}},
	{"guard killed", func(_ *trial, _ status, leader string) func() {
		send(syscall.SIGKILL, guardOf(leader))
		return nothing
	}},
	{"guard stopped", func(_ *trial, _ status, leader string) func() {
		guard := guardOf(leader)
		send(syscall.SIGSTOP, guard)
		return func() { send(syscall.SIGCONT, guard) }
	}},
	{"agent killed, then process", func(x *trial, s status, leader string) func() {
		send(syscall.SIGKILL, x.agentOf(s.member(leader).Node))
		send(syscall.SIGKILL, programOf(leader))
		return func() { x.must("deploy", x.file, "--yes", "--timeout", "60s"); x.unkept() }
	}},
	{"all of a node stopped", func(x *trial, s status, leader string) func() {
		agent := x.agentOf(s.member(leader).Node)
		pids := below(agent)
		for _, guard := range pidsWith("/nodes/" + s.member(leader).Node + "/") {
			pids = append(pids, below(guard)...)
		}
		send(syscall.SIGSTOP, pids...)
		return func() { send(syscall.SIGCONT, pids...) }
	}},
	{"replication cut, then process killed", func(x *trial, s status, leader string) func() {
		cut := receivers(leader)
		send(syscall.SIGSTOP, cut...)
		x.until("the other follower may take over, or the cut one did not count", 15*time.Second, func() bool { return x.mayTakeOver(leader, cut) })
		send(syscall.SIGKILL, programOf(leader))
		return func() { send(syscall.SIGCONT, cut...) }
	}},
}

// receivers gives the process that receives what a leader writes, of one of those that follow it.
func receivers(leader string) []int {
	for _, guard := range pidsWith("/members/berths-") {
		if guard == guardOf(leader) {
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

// mayTakeOver tells whether the guard of who leads has said, last of all, that somebody may take over whose receiving is not cut.
func (x *trial) mayTakeOver(leader string, cut []int) bool {
	logs, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "agent", "logs", leader+".log"))
	if len(logs) != 1 {
		return false
	}
	data, _ := os.ReadFile(logs[0])
	last := ""
	for line := range strings.Lines(string(data)) {
		switch _, said, is := strings.Cut(line, " guard: "); {
		case is && strings.Contains(said, " may take over"):
			last, _, _ = strings.Cut(said, " ")
		case is && strings.HasPrefix(said, "it takes the lease"):
			last = ""
		}
	}
	guard := guardOf(last)
	return guard > 0 && !slices.Contains(below(guard), cut[0])
}

// TestFailover has the leader of a database lost in many ways while nobody keeps the field. Clients write again by themselves, and nothing that was
// acknowledged is lost; two never lead. Soaking does it forty times.
func TestFailover(t *testing.T) {
	t.Parallel()
	x := newTrial(t, leased)
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	s := x.status()
	o := observe(x, s)
	x.unkept()
	t.Cleanup(x.guardsSaid)
	rounds := len(faults)
	if os.Getenv("LANTERNFIELD_SOAK") != "" {
		rounds = 40
	}
	var table strings.Builder
	for i := range rounds {
		f := faults[i%len(faults)]
		x.until("all three follow or lead, and one may take over", 60*time.Second, func() bool { return x.settled() })
		leader, number := x.leadKept()
		mend := sync.OnceFunc(f.do(x, s, leader))
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
		if again > 7*time.Second {
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

// settled tells whether the guards say that one leads and two follow, and the last thing that the leader's said of who may take over is somebody.
func (x *trial) settled() bool {
	leads, follows := 0, 0
	files, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "members", "berths-*", "data", "lease", "why"))
	for _, f := range files {
		switch data, _ := os.ReadFile(f); strings.TrimSpace(string(data)) {
		case "it leads":
			leads++
		case "it follows":
			follows++
		}
	}
	leader, _ := x.leadKept()
	return leads == 1 && follows == 2 && x.mayTakeOver(leader, []int{0})
}

package agent

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/series"
)

// member supervises one member. One goroutine owns it; orders reach it through a channel.
type member struct {
	name     field.MemberName
	disk     layout
	instance runtime.Instance // what runs it
	reports  *reportLog
	orders   chan order.Order

	order    order.Order
	kept     keptProcess
	applied  applied // the newest spec that was found fit
	proc     runtime.Run
	watching context.CancelFunc
	lit      chan int // incarnations that have become ready for the first time
	uncalled bool     // calls of apply failed when it had been started
	hung     chan int // incarnations whose alive probe has given up
	delayed  uint64   // the order whose lag has been waited out
	refresh  *refresh
	floater  *floater
	answers  *answers // what those who ask its agent are told of it
	heavy    bool     // took more than its ceiling when it was weighed last
	beyond   string   // why it is being ended for that

	known    bool          // an agent before had its order already
	resumed  chan struct{} // closed when it is known, and reported, what runs
	weighing chan struct{} // its memory is to be looked at

	mu      sync.Mutex
	measure agentapi.Measure // the newest
	series  *series.Ring[agentapi.Measure]
	samples *series.Ring[agentapi.Sample]
	told    told            // what its program tells of itself, as it was read last
	sampled time.Time       // up to when it was summed up
	shown   *order.Spec     // how it runs, or would, for who visits it
	ready   time.Time       // since when the process has been lit; zero when it is not
	marks   []mark          // how long its log was, and when
	unsent  string          // why its lines cannot be forwarded
	group   logline.Grouper // of its lines, as they were read last
	groupAt int64           // up to there
	wanted  [][]order.File  // its files as they are, or may be while a change is carried out
	unlike  []string        // files that were not as they were ordered at the last look
	altered []string        // nor at the one before
}

// What keeps a crashing program from being started over and over.
const (
	restartAfter = time.Second
	restartMost  = 30 * time.Second
	stopWithin   = 10 * time.Second
	// A member that has been lit for this long is taken to be well: the next crash counts as the first.
	wellAfter = 10 * time.Second
)

func newMember(l layout, r runtime.Runtime, reports *reportLog, name field.MemberName) *member {
	m := &member{name: name, disk: l, instance: r.Member(name, l.place(name)), reports: reports, orders: make(chan order.Order, 1), hung: make(chan int, 1), lit: make(chan int, 1), resumed: make(chan struct{}), weighing: make(chan struct{}, 1), refresh: newRefresh(), answers: &answers{member: name}, series: series.New[agentapi.Measure](mostMeasures), samples: series.New[agentapi.Sample](mostSamples)}
	m.floater = &floater{member: m}
	return m
}

func (m *member) report(r order.Report) {
	r.Member = m.name
	if r.Incarnation == 0 {
		r.Incarnation = m.kept.Incarnation
	}
	m.reports.add(r)
}

// asker asks the member as the spec says.
func (m *member) asker(spec *order.Spec) *asker {
	return &asker{member: m.name, spec: spec, disk: m.disk, instance: m.instance, compile: newCompiled()}
}

// give hands over the newest order; one that is waiting is replaced by it.
func (m *member) give(o order.Order) {
	for {
		select {
		case m.orders <- o:
			return
		default:
		}
		select {
		case <-m.orders:
		default:
		}
	}
}

func (m *member) processFile() string { return filepath.Join(m.disk.record(m.name), "process.json") }

func (m *member) appliedFile() string { return filepath.Join(m.disk.record(m.name), "applied.json") }

// run supervises until the member is gone or the agent ends. With the agent's end the process goes on.
func (m *member) run(ctx context.Context) {
	defer m.answers.close()
	m.resume(ctx)
	close(m.resumed)
	if m.proc == nil && (m.order.Want == order.Stop || m.over()) {
		m.report(order.Report{Kind: order.Stopped, Revision: m.order.Revision})
	}
	var retry <-chan time.Time // when what failed, or waits, is tried
	forwarding, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() { defer close(ended); m.forwarding(forwarding) }()
	defer func() { stop(); <-ended }()
	for {
		m.show()
		var again, over bool
		if retry, again, over = m.pursue(ctx, retry); over {
			return
		}
		if again {
			continue
		}
		if ctx.Err() == nil {
			retry, over = m.await(ctx, retry)
		}
		if over || ctx.Err() != nil {
			m.unwatch()
			return
		}
	}
}

// pursue takes the next step towards what is ordered, and gives when what failed is tried again. Again says that there is another step at
// once; gone, that nothing of the member is left.
func (m *member) pursue(ctx context.Context, retry <-chan time.Time) (next <-chan time.Time, again, gone bool) {
	switch want := m.order.Want; {
	case m.over() && m.proc == nil:
	case want == order.Run && m.proc == nil && retry == nil && m.order.StartDelay > 0 && m.delayed != m.order.Revision:
		m.delayed = m.order.Revision
		return time.After(m.order.StartDelay), false, false
	case want == order.Run && m.proc == nil && retry == nil:
		return m.start(ctx), false, false
	case want == order.Run && m.proc != nil && m.kept.Round != m.order.Round:
		if err := m.fit(ctx); err != nil {
			m.refuse(err) // it goes on as it is
		} else {
			m.stop(ctx)
		}
		return retry, true, false
	case want == order.Stop && m.proc != nil, want == order.Gone && m.proc != nil:
		forced := m.stop(ctx)
		if m.proc == nil && want == order.Stop {
			m.report(order.Report{Kind: order.Stopped, Revision: m.order.Revision, Forced: forced})
		} else if m.proc == nil && m.remove(forced) {
			return nil, false, true
		}
	case want == order.Gone:
		if m.remove(false) {
			return nil, false, true
		}
		return time.After(restartAfter), false, false
	}
	return retry, false, false
}

// await waits for what happens next, and deals with it.
func (m *member) await(ctx context.Context, retry <-chan time.Time) (next <-chan time.Time, over bool) {
	var exited <-chan order.Exit
	if m.proc != nil {
		exited = m.proc.Exited()
	}
	select {
	case <-ctx.Done():
		return retry, true
	case o := <-m.orders:
		if m.take(ctx, o) {
			return nil, false
		}
	case e := <-exited:
		wait := m.crashed(e)
		if !m.over() {
			return time.After(wait), false
		}
		m.report(order.Report{Kind: order.Stopped, Revision: m.order.Revision})
	case <-retry:
		return nil, false
	case <-m.weighing:
		m.weigh()
	case incarnation := <-m.lit:
		m.applyAfterStart(ctx, incarnation)
	case incarnation := <-m.hung:
		if m.proc != nil && incarnation == m.kept.Incarnation {
			slog.Warn("alive probe has given up", "member", m.name)
			_ = m.proc.Signal(syscall.SIGKILL)
		}
	}
	return retry, false
}

// applyAfterStart makes the calls by which a member that has become ready takes its settings.
func (m *member) applyAfterStart(ctx context.Context, incarnation int) {
	spec, _ := m.inForce()
	if m.proc == nil || incarnation != m.kept.Incarnation || spec == nil || len(spec.Apply) == 0 {
		return
	}
	err := m.callApply(ctx, spec)
	if m.uncalled = err != nil; m.uncalled {
		m.report(order.Report{Kind: order.Reloaded, Revision: m.order.Revision, Why: "after its start, " + err.Error()})
	}
}

// over tells whether the member shall not be started any more: it leaves, and ends by itself when its cluster has let it go.
func (m *member) over() bool { return m.order.Want == order.Run && m.order.NoRestart }

// take makes the order the current one. It tells whether a pending retry should not be waited for.
func (m *member) take(ctx context.Context, o order.Order) bool {
	before := m.order
	m.order = o
	if m.proc == nil && (o.Want == order.Stop || m.over()) {
		m.report(order.Report{Kind: order.Stopped, Revision: o.Revision})
	}
	if o.Want == order.Run && m.proc != nil && before.Round == o.Round {
		m.change(ctx)
	}
	if before.Round != o.Round {
		m.kept.Attempt = 0 // somebody asked: begin to count anew
	}
	return before.Want != o.Want || before.Round != o.Round
}

// resume finds the process that an earlier agent left running.
func (m *member) resume(ctx context.Context) {
	_ = readJSON(m.processFile(), &m.kept)
	_ = m.disk.load(m.appliedFile(), &m.applied)
	if m.kept.Incarnation == 0 || m.kept.Ended {
		if m.order.Want == order.Run && m.known { // what is thought to run does not: its record was lost, or nobody heard of its end
			m.report(order.Report{Kind: order.Exited, Exit: &order.Exit{}, Attempt: m.kept.Attempt})
		}
		return
	}
	if r := m.instance.Adopt(m.kept.record(), m.kept.Incarnation); r != nil {
		m.kept.PID, m.kept.StartTime = r.Record().PID, r.Record().StartTime
		m.adopted(ctx, r)
		return
	}
	m.crashed(order.Exit{})
}

func (m *member) adopted(ctx context.Context, p runtime.Run) {
	m.proc = p
	m.keep()
	if spec, _ := m.inForce(); spec != nil {
		if err := m.answers.listen(spec); err != nil {
			slog.Error("those who ask about a member get no answer", "member", m.name, "error", err)
		}
	}
	m.report(order.Report{Kind: order.Adopted, PID: p.PID(), Revision: m.kept.Revision, Round: m.kept.Round})
	m.watch(true)
	if m.applied.Spec == nil {
		m.apply(m.order.Revision, m.order.Spec) // an agent of an older version did not note it
	}
	if err := m.restoreFiles(); err != nil {
		slog.Error("the files in force cannot be put back", "member", m.name, "error", err)
	}
	if m.order.Want == order.Run && m.kept.Round == m.order.Round && m.applied.Spec != nil {
		m.change(ctx) // the agent before may have ended between taking an order and carrying it out
	}
}

func (m *member) keep() {
	if err := writeQuick(m.processFile(), m.kept); err != nil {
		slog.Error("process cannot be noted", "member", m.name, "error", err)
	}
}

// start starts a process. When that fails it reports why and gives the time of the next try.
func (m *member) start(ctx context.Context) <-chan time.Time {
	failed := func(err error) <-chan time.Time {
		m.kept.Attempt++
		wait := m.backOff()
		m.report(order.Report{Kind: order.StartFailed, Why: err.Error(), Attempt: m.kept.Attempt, RetryIn: wait})
		return time.After(wait)
	}
	spec, revision := m.inForce()
	if spec == nil || len(spec.Command) == 0 {
		return failed(fmt.Errorf("its order says nothing to run"))
	}
	if err := m.instance.Clear(m.kept.record(), spec); err != nil {
		return failed(err)
	}
	if err := m.instance.Fits(spec); err != nil { // before anything of it is done, as its files are checked
		return failed(err)
	}
	if err := m.answers.listen(spec); err != nil {
		return failed(err)
	}
	if err := m.disk.restoreData(m.name); err != nil {
		return failed(err)
	}
	if spec.Votes && m.dataLost() {
		return failed(fmt.Errorf("its data in %s is gone; it has voted, and without its data it would vote anew on what was decided. "+
			"Put the data back, or have another take its place", m.disk.data(m.name)))
	}
	if err := m.vacant(ctx, spec); err != nil {
		return failed(err)
	}
	if _, err := m.writeFiles(spec, spec.Files); err != nil {
		return failed(err)
	}
	if err := m.validate(ctx, spec); err != nil {
		if m.applied.Spec != nil && revision != m.applied.Revision {
			m.refuse(err)
			return m.start(ctx) // with what worked before
		}
		return failed(err)
	}
	before := m.kept
	m.kept = keptProcess{Incarnation: m.kept.Incarnation + 1, Round: m.order.Round, Attempt: m.kept.Attempt, LogFrom: m.logSize(), Revision: revision, Refused: m.kept.Refused}
	intent := m.instance.Intent()
	m.kept.Group, m.kept.GroupV2 = intent.Group, intent.GroupV2
	if err := writeQuick(m.processFile(), m.kept); err != nil { // the intent, before the fork
		m.kept = before
		return failed(err)
	}
	p, err := m.instance.Start(spec, m.kept.Incarnation)
	if err != nil {
		m.kept.Ended = true
		m.keep()
		return failed(err)
	}
	m.proc, m.kept.PID, m.kept.StartTime = p, p.Record().PID, p.Record().StartTime
	m.heavy, m.beyond = false, ""
	m.keep()
	m.apply(revision, spec)
	m.report(order.Report{Kind: order.Started, PID: p.PID(), Revision: revision})
	m.watch(false)
	return nil
}

// stop asks the process to end and kills it when it does not. It tells whether it had to be killed.
func (m *member) stop(ctx context.Context) (forced bool) {
	within, name := stopWithin, ""
	if s := m.order.Spec; s != nil {
		within, name = s.Stop.Within.Or(within), s.Stop.Signal
		m.drain(ctx, time.Duration(s.Stop.Drain))
	}
	m.unwatch()
	m.floater.lay(false)
	_ = m.proc.Signal(host.SignalByName(name))
	deadline := time.NewTimer(within)
	defer deadline.Stop()
	for {
		select {
		case <-m.proc.Exited():
			m.ended(m.proc.PID())
			return forced
		case <-deadline.C:
			forced = true
			m.proc.Kill()
		case <-ctx.Done():
			return forced // the next agent goes on from the order
		}
	}
}

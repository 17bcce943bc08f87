package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync/atomic"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/netfault"
)

// How a start-up is probed: every 20 ms while it is likely to be short, then ever slower down to the probe's own pace.
const (
	probeTimeout = 2 * time.Second // where the probe says nothing
	firstPace    = 20 * time.Millisecond
	firstPaceFor = 10 * time.Second
	execPatience = 500 * time.Millisecond // with a command, at a start-up
	probePace    = time.Second
	// A member that was lit is called unready when its probe has failed this often in a row, where the probe says nothing.
	failsBeforeUnready = 2
	// How long a failing probe is kept quiet at a start-up, and between two different answers.
	startupQuiet = 2 * time.Second
	// How long a list of members that goes on changing is read quickly, before that waits for its next turn.
	rosterHurry = 3 * time.Second
	// How long it must not have changed to be read quickly again when it does.
	calmFor = 10 * time.Second
	// How often it is said anew why a leader or a list cannot be read.
	sayAgain = 30 * time.Second
	// How long the alive probe may fail, after it has succeeded, before the member is restarted.
	aliveFor = 30 * time.Second
)

// watcher probes one process of a member until its context ends, and reports what changes.
type watcher struct {
	member      field.MemberName
	spec        *order.Spec
	ask         *asker
	since       time.Time
	wasReady    bool // adopted: has been lit before
	report      func(order.Report)
	measure     func(agentapi.Measure)
	becameReady func()
	leads       func(bool)  // whether it leads, for those who ask its agent
	hung        func()      // the alive probe has failed for too long
	lit         atomic.Bool // has been ready
	reading     func(*field.Reading)
	behind      atomic.Pointer[error] // why it is not ready although it answers well
	look        *refresh
}

// refresh has a member's leader and roster asked, and a step that it refused tried again, at once instead of at the next turn.
type refresh struct {
	leader, roster chan struct{}
	step           chan struct{}
	led            atomic.Bool // leads since the roster was told last
}

func newRefresh() *refresh {
	return &refresh{leader: make(chan struct{}, 1), roster: make(chan struct{}, 1), step: make(chan struct{}, 1)}
}

func (l *refresh) poke() { l.at(l.leader, l.roster) }

// ready says that the member has become ready.
func (l *refresh) ready() { l.at(l.step) }

func (l *refresh) at(once ...chan struct{}) {
	for _, c := range once {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// asker gives each of those that probe one of its own: they remember what they compiled.
func (w *watcher) asker() *asker {
	own := *w.ask
	own.compile = newCompiled()
	return &own
}

func (w *watcher) run(ctx context.Context) {
	lit := make(chan struct{})
	if w.spec.Leader != nil {
		go w.watchLeader(ctx, lit)
	}
	if w.spec.Roster != nil {
		go w.watchRoster(ctx, lit)
	}
	if w.spec.Progress != nil || w.spec.Lag != nil {
		go w.watchGauge(ctx)
	}
	if w.spec.Alive != nil {
		go w.watchAlive(ctx)
	}
	w.watchReady(ctx, lit)
}

// defaultReady is what is asked of a program that has no ready probe: to listen on its first port.
func defaultReady(spec *order.Spec) *field.Probe {
	first := ""
	for name := range spec.Ports {
		if spec.Ports[name].By == "" && (first == "" || name < first) {
			first = name
		}
	}
	if first == "" {
		return nil
	}
	return &field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: first}}}
}

// upFor is how long a program without probe and ports must have run to count as ready.
const upFor = time.Second

func (w *watcher) watchReady(ctx context.Context, lit chan struct{}) {
	probe := w.spec.Ready
	if probe == nil {
		probe = defaultReady(w.spec)
	}
	ask := w.asker()
	ready, everReady, fails, said := false, w.wasReady, 0, ""
	passes, upAfter, downAfter := 0, 1, failsBeforeUnready
	if probe != nil {
		upAfter, downAfter = cmp.Or(probe.UpAfter, upAfter), cmp.Or(probe.DownAfter, downAfter)
	}
	good := time.Now() // when it was asked what it answered well last
	pace := firstPace
	begin := time.Now()
	saidAt := begin
	for {
		asked := time.Now()
		var err error
		if probe != nil {
			err = ask.check(ctx, probe, w.patience(probe, everReady))
		} else if up := time.Since(w.since); up < upFor {
			err = fmt.Errorf("it has run for %s only", field.Span(up))
		}
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			err = w.useless(ctx, ask, ready)
		}
		m := agentapi.Measure{OK: err == nil, At: asked, LatencyMS: float64(time.Since(asked).Microseconds()) / 1000}
		if err != nil {
			m.Error = err.Error()
		}
		w.measure(m)
		every := w.every(probe)
		switch {
		case err == nil:
			fails, said, pace, good = 0, "", every, asked
			if passes++; !ready && passes < upAfter {
				pace = min(every, firstPace*time.Duration(passes))
			}
			if !ready && passes >= upAfter {
				ready = true
				w.lit.Store(true)
				w.report(order.Report{Kind: order.Ready})
				w.becameReady()
				if lit != nil {
					close(lit)
					lit = nil
				}
				everReady = true
			}
		default:
			fails++
			passes = 0
			worthSaying := said != m.Error && time.Since(saidAt) > startupQuiet
			if everReady {
				silent := (errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded)) && time.Since(good) > w.patience(probe, true) // as good as failed twice
				worthSaying = (fails >= downAfter || silent && downAfter <= failsBeforeUnready) && (said == "" || worthSaying)
			}
			if worthSaying {
				said, saidAt, ready = m.Error, time.Now(), false
				w.report(order.Report{Kind: order.Unready, Why: m.Error})
			}
			if fails == 1 && everReady {
				pace = firstPace
			}
			if time.Since(begin) > firstPaceFor || everReady {
				pace = min(pace*3/2, every)
			}
		}
		if !sleep(ctx, pace) {
			return
		}
	}
}

// patience is how long one answer is waited for. A program that is just starting often leaves its first callers hanging,
// and the next call would be answered at once; so a start-up's calls are given up early, and later the older it gets.
func (w *watcher) patience(p *field.Probe, everReady bool) time.Duration {
	full := p.Timeout.Or(probeTimeout)
	if everReady {
		return full
	}
	least := 5 * firstPace
	if p != nil && len(p.Exec) > 0 { // a command takes its time, and is not to be ended just before it knows
		least = execPatience
	}
	return min(full, max(least, time.Since(w.since)/5))
}

func (w *watcher) every(p *field.Probe) time.Duration {
	if p == nil {
		return probePace
	}
	return p.Every.Or(probePace)
}

func (w *watcher) watchLeader(ctx context.Context, lit <-chan struct{}) {
	if !w.awaitLit(ctx, lit) {
		return
	}
	ask, every := w.asker(), w.spec.Leader.Every.Or(probePace)
	leading, term, first, unsure := false, uint64(0), true, ""
	fresh := 2*every + w.spec.Leader.Timeout.Or(probeTimeout) // how long an answer is passed on
	var good time.Time
	var saidAt time.Time
	for {
		leads, t, err := ask.leads(ctx, w.spec.Leader)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			good = time.Now()
			w.leads(leads)
		} else if time.Since(good) > fresh {
			w.leads(false)
		}
		if err != nil {
			if leading && unsure != err.Error() && time.Since(saidAt) > sayAgain { // it may lead still: what it said last is not taken back
				unsure, saidAt = err.Error(), time.Now()
				w.report(order.Report{Kind: order.Leading, Leads: true, Term: term, Unknown: true, Why: unsure})
			}
			if !sleepOr(ctx, every, w.look.leader) {
				return
			}
			continue
		}
		if leads != leading || t != term || first || unsure != "" { // what an earlier process, or agent, said holds no more
			unsure = ""
			w.report(order.Report{Kind: order.Leading, Leads: leads, Term: t})
			if leads { // what the others said of the roster is not believed from now on
				w.look.led.Store(true)
				w.look.poke()
			}
		}
		leading, term, first = leads, t, false
		if !sleepOr(ctx, every, w.look.leader) {
			return
		}
	}
}

func (w *watcher) watchRoster(ctx context.Context, lit <-chan struct{}) {
	if !w.awaitLit(ctx, lit) {
		return
	}
	ask, every := w.asker(), w.spec.Roster.Every.Or(2*probePace)
	var last []order.RosterEntry
	pace, unread, hurry, calm := firstPace, "", time.Now().Add(rosterHurry), time.Now()
	var saidAt time.Time
	for {
		entries, err := ask.roster(ctx, w.spec.Roster)
		if ctx.Err() != nil {
			return
		}
		switch {
		case err == nil:
			led := w.look.led.Swap(false)
			if led {
				hurry = time.Now().Add(rosterHurry)
			}
			if !slices.Equal(entries, last) {
				calm = time.Now()
			} else if time.Since(calm) > calmFor {
				hurry = time.Now().Add(rosterHurry)
			}
			if led || unread != "" || !slices.Equal(entries, last) {
				w.report(order.Report{Kind: order.RosterRead, Roster: entries})
				last, unread = entries, ""
				if time.Now().Before(hurry) {
					pace = firstPace // it may go on changing
				}
			}
		case unread != err.Error() && !worldly(err) && time.Since(saidAt) > sayAgain:
			unread, saidAt = err.Error(), time.Now()
			w.report(order.Report{Kind: order.RosterRead, Why: unread})
		}
		if !sleepOr(ctx, pace, w.look.roster) {
			return
		}
		pace = min(pace*2, every)
	}
}

// worldly tells whether an error is of the network or of time, and says nothing of what was asked.
func worldly(err error) bool {
	var w *netfault.Error
	return errors.As(err, &w)
}

func (w *watcher) watchAlive(ctx context.Context) {
	ask, every := w.asker(), w.spec.Alive.Every.Or(probePace)
	var lastGood time.Time
	for {
		err := ask.check(ctx, w.spec.Alive, w.spec.Alive.Timeout.Or(probeTimeout))
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			lastGood = time.Now()
		} else if !lastGood.IsZero() && time.Since(lastGood) > aliveFor {
			w.hung()
			return
		}
		if !sleep(ctx, every) {
			return
		}
	}
}

func (w *watcher) awaitLit(ctx context.Context, lit <-chan struct{}) bool {
	select {
	case <-lit:
		return true
	case <-ctx.Done():
		return false
	}
}

func sleep(ctx context.Context, d time.Duration) bool { return sleepOr(ctx, d, nil) }

// sleepOr sleeps until something comes, or that long. It tells whether the context goes on.
func sleepOr(ctx context.Context, d time.Duration, something <-chan struct{}) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-something:
		return true
	case <-ctx.Done():
		return false
	}
}

package agent

import (
	"log/slog"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/order"
)

// crashed deals with a process that ended without having been asked to, and gives the time until the next start.
func (m *member) crashed(e order.Exit) time.Duration {
	m.unwatch()
	m.floater.tell(nil, false)
	m.answers.ended()
	m.mu.Lock()
	if !m.ready.IsZero() && time.Since(m.ready) > wellAfter {
		m.kept.Attempt = 0
	}
	m.ready, m.measure = time.Time{}, agentapi.Measure{}
	m.mu.Unlock()
	m.kept.Attempt++
	m.kept.Ended = true
	if e.Why, m.beyond = m.beyond, ""; e.Why != "" {
		slog.Warn("ended beyond its ceiling", "member", m.name, "why", e.Why)
	}
	pid := m.kept.PID
	wait := m.backOff()
	if pid > 0 && !m.over() {
		m.report(order.Report{Kind: order.Exited, PID: pid, Exit: &e, Lines: m.lastLines(), Attempt: m.kept.Attempt, RetryIn: wait})
	}
	m.ended(pid)
	return wait
}

// ended forgets the process and ends what it left behind.
func (m *member) ended(pid int) {
	m.answers.ended()
	if m.proc != nil {
		m.proc.Close()
		m.proc = nil
	}
	m.instance.Sweep(pid)
	m.kept.Ended = true
	m.keep()
}

func (m *member) backOff() time.Duration {
	after, most := restartAfter, restartMost
	if s := m.order.Spec; s != nil {
		after, most = s.Restart.After.Or(after), s.Restart.Most.Or(most)
	}
	for range min(m.kept.Attempt-1, 16) {
		after = min(2*after, most)
	}
	return after
}

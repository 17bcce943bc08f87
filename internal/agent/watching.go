package agent

import (
	"context"
	"log/slog"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// mostMeasures is how many answers of a member's ready probe are kept: ten minutes of one a second.
const mostMeasures = 600

// watch begins to probe the process. It ends with unwatch alone: what the agent's end means for it, run decides.
func (m *member) watch(wasReady bool) {
	ctx, cancel := context.WithCancel(context.Background())
	m.watching = cancel
	incarnation := m.kept.Incarnation
	spec, _ := m.inForce()
	since := time.Now()
	if wasReady {
		since = since.Add(-upFor) // it has run before this agent came
	}
	w := &watcher{member: m.name, spec: spec, look: m.refresh, ask: m.asker(spec), since: since, wasReady: wasReady,
		report: func(r order.Report) {
			if ctx.Err() == nil {
				r.Member, r.Incarnation = m.name, incarnation
				m.reports.add(r)
				if r.Kind == order.Ready || r.Kind == order.Unready {
					m.answers.setReady(r.Kind == order.Ready)
					m.floater.tell(spec, r.Kind == order.Ready)
				}
			}
		},
		leads: func(leads bool) {
			if ctx.Err() == nil {
				m.answers.setLeads(leads)
			}
		},
		measure: func(x agentapi.Measure) {
			m.mu.Lock()
			defer m.mu.Unlock()
			x.Usage, x.Gauge = m.measure.Usage, m.measure.Gauge
			if x.LastGood = m.measure.LastGood; x.OK {
				x.LastGood = x.At
			}
			m.measure = x
			m.series.Add(x.At, x)
			if !x.OK {
				m.ready = time.Time{}
			}
		},
		reading: func(r *field.Reading) {
			m.mu.Lock()
			defer m.mu.Unlock()
			if ctx.Err() == nil {
				m.measure.Gauge = r
			}
		},
		becameReady: func() {
			m.refresh.ready()
			m.noteData()
			m.mu.Lock()
			defer m.mu.Unlock()
			m.ready = time.Now()
			if spec != nil && spec.Tells != nil {
				go m.readVersion(ctx, spec, incarnation)
			}
			if !wasReady {
				select {
				case m.lit <- incarnation:
				default:
				}
			}
		},
		hung: func() {
			select {
			case m.hung <- incarnation:
			default:
			}
		}}
	if w.spec != nil {
		go w.run(ctx)
		if w.spec.Metrics != nil {
			go m.watchMetrics(ctx, w.spec, w.ask)
		}
	}
}

// readVersion asks the program that runs for its version, and reports it.
func (m *member) readVersion(ctx context.Context, spec *order.Spec, incarnation int) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	out := &beginning{}
	if _, err := m.instance.Exec(ctx, spec, spec.Tells.Exec, out); err != nil || ctx.Err() != nil {
		return
	}
	if version, err := spec.Tells.Read(out.String()); err == nil {
		m.reports.add(order.Report{Kind: order.VersionRead, Member: m.name, Incarnation: incarnation, Version: clean(version)})
	} else {
		slog.Warn("a program does not tell its version", "member", m.name, "error", err)
	}
}

func (m *member) unwatch() {
	if m.watching != nil {
		m.watching()
		m.watching = nil
	}
}

package agent

import (
	"context"
	"fmt"
	"math"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
)

const (
	gaugePace = 2 * time.Second // where a gauge says nothing
	// Over how long it is reckoned how fast a number moves.
	paceOver = 20 * time.Second
)

// gauge reads the number that a program gives of itself.
func (a *asker) gauge(ctx context.Context, g *field.Gauge) (float64, error) {
	ctx, cancel := context.WithTimeout(ctx, g.Timeout.Or(probeTimeout))
	defer cancel()
	got, err := a.ask(ctx, g.Call)
	if err != nil {
		return 0, err
	}
	value, err := a.eval(ctx, g.Value, got.env)
	if err != nil {
		return 0, fmt.Errorf("%s, and `%s` cannot be evaluated on it: %s", got.was(), g.Value, firstLine(err))
	}
	n, ok := number(value)
	if !ok {
		return 0, fmt.Errorf("%s, and `%s` is not a number in it", got.was(), g.Value)
	}
	return n, nil
}

// number reads a number that an expression gave, as a number or as a text.
func number(v any) (float64, bool) {
	var n float64
	switch v := v.(type) {
	case int:
		n = float64(v)
	case float64:
		n = v
	default:
		var rest string
		if got, _ := fmt.Sscanf(fmt.Sprint(v)+" .", "%g %s", &n, &rest); got != 2 || rest != "." {
			return 0, false
		}
	}
	return n, !math.IsNaN(n) && !math.IsInf(n, 0)
}

// movement follows a number: since when it has stood still, and how fast it moves.
type movement struct {
	seen []field.Reading // of the last while, oldest first
	now  field.Reading
}

// take takes in what was read.
func (m *movement) take(value float64, at time.Time) field.Reading {
	moved := m.now.Moved
	if len(m.seen) == 0 || value != m.now.Value {
		moved = at
	}
	m.now = field.Reading{Value: value, At: at, Moved: moved}
	m.seen = append(m.seen, m.now)
	for len(m.seen) > 2 && at.Sub(m.seen[0].At) > paceOver {
		m.seen = m.seen[1:]
	}
	if first := m.seen[0]; at.Sub(first.At) > 0 {
		m.now.Pace = (value - first.Value) / at.Sub(first.At).Seconds()
	}
	return m.now
}

// watchGauge reads how far the member has come while it is not ready, and how far it is behind while it is.
func (w *watcher) watchGauge(ctx context.Context) {
	ask := w.asker()
	var moves movement
	of := w.spec.Progress
	for {
		now := w.spec.Progress
		if w.lit.Load() {
			now = w.spec.Lag
		}
		if now != of {
			of, moves = now, movement{}
		}
		if of == nil {
			w.gauge(nil, nil)
		} else if value, err := ask.gauge(ctx, of); err == nil && ctx.Err() == nil {
			reading := moves.take(value, time.Now())
			reading.Unit, reading.Lag = of.Unit, of == w.spec.Lag
			w.gauge(&reading, of.Beyond(value))
		} else if ctx.Err() == nil { // nothing is known, so nothing is held against it
			w.gauge(nil, nil)
		}
		if !sleep(ctx, pacing(of)) {
			return
		}
	}
}

func pacing(g *field.Gauge) time.Duration {
	if g == nil {
		return gaugePace
	}
	return g.Every.Or(gaugePace)
}

// gauge takes in what was read, nil where nothing was, and why that speaks against the member.
func (w *watcher) gauge(r *field.Reading, beyond error) {
	w.reading(r)
	if w.behind.Store(nil); beyond != nil {
		w.behind.Store(&beyond)
	}
}

// useless tells why a member is not ready although it answers well: its disk is full, or it is too far behind. Before it is called ready,
// how far is read at once.
func (w *watcher) useless(ctx context.Context, ask *asker, ready bool) error {
	if least := w.spec.FreeDisk; least > 0 {
		if free, err := host.FreeDisk(w.ask.disk.data(w.member)); err == nil && free < int64(least) {
			return fmt.Errorf("it answers, and its disk has less than %s left", least)
		}
	}
	if ready || w.spec.Lag == nil || w.spec.Lag.Most == "" {
		if behind := w.behind.Load(); behind != nil {
			return *behind
		}
		return nil
	}
	value, err := ask.gauge(ctx, w.spec.Lag)
	if err != nil {
		return nil
	}
	return w.spec.Lag.Beyond(value)
}

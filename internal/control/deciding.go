package control

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/loop"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
)

// mostTogether is how many inputs are decided on before their events are synced as one batch.
const mostTogether = 256

// own decides on inputs until the context ends. Events are on the disk before anybody hears of them.
func (c *Controller) own(ctx context.Context) {
	defer close(c.done)
	measures := time.NewTicker(time.Second)
	defer measures.Stop()
	var clock clock
	for {
		var batch []input
		select {
		case <-ctx.Done():
			return
		case <-measures.C:
			c.freshen()
			if c.stuck() { // what was missing may be there again
				c.dispatch(ctx)
			}
			now := time.Now()
			if by := clock.jumped(now); by != 0 && c.sealed == nil { // before anything is found to be late
				slog.Warn("the clock of this machine jumped", "by", by)
				batch = append(batch, input{in: engine.ClockJumped{By: by}})
				break
			}
			if c.sealed == nil && len(engine.Overdue(c.loop.State(), now)) > 0 {
				batch = append(batch, input{in: engine.ProveAgain{At: now}})
			}
			if c.sealed == nil && len(engine.Expiring(c.loop.State(), now)) > 0 {
				batch = append(batch, input{in: engine.CertificatesDue{At: now}})
			}
			if m, _ := engine.Late(c.loop.State(), now); c.sealed == nil && m != nil {
				batch = append(batch, input{in: engine.LateDue{At: now}})
			}
			if len(batch) == 0 {
				continue
			}
		case r := <-c.inputs:
			batch = append(batch, r)
		}
		for len(batch) < mostTogether && len(c.inputs) > 0 {
			batch = append(batch, <-c.inputs)
		}
		answers, news, err := c.decide(batch)
		if c.freed.Load() && engine.Settled(c.loop.State()) { // before anybody hears that it is done, and fills the disk again
			c.freed.Store(false)
			c.folder.keepSpace()
		}
		if err == nil && news {
			c.follow(c.loop.State())
			c.publish() // whoever gets an answer finds it in the next snapshot
		}
		for i, r := range batch {
			if r.reply != nil {
				r.reply <- cmp.Or(err, answers[i])
			}
		}
		if err != nil {
			slog.Error("the controller gives up the field", "error", err)
			c.mu.Lock()
			c.failed = err
			close(c.changed)
			c.changed = make(chan struct{})
			c.mu.Unlock()
			c.cancel()
			return
		}
		if news {
			c.dispatch(ctx)
		}
	}
}

// freshen publishes the newest snapshot with the newest measures.
func (c *Controller) freshen() {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	if now.Sub(c.freshened) < paceOf(len(c.state.Members), membersASecond) || !c.measured && !c.present().Rollout.Active {
		return
	}
	c.measured, c.freshened = false, now
	s := *c.present()
	s.At = now.UTC()
	s.Members = append([]snapshot.MemberView{}, s.Members...)
	c.withMeasures(&s)
	c.snapshot = &s
	close(c.changed)
	c.changed = make(chan struct{})
}

// decide gives the answer to each input once all their events are stored, or why they could not be stored; and whether there is news.
func (c *Controller) decide(batch []input) (answers []error, news bool, err error) {
	inputs := make([]loop.Input, len(batch))
	for i, r := range batch {
		if inputs[i] = loop.Of(r.in); r.asked != nil {
			inputs[i] = loop.Asked(r.asked.input)
		}
	}
	out, err := c.loop.Decide(utc, inputs)
	if err != nil {
		return out.Answers, false, err
	}
	c.mu.Lock()
	for i, e := range out.Events {
		state.Apply(c.state, e)
		c.tide.note(c.state, e)
		c.book.Note(c.state, e)
		c.marks.note(eventlog.Stored{Seq: out.First + uint64(i), Event: e})
	}
	c.tide.settle(c.state)
	news = len(out.Events) > 0 || len(out.Problems) > 0
	if len(out.Problems) > 0 {
		slog.Error("something that is wanted cannot be done", "problem", out.Problems[0])
		c.problems = out.Problems
	} else if out.Decided {
		c.problems = nil
	}
	due := c.marks.isDue()
	tide := c.tide
	if due {
		tide.samples = slices.Clone(tide.samples)
	}
	c.mu.Unlock()
	if due {
		c.marks.take(c.loop.State(), tide)
	}
	return out.Answers, news, nil
}

func utc() time.Time { return time.Now().UTC() }

// publish wakes those who watch: there is another snapshot.
func (c *Controller) publish() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.snapshot, c.changes = nil, c.changes+1
	close(c.changed)
	c.changed = make(chan struct{})
}

// present gives the newest snapshot. It is made when somebody wants it: a large field changes more often than anybody looks. The controller's lock is held.
func (c *Controller) present() *snapshot.Snapshot {
	if c.snapshot != nil {
		return c.snapshot
	}
	s := snapshot.Of(c.state, time.Now().UTC())
	s.Change = c.changes
	s.Problems = append(slices.Clone(c.problems), s.Problems...)
	for _, says := range []string{c.unmade, c.unbacked, c.unjoined} {
		if says != "" {
			s.Problems = append(s.Problems, says)
		}
	}
	for _, to := range slices.Sorted(maps.Keys(c.unhooked)) {
		s.Problems = append(s.Problems, c.unhooked[to])
	}
	if s.Field == "" {
		s.Field = fieldName(c.folder)
	}
	c.withMeasures(s)
	c.snapshot = s
	return s
}

func (c *Controller) withMeasures(s *snapshot.Snapshot) {
	c.withNotices(s)
	addMeasures(s, c.measures)
	c.withKeeper(s)
}

// addMeasures adds to a snapshot what agents measure now and then.
func addMeasures(s *snapshot.Snapshot, measures map[field.MemberName]agentapi.Measure) {
	for i := range s.Members {
		m := &s.Members[i]
		if x, ok := measures[m.Member]; ok && m.PID != 0 {
			m.Gauge = x.Gauge
			m.Signs = snapshot.Signs{Wrote: x.Wrote, Worked: x.Worked}
			m.Probe.LatencyMS, m.Memory, m.Probe.LastGood = x.LatencyMS, field.Bytes(x.Memory), x.LastGood
			if !m.Probe.OK && x.Error != "" {
				m.Probe.Error = x.Error
			}
		}
		m.Judge(s.At)
	}
	s.Judged()
}

// stuck tells whether orders cannot be sent, since what stands in them cannot be made.
func (c *Controller) stuck() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.unmade != ""
}

// dispatch hands every node's driver what must be done there.
func (c *Controller) dispatch(ctx context.Context) {
	news := false
	defer func() {
		if news {
			c.publish()
		}
	}()
	c.mu.Lock()
	defer c.mu.Unlock()
	perNode := map[field.NodeName][]order.Order{}
	operations := map[field.NodeName][]order.Operation{}
	release, give := map[field.NodeName]bool{}, map[field.NodeName]int{}
	before := c.unmade
	c.unmade = ""
	commands := engine.Commands(c.state)
	if c.sealed != nil {
		c.unmade, commands = c.sealed.waiting(commands), nil
	}
	for _, cmd := range commands {
		switch {
		case cmd.Release:
			release[cmd.Node] = true
		case cmd.Give > 0:
			give[cmd.Node] = cmd.Give
		case cmd.Operation != nil:
			if o, err := c.withOperationSecrets(*cmd.Operation); err != nil {
				c.unmade = err.Error()
			} else {
				operations[cmd.Node] = append(operations[cmd.Node], o)
			}
		default:
			if o, err := c.withSecrets(*cmd.Order); err != nil {
				c.unmade = err.Error()
			} else {
				perNode[cmd.Node] = append(perNode[cmd.Node], o)
			}
		}
	}
	if c.unmade != before && c.sealed == nil {
		slog.Error("orders cannot be sent", "problem", c.unmade)
	}
	news = c.unmade != before
	if c.sealed == nil {
		c.prove(ctx)
	}
	for name, n := range c.state.Nodes {
		d := c.driving[name]
		if n.Released || c.state.Retired {
			delete(c.driving, name)
			continue
		}
		if d == nil || d.bound != n.Bound { // the one before ended, or ends, with the node that was freed
			d = newDriver(c, n)
			c.driving[name] = d
			c.drivers.Add(1)
			go func() {
				defer c.drivers.Done()
				d.run(ctx)
			}()
		}
		d.give(tasks{perNode[name], operations[name], release[name], give[name]})
	}
}

// retiring tells whether the field is being taken down.
func (c *Controller) retiring() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state.Retiring
}

// submit hands an input to the owner and waits until it is stored.
func (c *Controller) submit(ctx context.Context, r input) error {
	r.reply = make(chan error, 1)
	select {
	case c.inputs <- r:
	case <-c.done:
		return c.ended()
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-r.reply:
		return err
	case <-c.done:
		select {
		case err := <-r.reply:
			return err
		default:
			return c.ended()
		}
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (c *Controller) ended() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.failed != nil {
		return c.failed
	}
	return errors.New("the controller has given up the field")
}

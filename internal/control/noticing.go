package control

import (
	"context"
	"log/slog"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/notice"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// How often it is looked whether there is something that a person is to be told of.
const (
	noticeEvery = 5 * time.Second
	noticeLeast = 250 * time.Millisecond
)

// noticing looks for what a person is to be told of, until the context ends.
func (c *Controller) noticing(ctx context.Context) {
	var watch notice.Watch
	for {
		every := noticeEvery
		c.mu.Lock()
		if f := c.state.Field; f != nil {
			every = max(noticeLeast, min(every, f.Notices.After.Or(noticeEvery)/3))
			every = max(every, paceOf(len(c.state.Members), membersASecond)-measureEvery)
		}
		c.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		now := time.Now().UTC()
		begin, over := c.look(&watch, now)
		if len(begin)+len(over) == 0 {
			continue
		}
		if err := c.submit(ctx, input{in: engine.Noticed{Begin: begin, Over: over, At: now}}); err != nil && ctx.Err() == nil {
			slog.Warn("what was noticed cannot be noted", "error", err)
		}
	}
}

// look finds what is to be told, and what is over. While nodes are still to be heard, nothing is known for sure.
func (c *Controller) look(watch *notice.Watch, now time.Time) (begin []state.Notice, over []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.state.Listening() > 0 || c.state.Refused() {
		return nil, nil
	}
	for name := range c.trends {
		if c.state.Members[name] == nil {
			delete(c.trends, name)
		}
	}
	found := notice.Of(c.state, c.present(), c.trends, now)
	before := c.noticed
	c.noticed = map[string]string{}
	for _, n := range c.state.OpenNotices() { // what is so no longer is said as it was last, until it is over
		c.noticed[n.ID] = before[n.ID]
	}
	for _, n := range found {
		c.noticed[n.ID] = n.Text
	}
	return watch.Look(c.state, found, now)
}

// trend takes in what an agent has measured; at is its time by the clock here. It is called under the lock.
func (c *Controller) trend(m field.MemberName, x agentapi.Sample, at time.Time) {
	if c.trends == nil {
		c.trends = map[field.MemberName]*notice.Trend{}
	}
	t := c.trends[m]
	if t == nil {
		t = &notice.Trend{}
		c.trends[m] = t
	}
	p := notice.Point{At: at, Free: x.DiskFree, Size: x.DiskSize}
	if g := x.Gauge; g != nil && g.Lag {
		p.Lag = &g.Value
	}
	t.Add(p)
	t.Altered, t.Unsent = x.Altered, x.Unsent
}

// withNotices has a snapshot say what is so as it was found last. It is called under the lock.
func (c *Controller) withNotices(s *snapshot.Snapshot) {
	s.Notices = c.state.OpenNotices()
	for i := range s.Notices {
		if text := c.noticed[s.Notices[i].ID]; text != "" {
			s.Notices[i].Text = text
		}
	}
}

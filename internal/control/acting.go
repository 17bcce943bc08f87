package control

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground/hosts"
)

// Snapshot gives the field as it is now.
func (c *Controller) Snapshot(context.Context) (*snapshot.Snapshot, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := *c.present()
	s.At = time.Now().UTC()
	s.Members = append([]snapshot.MemberView{}, s.Members...)
	c.withMeasures(&s)
	return &s, c.failed
}

// pauseAMember is how long it is, for each member, until a snapshot is followed by another.
const pauseAMember = 10 * time.Microsecond

// Watch gives a snapshot now and after every change.
func (c *Controller) Watch(ctx context.Context) (<-chan *snapshot.Snapshot, error) {
	out := make(chan *snapshot.Snapshot)
	go func() {
		defer close(out)
		for {
			c.mu.Lock()
			s, changed, failed := c.present(), c.changed, c.failed
			c.mu.Unlock()
			if failed != nil {
				return
			}
			select {
			case out <- s:
			case <-ctx.Done():
				return
			case <-c.done:
				return
			}
			select { // one of a large field, which takes its time to be made and to be passed on, is not followed by the next at once
			case <-time.After(time.Duration(len(s.Members)) * pauseAMember):
			case <-ctx.Done():
				return
			}
			select {
			case <-changed:
			case <-ctx.Done():
				return
			case <-c.done:
				return
			}
		}
	}()
	return out, nil
}

// heard waits until every node has been heard or given up: before that, what is known may be long out of date, and must
// not be built upon.
//
// A node that has just been lost is waited for a little longer: where its agent has ended, another is on its way. So is one that the log only
// asks for and of which something is found: an agent is there, and has more to tell than the log.
func (c *Controller) heard(ctx context.Context) error { return c.hear(ctx, lostWait) }

// hear waits until every node has been heard or given up, and so long for those that have just been lost.
func (c *Controller) hear(ctx context.Context, lostFor time.Duration) error {
	until := time.Now().Add(lostFor)
	unknown := c.foundUnbound(ctx)
	for {
		c.mu.Lock()
		listening, changed, lost := c.state.Listening(), c.changed, false
		for _, n := range c.state.Nodes {
			lost = lost || n.Unreachable && !n.Released && time.Since(n.Since) < lostWait
		}
		for _, name := range unknown {
			n := c.state.Nodes[name]
			_, lacks := c.lacking[name]
			lost = lost || n != nil && !n.Released && !n.Unreachable && !lacks && n.Heard == 0 && n.AskedWhy == ""
		}
		c.mu.Unlock()
		if listening == 0 && (!lost || time.Now().After(until)) {
			return nil
		}
		select {
		case <-changed:
		case <-time.After(100 * time.Millisecond):
		case <-c.done:
			return c.ended()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// foundUnbound lists the nodes that the log asks for and has not been given, and of which something is found: it was cut, or is an older copy.
func (c *Controller) foundUnbound(ctx context.Context) []field.NodeName {
	var asked []field.NodeName
	c.mu.Lock()
	for name, n := range c.state.Nodes {
		if !n.Released && n.Heard == 0 && !c.state.Retired {
			asked = append(asked, name)
		}
	}
	c.mu.Unlock()
	if len(asked) == 0 {
		return nil
	}
	found := c.ground.Found(ctx)
	return slices.DeleteFunc(asked, func(name field.NodeName) bool { _, is := found[name]; return !is })
}

// lostWait is how long a node that has just been lost is waited for.
const lostWait = 4 * time.Second

// current gives a copy of the state as it is published, to look at without holding anybody up.
func (c *Controller) current() *state.State {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state.Clone()
}

// Review lists what deploying the draft would change, once all nodes have been heard.
func (c *Controller) Review(ctx context.Context, draft *field.Field) (*plan.Review, error) {
	if err := cmp.Or(c.heard(ctx), c.trusted()); err != nil {
		return nil, err
	}
	draft = resolve.Surrounded(draft, c.folder.Around)
	s := c.current()
	if err := c.folder.unlinked(s, draft); err != nil {
		return nil, err
	}
	r, err := review.Of(s, draft)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	rollout.Ahead(s, draft, r, now)
	rollout.Consequences(s, r, now)
	r.Missing, err = c.lacks(ctx, draft)
	return r, err
}

// Preview renders what a member would be run with by the draft, and what it runs with.
func (c *Controller) Preview(_ context.Context, draft *field.Field, member field.MemberName) (*review.Files, error) {
	return review.Preview(c.current(), resolve.Surrounded(draft, c.folder.Around), member)
}

// Do carries out an order. A draft is judged once all nodes have been heard.
func (c *Controller) Do(ctx context.Context, o Request) error {
	if c.sealed != nil {
		return c.sealed
	}
	if o.What == "take over" {
		return c.takeOver(ctx, o)
	}
	if o.What == "retire" || o.What == "stop" {
		if c.folder.freeSpace() {
			c.freed.Store(true)
		}
	}
	switch o.What {
	case "deploy", "retire", "prove":
		if err := c.heard(ctx); err != nil {
			return err
		}
	case "pause", "go on": // which ask nothing of anybody
	default:
		if err := c.hear(ctx, 0); err != nil { // whether they obey this log
			return err
		}
	}
	if err := c.trusted(); err != nil {
		return err
	}
	if o.What == "rotate" {
		key, err := c.beforeRotation()
		if err != nil {
			return err
		}
		o.rootKey = key
	}
	if o.What == RotateAgents {
		if err := c.beforeAgentsRotation(); err != nil {
			return err
		}
	}
	if o.What == FinishAgents {
		o.away = c.away()
	}
	if o.What == "deploy" {
		if o.Draft != nil {
			o.Draft = resolve.Surrounded(o.Draft, c.folder.Around)
			lacks, err := c.lacks(ctx, o.Draft)
			if err = cmp.Or(err, c.folder.unlinked(c.current(), o.Draft), c.folder.barred(o.Draft), missingError(lacks), c.ready(ctx, o)); err != nil {
				return err
			}
		}
	}
	err := c.submit(ctx, input{asked: &o})
	if err != nil && o.What == finishRotating {
		c.askPending(ctx)
	}
	if err == nil && (o.What == takeBack || o.What == handOver) {
		c.takenBack(ctx, o)
	}
	return err
}

// ready refuses a draft by which machines would be used that are not ready; those that are new are looked at first.
func (c *Controller) ready(ctx context.Context, o Request) error {
	err := c.check(ctx, o.Draft)
	var unfit *hosts.UnfitError
	if o.Anyway && (err == nil || errors.As(err, &unfit)) {
		return nil
	}
	if err != nil {
		return err
	}
	return c.preflown(ctx, o.Draft)
}

// Settled tells whether nothing is left to do; see engine.Settled.
func (c *Controller) Settled() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return engine.Settled(c.state) && !c.expecting() && !c.filterDue.Load() && !c.copyDue() && !c.tellingOthers() && !c.heeding.Load() && !c.runsUntold() && (c.sealed != nil || len(engine.LinksToDrop(c.state)) == 0)
}

// Gone tells whether there is nothing of the field in the world.
func (c *Controller) Gone() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state.Retired || c.state.Field == nil
}

// Changed gives a channel that is closed at the next change of the field, and Done one that is closed when the controller has given it up.
func (c *Controller) Changed() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.changed
}

// Done gives a channel that is closed when the controller has given the field up.
func (c *Controller) Done() <-chan struct{} { return c.done }

// Journal gives a part of the journal.
func (c *Controller) Journal(_ context.Context, r Range) ([]Entry, error) {
	return LookJournal(c.folder, r)
}

// Tide gives how many lanterns were lit over time.
func (c *Controller) Tide(_ context.Context, since time.Time) ([]Sample, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.tide.since(since), nil
}

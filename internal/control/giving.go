package control

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
)

// How long it is waited until a ground that could not give a node is asked again.
const (
	giveAgain     = time.Second
	giveAgainMost = 30 * time.Second
)

// wanted is a node as its ground is asked for it.
func wanted(f *field.Field, node *field.Node, times int) ground.Want {
	w := ground.Want{Node: *node, Times: times, Networks: f.Networks, Address: f.Given(node)}
	w.Node.Ground = f.GroundFor(node)
	w.Place = max(0, slices.IndexFunc(f.Possible(), func(n field.Node) bool { return n.Name == node.Name }))
	return w
}

// check asks the grounds what speaks against the nodes of a draft that are new.
func (c *Controller) check(ctx context.Context, draft *field.Field) error {
	s := c.current()
	var wants []ground.Want
	for i := range draft.Nodes {
		if n := s.Nodes[draft.Nodes[i].Name]; n == nil || n.Released || !n.There() || s.Retired {
			wants = append(wants, wanted(draft, &draft.Nodes[i], 0))
		}
	}
	if len(wants) == 0 {
		return nil
	}
	have := bindings(s)
	if s.Retired {
		have = nil
	}
	return c.ground.Check(ctx, wants, have)
}

// want is what the ground is to be asked for, of a node; false where nobody wants the node.
func (c *Controller) want(node field.NodeName, times int) (ground.Want, ground.Bindings, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.state.Nodes[node]
	if n == nil || c.state.Field == nil {
		return ground.Want{}, nil, false
	}
	declared := c.state.Field.Node(node)
	if declared == nil {
		return ground.Want{}, nil, false
	}
	w := wanted(c.state.Field, declared, times)
	w.Node.Ground.Kind = cmp.Or(n.Kind, w.Node.Ground.Kind)
	return w, bindings(c.state), true
}

// obtain has the node's ground give it, and asks again until it does or the node is not wanted any more.
func (d *driver) obtain(ctx context.Context, times int) {
	for pause := giveAgain; ctx.Err() == nil; pause = min(2*pause, giveAgainMost) {
		at, err, withdrawn := d.ask(ctx, times)
		if withdrawn || ctx.Err() != nil {
			select {
			case <-ctx.Done():
			case <-d.wake:
			case <-time.After(giveAgain):
			}
			return
		}
		if err == nil {
			d.mu.Lock()
			d.tasks.give = 0
			d.mu.Unlock()
			d.at = at
			d.tell(ctx, engine.NodeGiven{Node: d.node, Times: times, Binding: at})
			return
		}
		var awaited *ground.AwaitedError
		d.tell(ctx, engine.NodeNotGiven{Node: d.node, Times: times, Why: err.Error(), Awaited: errors.As(err, &awaited)})
		for again := time.After(pause); ; {
			select {
			case <-ctx.Done():
				return
			case <-again:
			case <-d.came:
				pause = giveAgain
			case <-d.wake:
				if d.pending().release {
					return
				}
				continue
			}
			break
		}
	}
}

// ask asks the ground once. It does not wait for an answer any more when the node is to be released.
func (d *driver) ask(ctx context.Context, times int) (at state.Binding, err error, withdrawn bool) {
	want, have, wanted := d.control.want(d.node, times)
	if !wanted || d.pending().release {
		return at, nil, true
	}
	asking, cancel := context.WithCancel(ctx)
	defer cancel()
	answered := make(chan struct{})
	go func() {
		defer close(answered)
		at, err = d.control.ground.Give(asking, want, have)
		at.Times = times
	}()
	for {
		select {
		case <-answered:
			return at, err, withdrawn
		case <-d.wake:
			if d.pending().release {
				withdrawn = true
				cancel()
			}
		}
	}
}

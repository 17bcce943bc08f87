package control

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
)

// driver carries orders to one node and brings its reports back. It decides nothing.
type driver struct {
	control *Controller
	node    field.NodeName
	at      state.Binding
	bound   int    // which binding of the node it is for
	agent   string // whose reports heard counts
	heard   uint64

	mu        sync.Mutex
	tasks     tasks
	accounted bool
	interrupt context.CancelCauseFunc // ends the conversation that goes on; nil where there is none
	wake      chan struct{}
	came      chan struct{} // somebody has brought what its ground was asked for
}

// How a driver keeps in touch with its agent.
const (
	// A request for reports is kept open this long, well below the lease of operations; a heartbeat a second shows that the agent is there.
	reportWait  = 3 * time.Second
	mostMeeting = 64                      // agents at a time: where a thousand come back at once, each is to be heard in time
	answerWait  = 1500 * time.Millisecond // how much longer an answer may take
	orderWait   = 5 * time.Second
	againAfter  = time.Second // an order that was refused or not acknowledged is repeated
)

func newDriver(c *Controller, n *state.Node) *driver {
	return &driver{control: c, node: n.Name, at: n.Binding(), bound: n.Bound, agent: n.Agent, heard: n.Heard,
		wake: make(chan struct{}, 1), came: make(chan struct{}, 1)}
}

// knock has the driver ask its ground again at once.
func (d *driver) knock() {
	select {
	case d.came <- struct{}{}:
	default:
	}
}

// How long a driver waits until it tries to reach its agent again.
const (
	reachAgain     = 20 * time.Millisecond
	reachAgainMost = 2 * time.Second
)

// run keeps in touch until the context ends or the node is released.
func (d *driver) run(ctx context.Context) {
	pause := reachAgain
	for ctx.Err() == nil {
		switch t := d.pending(); {
		case t.release:
			if d.release(ctx) {
				return
			}
		case t.give > 0:
			d.obtain(ctx, t.give)
			continue
		case d.at.Address == "": // what its ground has given is being stored
			select {
			case <-ctx.Done():
			case <-d.wake:
			}
		case d.reach(ctx, pause > 200*time.Millisecond):
			pause = reachAgain
		}
		select {
		case <-ctx.Done():
		case <-d.came: // its machine has come back with a new agent
			pause = reachAgain
		case <-time.After(pause):
		}
		pause = min(2*pause, reachAgainMost)
	}
}

// release gives the node back, after its agent has said what is left there. It tells whether that is done.
func (d *driver) release(ctx context.Context) bool {
	if d.account(ctx); ctx.Err() != nil {
		return true
	}
	if d.settle(ctx); ctx.Err() != nil {
		return true
	}
	if err := d.control.ground.Release(ctx, d.node, d.at); err != nil {
		d.lost(ctx, err.Error(), false)
		return false
	}
	d.tell(ctx, engine.NodeFreed{Node: d.node})
	return true
}

// reach finds the node's agent, has it obey, and keeps in touch until it stops answering. It tells whether it answered to the end; Tried says
// that it has not answered for some time, so that it counts as lost.
func (d *driver) reach(ctx context.Context, tried bool) bool {
	client, err := d.control.ground.Ensure(ctx, d.node, d.at)
	if err != nil {
		if errors.Is(err, ground.ErrAdrift) && d.control.retiring() {
			err = errors.Join(err, d.control.ground.Abandon(ctx, d.node, d.at))
		}
		d.lost(ctx, err.Error(), false)
		return false
	}
	defer client.Close()
	if d.control.sealed != nil {
		err = d.watch()
	} else {
		err = d.claim(ctx, client)
	}
	if err == nil {
		d.control.drivers.Go(func() { d.control.findAgain(ctx, d, client) })
		err = d.converse(ctx, client)
	}
	var lacks *agentapi.Lacks
	switch {
	case err == nil || errors.Is(err, errRelease):
		return true
	case errors.As(err, &lacks):
		d.lost(ctx, lacks.Why, true)
	case ctx.Err() == nil:
		slog.Info("lost touch with an agent", "node", d.node, "error", err)
		if tried || errors.Is(err, context.DeadlineExceeded) {
			d.lost(ctx, state.Silent, false)
		}
	}
	return false
}

// claim has the agent obey this controller. An error that is context.DeadlineExceeded says that it did not answer in time.
func (d *driver) claim(ctx context.Context, client agentapi.Agent) error {
	select { // before the time runs within which it is to answer
	case d.control.meeting <- struct{}{}:
		defer func() { <-d.control.meeting }()
	case <-ctx.Done():
		return ctx.Err()
	}
	asking, done := context.WithTimeout(ctx, answerWait)
	defer done()
	err := d.control.claim(asking, d, client)
	var slow interface{ Timeout() bool }
	if errors.As(err, &slow) && slow.Timeout() {
		return context.DeadlineExceeded
	}
	return err
}

// watch begins to listen to an agent that obeys whoever it obeyed before.
func (d *driver) watch() error {
	c := d.control
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.state.Nodes[d.node]
	if n == nil {
		return errRelease
	}
	d.agent, d.heard = n.Agent, n.Heard
	return nil
}

// lost tells the engine that the node cannot be reached.
func (d *driver) lost(ctx context.Context, why string, refuses bool) {
	if ctx.Err() == nil {
		d.tell(ctx, engine.NodeLost{Node: d.node, Why: why, Refuses: refuses})
	}
}

// account has the agent say what it still holds and finds, and stores that, before it is released.
func (d *driver) account(ctx context.Context) {
	if d.at.Address == "" {
		return // there was nobody who could
	}
	in := engine.Account{Node: d.node}
	client, err := d.control.ground.Find(ctx, d.node, d.at)
	if err != nil { // one that runs no more has a successor, which finds what it kept
		client, err = d.control.ground.Ensure(ctx, d.node, d.at)
	}
	if err == nil {
		defer client.Close()
		asking, done := context.WithTimeout(ctx, orderWait)
		defer done()
		in.Left, err = client.Account(asking)
	}
	if err != nil && ctx.Err() == nil {
		in.Unconfirmed = err.Error()
	}
	d.mu.Lock()
	again := d.accounted
	d.accounted = true
	d.mu.Unlock()
	if ctx.Err() == nil && !again {
		d.tell(ctx, in)
	}
}

// tell hands an input to the engine and waits until it is stored.
func (d *driver) tell(ctx context.Context, in engine.Input) bool {
	return d.control.submit(ctx, input{in: in}) == nil
}

// errRelease ends a conversation because the node is to be released.
var errRelease = errors.New("the node is released")

// errGive ends a conversation because the node is to be given more addresses.
var errGive = errors.New("its ground is asked")

// errAnew ends a conversation because the controller has to show its log again.
var errAnew = errors.New("the field was taken over")

// anew ends the conversation that goes on; the next one begins with a claim.
func (d *driver) anew() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.interrupt != nil {
		d.interrupt(errAnew)
	}
}

// converse sends orders and takes in reports until the agent stops answering. It returns nil when the conversation
// ended for a reason of our own.
func (d *driver) converse(ctx context.Context, client agentapi.Agent) error {
	ctx, cancel := context.WithCancelCause(ctx)
	d.mu.Lock()
	d.interrupt = cancel
	d.mu.Unlock()
	var sending sync.WaitGroup
	defer func() { // in this order: the sender ends when its context does
		cancel(nil)
		sending.Wait()
	}()
	sending.Add(1)
	go func() {
		defer sending.Done()
		d.send(ctx, cancel, client)
	}()
	sending.Add(1)
	go func() {
		defer sending.Done()
		d.measure(ctx, client)
	}()
	acknowledged := uint64(0)
	wait := time.Duration(0) // the first answer only shows that it answers
	for {
		asking, done := context.WithTimeout(ctx, wait+answerWait)
		news, err := client.Reports(asking, d.agent, d.heard, acknowledged, wait)
		late := asking.Err()
		done()
		if cause := context.Cause(ctx); cause != nil {
			if errors.Is(cause, errRelease) || errors.Is(cause, errGive) || errors.Is(cause, errAnew) || errors.Is(cause, context.Canceled) {
				return nil
			}
			return cause
		}
		if err != nil {
			if late != nil {
				return context.DeadlineExceeded
			}
			return err
		}
		wait = reportWait
		if n := len(news.Reports); n > 0 {
			if !d.tell(ctx, engine.Reports{Node: d.node, Agent: news.Agent, Reports: news.Reports}) {
				return nil
			}
			d.agent, d.heard = cmp.Or(news.Reports[n-1].Life, news.Agent), news.Reports[n-1].Seq
			acknowledged = d.heard
		}
		// After its reports: what follows from hearing a node shall follow from all that it had to tell.
		if d.control.misses(d.node) && !d.tell(ctx, engine.NodeFound{Node: d.node}) {
			return nil
		}
	}
}

// send carries orders and operations to the agent and repeats them until reports acknowledge them.
func (d *driver) send(ctx context.Context, cancel context.CancelCauseFunc, client agentapi.Agent) {
	orders, operations := map[field.MemberName]sent{}, map[uint64]sent{}
	again := time.NewTicker(againAfter)
	defer again.Stop()
	for {
		t := d.pending()
		if t.release {
			cancel(errRelease)
			return
		}
		if t.give > 0 {
			cancel(errGive)
			return
		}
		for _, o := range t.orders {
			now := sent{o.Term, o.Revision, time.Now()}
			if orders[o.Member].lately(now) {
				continue
			}
			orders[o.Member] = now
			if !d.put(ctx, cancel, engine.Refusal{Member: o.Member, Revision: o.Revision}, func(ctx context.Context) error { return client.Put(ctx, o) }) {
				return
			}
		}
		for _, o := range t.operations {
			now := sent{o.Term, o.ID, time.Now()}
			if operations[o.ID].lately(now) {
				continue
			}
			operations[o.ID] = now
			if !d.put(ctx, cancel, engine.Refusal{Member: o.Member, Revision: o.ID}, func(ctx context.Context) error { return client.Operate(ctx, o) }) {
				return
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-d.wake:
		case <-again.C:
		}
	}
}

// put sends one thing. A refusal goes to the engine; it tells whether the agent still answers.
func (d *driver) put(ctx context.Context, cancel context.CancelCauseFunc, refusal engine.Refusal, send func(context.Context) error) bool {
	asking, done := context.WithTimeout(ctx, orderWait)
	err := send(asking)
	done()
	var refused *agentapi.Refused
	switch {
	case ctx.Err() != nil:
		return false
	case errors.As(err, &refused):
		refusal.Why = refused.Why
		d.tell(ctx, refusal)
	case err != nil:
		cancel(err)
		return false
	}
	return true
}

// sent says what was sent last, and when.
type sent struct {
	term, revision uint64
	at             time.Time
}

func (s sent) lately(now sent) bool {
	return s.revision == now.revision && s.term == now.term && now.at.Sub(s.at) < againAfter
}

// misses tells whether a node is thought not to be in reach, or has not been heard yet.
func (c *Controller) misses(node field.NodeName) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := c.state.Nodes[node]
	return n != nil && (n.Unreachable || n.Unheard)
}

package control

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/loop"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/sqlite"
	"lanternfield/internal/ground"
)

// Controller holds a field in this process. One goroutine decides (see package loop); everything else reaches it through inputs and reads
// what it publishes, which is what has been stored.
type Controller struct {
	folder  Folder
	lock    *os.File
	log     *sqlite.Log
	loop    *loop.Loop
	marks   *marks
	ground  ground.Ground
	key     []byte
	inputs  chan input
	cancel  context.CancelFunc
	done    chan struct{}
	drivers sync.WaitGroup

	mu       sync.Mutex // guards what follows; nothing that may block is done under it
	state    *state.State
	snapshot *snapshot.Snapshot
	changed  chan struct{} // closed at every change
	problems []string
	measures map[field.MemberName]agentapi.Measure
	measured bool // there are newer ones than in the snapshot
	tide     timeline
	failed   error
	driving  map[field.NodeName]*driver
	lacking  map[field.NodeName]lacking // whose agents do not obey this log

	door    door // who is attached
	command string
	since   time.Time
	stays   atomic.Bool // also when all is settled
	freed   atomic.Bool // the kept space was given free for what ends something
}

// request is an input with a place for the answer.
type input struct {
	in    engine.Input
	asked *Request
	reply chan error
}

// Hold takes the field's lock and becomes its controller. Where another process holds it, it waits a moment, since that one may be ending; an
// error of type *HeldError says that it is not. Command says for people what holds the field.
func Hold(ctx context.Context, f Folder, command string) (*Controller, error) {
	deadline := time.Now().Add(3 * time.Second)
	for {
		if err := f.make(); err != nil {
			return nil, err
		}
		lock, holder, err := f.take(command)
		if err != nil {
			return nil, err
		}
		if lock != nil {
			freed := false
			if strings.HasPrefix(command, "lanternfield retire") || strings.HasPrefix(command, "lanternfield stop") {
				freed = f.freeSpace() // who ends something on a full disk needs room for saying so
			} else {
				f.keepSpace()
			}
			c, err := start(f, lock, command)
			if err != nil {
				lock.Close()
				return nil, err
			}
			c.freed.Store(freed)
			return c, nil
		}
		if answers := f.answers(ctx); answers || time.Now().After(deadline) {
			return nil, &HeldError{Field: fieldName(f), Holder: *holder, Answers: answers}
		}
		select { // the holder may just be starting or ending
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Cut takes a broken log back to what comes before the event that is not as it was written, on the word of a person who takes the field over.
// It gives the name under which the whole of it is kept.
func Cut(f Folder, broken *eventlog.Broken) (kept string, err error) {
	lock, holder, err := f.take("cut")
	if err != nil {
		return "", err
	}
	if lock == nil {
		return "", &HeldError{Field: fieldName(f), Holder: *holder}
	}
	kept, err = sqlite.Cut(f.events(), broken.Seq)
	return kept, errors.Join(err, lock.Close())
}

func fieldName(f Folder) string { return filepath.Base(f.Dir) }

func start(f Folder, lock *os.File, command string) (*Controller, error) {
	key, err := f.key()
	if err != nil {
		return nil, err
	}
	g, err := f.groundWith(key)
	if err != nil {
		return nil, err
	}
	log, err := sqlite.Open(f.events())
	if err != nil {
		return nil, err
	}
	c := &Controller{folder: f, lock: lock, command: command, since: time.Now(), log: log, ground: g, key: key, inputs: make(chan input, 64), done: make(chan struct{}),
		changed: make(chan struct{}), measures: map[field.MemberName]agentapi.Measure{},
		driving: map[field.NodeName]*driver{}, lacking: map[field.NodeName]lacking{}}
	s, tide, marks, err := f.foldToWrite(log)
	c.tide, c.marks = tide, marks
	over := engine.TakeOver{By: fmt.Sprintf("process %d (%s)", os.Getpid(), command)}
	if err == nil {
		over.Mark, err = randomMark()
	}
	if err == nil {
		over.Log, err = randomMark()
	}
	if err == nil {
		c.loop, c.state = loop.New(log, s), s.Clone()
		_, _, err = c.decide([]input{{in: over}})
	}
	if err == nil {
		err = c.listen()
	}
	if err != nil {
		marks.drop()
		return nil, errors.Join(err, log.Close())
	}
	ctx, cancel := context.WithCancel(context.Background())
	c.cancel = cancel
	c.publish()
	c.dispatch(ctx)
	go c.own(ctx)
	c.drivers.Go(func() { c.condensing(ctx) })
	return c, nil
}

// mostTogether is how many inputs are decided on before their events are synced as one batch.
const mostTogether = 256

// own decides on inputs until the context ends. Events are on the disk before anybody hears of them.
func (c *Controller) own(ctx context.Context) {
	defer close(c.done)
	measures := time.NewTicker(time.Second)
	defer measures.Stop()
	for {
		var batch []input
		select {
		case <-ctx.Done():
			return
		case <-measures.C:
			c.freshen()
			continue
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
	if !c.measured {
		return
	}
	c.measured = false
	s := *c.snapshot
	s.At = time.Now().UTC()
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
			inputs[i] = func(s *state.State) (engine.Input, error) {
				return r.asked.input(s, func(draft *field.Field) (map[field.NodeName]state.Binding, error) { return c.bind(s, draft) })
			}
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
		c.marks.note(eventlog.Stored{Seq: out.First + uint64(i), Event: e})
	}
	news = len(out.Events) > 0 || len(out.Problems) > 0
	if len(out.Problems) > 0 {
		slog.Error("something that is wanted cannot be done", "problem", out.Problems[0])
		c.problems = out.Problems
	} else if out.Decided {
		c.problems = nil
	}
	due := c.marks.due
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

func (c *Controller) bind(s *state.State, draft *field.Field) (map[field.NodeName]state.Binding, error) {
	bound := map[field.NodeName]state.Binding{}
	if !s.Retired {
		for _, n := range s.Nodes {
			if !n.Released {
				bound[n.Name] = state.Binding{Address: n.Address, Dir: n.Dir}
			}
		}
	}
	return c.ground.Bind(draft, bound)
}

// publish makes the newest snapshot and wakes those who watch.
func (c *Controller) publish() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.snapshot = snapshot.Of(c.state, time.Now().UTC())
	c.snapshot.Problems = c.problems
	if c.snapshot.Field == "" {
		c.snapshot.Field = fieldName(c.folder)
	}
	c.withMeasures(c.snapshot)
	close(c.changed)
	c.changed = make(chan struct{})
}

func (c *Controller) withMeasures(s *snapshot.Snapshot) {
	addMeasures(s, c.measures)
	c.withKeeper(s)
}

// addMeasures adds to a snapshot what agents measure now and then.
func addMeasures(s *snapshot.Snapshot, measures map[field.MemberName]agentapi.Measure) {
	for i := range s.Members {
		m := &s.Members[i]
		if x, ok := measures[m.Member]; ok && m.PID != 0 {
			m.Probe.LatencyMS, m.Memory, m.Probe.LastGood = x.LatencyMS, field.Bytes(x.Memory), x.LastGood
			if !m.Probe.OK && x.Error != "" {
				m.Probe.Error = x.Error
			}
		}
	}
}

// dispatch hands every node's driver what must be done there.
func (c *Controller) dispatch(ctx context.Context) {
	c.mu.Lock()
	defer c.mu.Unlock()
	perNode := map[field.NodeName][]order.Order{}
	operations := map[field.NodeName][]order.Operation{}
	release := map[field.NodeName]bool{}
	for _, cmd := range engine.Commands(c.state) {
		switch {
		case cmd.Release:
			release[cmd.Node] = true
		case cmd.Operation != nil:
			operations[cmd.Node] = append(operations[cmd.Node], c.withOperationSecrets(*cmd.Operation))
		default:
			perNode[cmd.Node] = append(perNode[cmd.Node], c.withSecrets(*cmd.Order))
		}
	}
	for name, n := range c.state.Nodes {
		d := c.driving[name]
		if n.Released || c.state.Retired {
			delete(c.driving, name)
			continue
		}
		if d == nil {
			d = newDriver(c, n)
			c.driving[name] = d
			c.drivers.Add(1)
			go func() {
				defer c.drivers.Done()
				d.run(ctx)
			}()
		}
		d.give(tasks{perNode[name], operations[name], release[name]})
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

// Snapshot gives the field as it is now.
func (c *Controller) Snapshot(context.Context) (*snapshot.Snapshot, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := *c.snapshot
	s.At = time.Now().UTC()
	s.Members = append([]snapshot.MemberView{}, s.Members...)
	c.withMeasures(&s)
	return &s, c.failed
}

// Watch gives a snapshot now and after every change.
func (c *Controller) Watch(ctx context.Context) (<-chan *snapshot.Snapshot, error) {
	out := make(chan *snapshot.Snapshot)
	go func() {
		defer close(out)
		for {
			c.mu.Lock()
			s, changed, failed := c.snapshot, c.changed, c.failed
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
// A node that has just been lost is waited for a little longer: where its agent has ended, another is on its way.
func (c *Controller) heard(ctx context.Context) error {
	until := time.Now().Add(lostWait)
	for {
		c.mu.Lock()
		listening, changed, lost := c.state.Listening(), c.changed, false
		for _, n := range c.state.Nodes {
			lost = lost || n.Unreachable && !n.Released && time.Since(n.Since) < lostWait
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
	draft = c.folder.surrounded(draft)
	r, err := review.Of(c.current(), draft)
	if err != nil {
		return nil, err
	}
	r.Missing, err = c.lacks(ctx, draft)
	return r, err
}

// Preview renders what a member would be run with by the draft, and what it runs with.
func (c *Controller) Preview(_ context.Context, draft *field.Field, member field.MemberName) (*review.Files, error) {
	return review.Preview(c.current(), draft, member)
}

// Do carries out an order. A draft is judged once all nodes have been heard.
func (c *Controller) Do(ctx context.Context, o Request) error {
	if o.What == "take over" {
		return c.takeOver(ctx, o)
	}
	if o.What == "retire" || o.What == "stop" {
		if c.folder.freeSpace() {
			c.freed.Store(true)
		}
	}
	if o.What == "deploy" || o.What == "retire" {
		if err := c.heard(ctx); err != nil {
			return err
		}
	}
	if err := c.trusted(); err != nil {
		return err
	}
	if o.What == "deploy" {
		if o.Draft != nil {
			o.Draft = c.folder.surrounded(o.Draft)
			lacks, err := c.lacks(ctx, o.Draft)
			if err = cmp.Or(err, missingError(lacks)); err != nil {
				return err
			}
		}
	}
	return c.submit(ctx, input{asked: &o})
}

// Settled tells whether nothing is left to do; see engine.Settled.
func (c *Controller) Settled() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return engine.Settled(c.state)
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

// Close lets go of the field. Agents and members go on.
func (c *Controller) Close() error {
	c.turnAway() // who comes in now starts the next one
	c.cancel()
	<-c.done
	c.drivers.Wait()
	c.marks.close(c.loop.State(), c.tide)
	err := errors.Join(c.shut(), c.log.Close())
	if !c.Adrift() {
		c.folder.keepSpace()
	}
	return errors.Join(err, c.lock.Close())
}

package control

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/loop"
	"lanternfield/internal/core/notice"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/lease"
	"lanternfield/internal/eventlog/sqlite"
	"lanternfield/internal/ground"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// Controller holds a field in this process. One goroutine decides (see package loop); everything else reaches it through inputs and reads
// what it publishes, which is what has been stored.
type Controller struct {
	folder   Folder
	lock     *lease.Lease
	loop     *loop.Loop
	marks    checkpoints
	ground   ground.Ground
	ring     *keyring.Keyring  // nil while it is sealed
	sealed   *SealedError      // why; nil where it is open
	members  *identity.Members // makes their certificates
	counting *counting         // whose word counts with agents
	minted   minted
	letGo    func() error // closes the log
	inputs   chan input
	life     context.Context // ends when the controller lets go of the field
	cancel   context.CancelFunc
	done     chan struct{}
	closing  sync.Once
	closed   error // what came of it
	drivers  sync.WaitGroup

	mu        sync.Mutex // guards what follows; nothing that may block is done under it
	state     *state.State
	snapshot  *snapshot.Snapshot
	changed   chan struct{} // closed at every change
	problems  []string
	unbacked  string // why the field is not backed up, where it is to be
	unjoined  string // why invited machines cannot join
	unmade    string // why an order cannot be sent: what stands in it cannot be made
	measures  map[field.MemberName]agentapi.Measure
	measured  bool      // there are newer ones than in the snapshot
	changes   uint64    // of the snapshot, but by measures
	freshened time.Time // when measures were put into it last
	tide      timeline
	book      rollout.Book                       // of what is carried out
	watched   *watched                           // what is measured; nil where it is not kept
	trends    map[field.MemberName]*notice.Trend // of what is measured
	noticed   map[string]string                  // what was found last of which a person is told, by ID
	unhooked  map[string]string                  // why webhooks cannot be told
	failed    error
	driving   map[field.NodeName]*driver
	meeting   chan struct{}              // a place for each agent that is being met
	proofs    map[int]bool               // that were begun, by number
	lacking   map[field.NodeName]lacking // whose agents do not obey this log

	telling map[string]told // other fields that are to be told of something, by grant

	copied  string // the stamp of the state of which agents were given a copy last
	copying told   // how far the giving of one of the present state is

	ranWith map[field.RoleName]linkSaid // what other fields were told that members run with

	nudged  chan struct{} // another field has something new
	heeding atomic.Bool   // and has not been asked yet

	filterDue atomic.Bool // packet filters are still to be told something

	noting sync.Mutex // what machines have is noted by one at a time

	doors doors // at which machines knock that join

	door    doorway // who is attached
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
				lock.Release()
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
	return kept, errors.Join(err, lock.Release())
}

func fieldName(f Folder) string { return filepath.Base(f.Dir) }

// parts is what a controller works with. Hold makes them out of a folder; a rehearsal in virtual time hands over its own.
type parts struct {
	ground   ground.Ground
	log      eventlog.Log
	state    *state.State // that the log has led to, which becomes the controller's own
	tide     timeline
	book     rollout.Book
	marks    checkpoints
	ring     *keyring.Keyring
	counting *counting
	sealed   *SealedError // why there is no keyring; nil where there is one
	lock     *lease.Lease // nil where nobody else could write the log
	letGo    func() error
	closed   bool // nobody can come in through a socket
}

// checkpoints keeps folded states as the log goes on.
type checkpoints interface {
	note(e eventlog.Stored)                                 // takes in an event that was stored
	isDue() bool                                            // tells whether a checkpoint is to be taken
	take(s *state.State, t timeline)                        // takes one
	close(s *state.State, t timeline)                       // ends, with a last one
	condense(ctx context.Context, keep field.History) error // condenses what is older, or more, than is to be kept
}

// start makes the controller of a folder.
func start(f Folder, lock *lease.Lease, command string) (*Controller, error) {
	ring, err := f.keyring()
	var sealed *SealedError
	if err != nil && !errors.As(err, &sealed) {
		return nil, err
	}
	log, err := sqlite.Open(f.events())
	if err != nil {
		return nil, err
	}
	s, tide, marks, err := f.foldToWrite(log)
	if err == nil && ring != nil {
		err = settleKeys(ring, s.Counting)
	}
	var book rollout.Book
	if err == nil {
		book, err = goingOn(marks.folder(), s)
	}
	var g ground.Ground
	var follows *counting
	if err == nil {
		g, follows, err = f.groundWith(ring)
	}
	if err == nil {
		var c *Controller
		if c, err = begin(f, parts{ground: g, counting: follows, log: log, state: s, tide: tide, book: book, marks: marks, ring: ring, sealed: sealed, lock: lock, letGo: log.Close}, command); err == nil {
			return c, nil
		}
	}
	marks.drop()
	return nil, errors.Join(err, log.Close())
}

// begin takes the field over, and goes on from there.
func begin(f Folder, p parts, command string) (*Controller, error) {
	over := engine.TakeOver{By: fmt.Sprintf("process %d (%s)", os.Getpid(), command)}
	var err error
	if over.Mark, err = randomMark(); err != nil {
		return nil, err
	}
	if over.Log, err = randomMark(); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	c := &Controller{life: ctx, cancel: cancel, folder: f, lock: p.lock, command: command, since: time.Now(), letGo: p.letGo, ground: p.ground, ring: p.ring, counting: p.counting, sealed: p.sealed, members: membersOf(p.ring),
		loop: loop.New(p.log, p.state), state: p.state.Clone(), tide: p.tide, book: p.book, marks: p.marks, inputs: make(chan input, 64), done: make(chan struct{}),
		changed: make(chan struct{}), measures: map[field.MemberName]agentapi.Measure{}, driving: map[field.NodeName]*driver{}, lacking: map[field.NodeName]lacking{},
		telling: map[string]told{}, ranWith: map[field.RoleName]linkSaid{}, meeting: make(chan struct{}, mostMeeting), nudged: make(chan struct{}, 1)}
	if c.counting == nil {
		c.counting = &counting{moved: map[field.NodeName]bool{}}
	}
	if _, _, err = c.decide([]input{{in: over}}); err == nil && !p.closed {
		err = c.listen()
	}
	if err != nil {
		cancel()
		return nil, err
	}
	c.follow(c.loop.State())
	c.filterDue.Store(!p.closed && c.state.Field != nil && c.state.Field.Rules == field.RulesManaged && !c.state.Retired)
	c.publish()
	c.dispatch(ctx)
	go c.own(ctx)
	c.drivers.Go(func() { c.condensing(ctx) })
	c.drivers.Go(func() { c.backing(ctx) })
	if !p.closed {
		c.copied = f.copiedStamp()
		c.drivers.Go(func() { c.keepCopies(ctx) })
		c.drivers.Go(func() { c.watching(ctx) })
		c.drivers.Go(func() { c.noticing(ctx) })
		c.drivers.Go(func() { c.hooking(ctx) })
		c.drivers.Go(func() { c.linking(ctx) })
		c.drivers.Go(func() { c.granting(ctx) })
		c.drivers.Go(func() { c.inviting(ctx) })
		c.drivers.Go(func() { c.filtering(ctx) })
	}
	return c, nil
}

// Anew begins anew with what opens the keyring. The lock is held all the time.
func (c *Controller) Anew(id *age.X25519Identity) (*Controller, error) {
	f := c.folder
	f.Identity = id
	err := c.end()
	if err == nil {
		var next *Controller
		if next, err = start(f, c.lock, c.command); err == nil {
			next.stays.Store(c.stays.Load())
			return next, nil
		}
	}
	return nil, errors.Join(err, c.lock.Release())
}

// end ends all that a controller does, and holds its lock on.
func (c *Controller) end() error {
	c.turnAway() // who comes in now starts the next one, or waits for it
	c.cancel()
	<-c.done
	c.drivers.Wait()
	c.marks.close(c.loop.State(), c.tide)
	return errors.Join(c.shut(), c.letGo())
}

// Close lets go of the field. Agents and members go on. It may be repeated.
func (c *Controller) Close() error {
	c.closing.Do(func() { c.closed = c.close() })
	return c.closed
}

func (c *Controller) close() error {
	err := c.end()
	if c.lock == nil {
		return err
	}
	if !c.Adrift() {
		c.folder.keepSpace()
	}
	return errors.Join(err, c.lock.Release())
}

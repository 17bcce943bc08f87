// Package agent is the daemon on a node. It runs and supervises the members that a controller orders, keeps what it was
// ordered on disk before acting, and reports what happens with numbers, until acknowledged. Members outlive it.
package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
	"lanternfield/internal/series"
)

// Options are what an agent is started with.
type Options struct {
	Dir     string         // the agent's own folder, made by the ground
	Node    field.NodeName // for messages
	Address string         // where it listens
	Ports   Ports          // at one of which; the kernel chooses where it names none
	// Enrol leads to who has started the agent: there it gets its certificate, and says when it answers. Nil where it was enrolled before and has
	// kept its identity, as agents on hosts do.
	Enrol io.ReadWriteCloser
	// Guard is the program of guards; the agent's own, with the argument guard, where it is empty.
	Guard string
	// NoGroups has the agent go without control groups, as where there are none.
	NoGroups bool
	// TakeAway takes everything of the agent and its members away from this machine, and gives what is left all the same; nil where somebody else does.
	TakeAway func() (left []string, err error)
	// Runtime runs the members; processes of this machine where it is nil.
	Runtime runtime.Runtime
}

// Agent is a running agent.
type Agent struct {
	options Options
	disk    layout
	id      string // made once; never changes
	reports *reportLog
	party   identity.Agent
	door    *identity.Listener
	kept    []byte // the key to seal with, where the agent keeps its identity
	program string // the checksum of this program, likewise
	runtime runtime.Runtime
	adrift  bool        // its folder is not where it was
	ended   atomic.Bool // its successor answers

	asked atomic.Int64 // when a controller came for reports last, in Unix nanoseconds

	mu        sync.Mutex // guards what follows
	memory    memory
	taken     uint64 // the highest revision of any order or operation
	members   map[field.MemberName]*held
	working   map[field.MemberName]*work // operations by the member that they are about
	filtering sync.Mutex                 // rules of the packet filter are changed
	parting   chan parting               // hears what came of taking everything away, where that was asked for
	ending    error                      // what it is to end with
	quit      context.CancelFunc
	wait      sync.WaitGroup
}

// held is a member with the newest order that is on disk.
type held struct {
	*member
	order order.Order
	done  chan struct{}
}

// ErrRunning says that another agent holds the folder.
var ErrRunning = errors.New("another agent runs in this folder")

// Run is an agent from start to exit. It returns when the context ends or the controller dismisses it.
func Run(ctx context.Context, o Options) error {
	debug.SetGCPercent(30) // an agent shall be small: it sits beside what matters
	a := &Agent{options: o, disk: layout{dir: o.Dir}, members: map[field.MemberName]*held{}, working: map[field.MemberName]*work{}}
	if err := host.MakeFolders(o.Dir); err != nil {
		return host.DiskError(err)
	}
	for _, name := range []string{filepath.Join(o.Dir, "agent.lock"), a.disk.lock()} { // an agent of an older version holds the first
		if _, err := os.Lstat(name); err != nil && name != a.disk.lock() {
			continue
		}
		lock, err := host.HoldLock(name)
		if errors.Is(err, host.ErrStillAlive) {
			return ErrRunning
		}
		if err != nil {
			return err
		}
		defer lock.Close()
	}
	seal, err := a.identify()
	if err == nil {
		a.disk.sealer, err = identity.NewSealer(seal)
	}
	if err != nil {
		return err
	}
	host.ReserveSpace(a.disk.reserve(), reserveBytes)
	if a.runtime = o.Runtime; a.runtime == nil {
		processes := runtime.NewProcesses(o.Dir, !o.NoGroups)
		processes.Guard = o.Guard
		a.runtime = processes
	}
	defer a.runtime.Close()
	if err := a.loadRecords(); err != nil {
		return err
	}
	ctx, a.quit = context.WithCancel(ctx)
	defer a.quit()
	a.filterAgain(ctx)
	if err := a.resume(ctx); err != nil {
		return err
	}
	return a.serve(ctx)
}

// gone forgets a member that has gone, unless it has been asked to come back meanwhile.
func (a *Agent) gone(ctx context.Context, h *held) {
	a.mu.Lock()
	defer a.mu.Unlock()
	o := h.order
	if a.members[o.Member] != h {
		return
	}
	delete(a.members, o.Member)
	keep := a.disk.record(o.Member)
	if a.memory.Revision < a.taken { // what was taken is not forgotten with its record
		next := a.memory
		next.Revision = a.taken
		if err := writeQuick(a.disk.memory(), next); err == nil {
			a.memory = next
		}
	}
	if o.Revision == h.member.order.Revision {
		if err := os.RemoveAll(keep); err != nil {
			slog.Error("member's record cannot be removed", "member", o.Member, "error", err)
		}
		return
	}
	entries, _ := os.ReadDir(keep) // the newer order stays: it has been taken, and is not sent again
	for _, e := range entries {
		if e.Name() != orderFile {
			_ = os.RemoveAll(filepath.Join(keep, e.Name()))
		}
	}
	a.hold(ctx, o, false)
}

// acceptTerm refuses a term that is over, and notes a new one on disk before anything of it is done. The caller holds the lock.
func (a *Agent) acceptTerm(term uint64) error {
	if term < a.memory.Term {
		return agentapi.Refuse(http.StatusConflict, fmt.Sprintf("the order is of term %d, and a controller of term %d has taken over", term, a.memory.Term))
	}
	if term > a.memory.Term && a.memory.Log != "" {
		return agentapi.Refuse(http.StatusConflict, fmt.Sprintf("the order is of term %d, whose controller has not shown its log", term))
	}
	if term > a.memory.Term {
		next := a.memory
		next.Term = term
		if err := writeSafe(a.disk.memory(), next); err != nil {
			return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
		}
		a.memory = next
	}
	return nil
}

// Take keeps an order on disk, then has it carried out. Orders of an older term or revision are refused; the newest one
// repeated is taken again without effect.
func (a *Agent) Take(ctx context.Context, o order.Order) error {
	if !field.NamePattern.MatchString(string(o.Member)) {
		return agentapi.Refuse(http.StatusBadRequest, fmt.Sprintf("%q cannot name a member", o.Member))
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.acceptTerm(o.Term); err != nil {
		return err
	}
	h := a.members[o.Member]
	if h != nil && o.Revision < h.order.Revision {
		return agentapi.Refuse(http.StatusConflict, fmt.Sprintf("the order has revision %d, and revision %d has been taken", o.Revision, h.order.Revision))
	}
	if h != nil && o.Revision == h.order.Revision && !sameOrder(o, h.order) {
		return agentapi.Refuse(http.StatusConflict, fmt.Sprintf("another order of revision %d has been taken", o.Revision))
	}
	if h != nil && o.Revision == h.order.Revision {
		a.reports.add(order.Report{Kind: order.Taken, Member: o.Member, Revision: o.Revision})
		return nil
	}
	keep := func() error { return a.disk.keepOrder(o) }
	if o.Want != order.Run { // what ends something shall be possible on a full disk too
		keep = func() error { return a.disk.inNeed(func() error { return a.disk.keepOrder(o) }) }
	}
	if err := keep(); err != nil {
		return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
	}
	a.taken = max(a.taken, o.Revision)
	a.reports.add(order.Report{Kind: order.Taken, Member: o.Member, Revision: o.Revision})
	if h == nil {
		a.hold(ctx, o, false)
		return nil
	}
	h.order = o
	h.give(o)
	return nil
}

// series gives what was measured of members after a moment; of the zero one, the newest of each.
func (a *Agent) series(after time.Time) agentapi.Series {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := agentapi.Series{}
	for name, h := range a.members {
		if !after.IsZero() {
			out[name] = h.series.After(after)
		} else if last, ok := h.series.Last(); ok {
			out[name] = []series.Point[agentapi.Measure]{last}
		}
	}
	return out
}

// note remembers how long the logs are now, and has members weighed: those with a ceiling each time, others now and then while somebody
// wants to know.
func (a *Agent) note(beats int) {
	wanted := beats%weighOthers == 0 && time.Since(time.Unix(0, a.asked.Load())) < 2*reportsWithin
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, m := range a.members {
		m.note(time.Now())
		if beats%sampleBeats == 0 {
			m.sample(time.Now())
		}
		if spec := m.order.Spec; wanted || a.runtime.Sees() || spec != nil && spec.Ceiling.Memory > 0 {
			select {
			case m.weighing <- struct{}{}:
			default:
			}
		}
	}
}

// How often members without a ceiling are weighed, in beats, and how often a controller comes for reports.
const (
	weighOthers   = 5
	reportsWithin = 10 * time.Second
)

// readLog reads the output of a member.
func (a *Agent) readLog(name field.MemberName, after int64, most int) (*agentapi.Log, error) {
	a.mu.Lock()
	m := a.members[name]
	a.mu.Unlock()
	if m == nil {
		return nil, fmt.Errorf("%s is not on this node", name)
	}
	return m.readLog(after, most)
}

// serve answers until the context ends.
func (a *Agent) serve(ctx context.Context) error {
	listener, err := a.options.Ports.listen(a.options.Address, a.portBefore())
	if err != nil {
		return fmt.Errorf("the agent of %s cannot listen: %w", a.options.Node, err)
	}
	end := host.Endpoint{Agent: a.id, URL: "https://" + listener.Addr().String(), PID: os.Getpid(), StartTime: host.StartTime(os.Getpid()), Boot: host.BootOf()}
	if err := writeQuick(a.disk.endpoint(), end); err != nil {
		return err
	}
	a.door = identity.Listen(listener, a.party.Terms(), a.party.Counts)
	server := &http.Server{Handler: a.handler(ctx), BaseContext: func(net.Listener) context.Context { return ctx },
		ConnContext: watching, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 8 << 10}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(a.door) }()
	if enrol := a.options.Enrol; enrol != nil {
		err = identity.Answers(enrol, end.URL)
		if err = errors.Join(err, enrol.Close()); err != nil {
			slog.Warn("who has started the agent has gone meanwhile", "error", err)
		}
	}
	slog.Info("agent answers", "node", a.options.Node, "url", end.URL, "pid", end.PID)
	beat := time.NewTicker(time.Second) // the one timer of an agent at rest, but for probes
	defer beat.Stop()
	beats, hurry := 0, 0
	for {
		select {
		case <-ctx.Done():
			err := a.part()
			stopping, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			_ = server.Shutdown(stopping)
			a.wait.Wait()
			return err
		case err := <-failed:
			return err
		case <-beat.C:
			if a.cutLogs() { // who floods its log is looked at more often for a while
				hurry = 50
				beat.Reset(floodBeat)
			}
			if hurry--; hurry > 0 && hurry%10 != 0 {
				continue
			} else if hurry == 0 {
				beat.Reset(time.Second)
			}
			beats++
			a.note(beats)
			a.runtime.Beat()
			if beats%2 == 0 {
				a.chores()
			}
			if beats%alteredBeats == 0 {
				a.findAltered()
			}
		}
	}
}

// account lists what the agent still holds and what still runs, in the order of their names.
func (a *Agent) account() []string {
	left := []string{}
	a.mu.Lock()
	for name := range a.members {
		left = append(left, "the member "+string(name))
	}
	a.mu.Unlock()
	slices.Sort(left)
	for _, pid := range host.FindAll(a.disk.dir) {
		left = append(left, fmt.Sprintf("process %d", pid))
	}
	return left
}

// lookFor tells what a member would lack on this node.
func (a *Agent) lookFor(l order.Lookup) error {
	if err := a.runtime.Lacks(l); err != nil {
		return fmt.Errorf("%s on %s: %w", l.Member, a.options.Node, err)
	}
	return nil
}

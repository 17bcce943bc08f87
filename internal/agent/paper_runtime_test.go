package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/fit"
)

// sheets is a runtime that is made of nothing: what runs is an entry in a map, which outlives the agent as a process would. It is what somebody
// writes who adds a way of running members: nothing but this file knows of it.
type sheets struct {
	mu      sync.Mutex
	next    int
	running map[int]*sheet
	swept   []int
	called  [][]string
}

type sheet struct {
	pid    int
	exited chan order.Exit
	by     *sheets
}

func (r *sheets) Lacks(l order.Lookup) error {
	if l.Program != "scribe" {
		return errors.New("nobody here can write " + l.Program)
	}
	return nil
}
func (r *sheets) Member(name field.MemberName, _ runtime.Place) runtime.Instance {
	return &desk{r, name}
}
func (r *sheets) Sees() bool { return false }
func (r *sheets) Beat()      {}
func (r *sheets) Close()     {}

// desk is where one member runs.
type desk struct {
	*sheets
	name field.MemberName
}

func (d *desk) Adopt(rec runtime.Record, _ int) runtime.Run {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s := d.running[rec.PID]; s != nil {
		return s
	}
	return nil
}
func (d *desk) Clear(runtime.Record, *order.Spec) error { return nil }
func (d *desk) Intent() runtime.Record                  { return runtime.Record{} }
func (d *desk) Start(spec *order.Spec, _ int) (runtime.Run, error) {
	if err := d.Fits(spec); err != nil {
		return nil, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.next++
	s := &sheet{1<<22 + d.next, make(chan order.Exit, 1), d.sheets} // no number of a process
	d.running[s.pid] = s
	return s, nil
}
func (d *desk) Account(*order.Spec) (*fit.Account, error) { return fit.AccountOf("") }
func (d *desk) Fits(spec *order.Spec) error {
	return d.Lacks(order.Lookup{Program: spec.Command[0]})
}
func (d *desk) Exec(_ context.Context, _ *order.Spec, args []string, out io.Writer) (int, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.called = append(d.called, args)
	fmt.Fprint(out, "well written")
	return 0, nil
}
func (d *desk) Visit(_ context.Context, _ *order.Spec, c runtime.Command) (order.Exit, error) {
	fmt.Fprint(c.Out, "well read")
	return order.Exit{Known: true}, nil
}
func (d *desk) Look(runtime.Run) {}
func (d *desk) Sweep(pid int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.swept = append(d.swept, pid)
}

func (s *sheet) PID() int                    { return s.pid }
func (s *sheet) Record() runtime.Record      { return runtime.Record{PID: s.pid} }
func (s *sheet) Exited() <-chan order.Exit   { return s.exited }
func (s *sheet) Usage() runtime.Usage        { return runtime.Usage{Memory: 1 << 20} }
func (s *sheet) Close()                      {}
func (s *sheet) Kill()                       { s.ends(order.Exit{Known: true, Code: 137}) }
func (s *sheet) Signal(syscall.Signal) error { s.ends(order.Exit{Known: true}); return nil }
func (s *sheet) ends(e order.Exit) {
	s.by.mu.Lock()
	defer s.by.mu.Unlock()
	if s.by.running[s.pid] != nil {
		delete(s.by.running, s.pid)
		s.exited <- e
	}
}

// TestAWayOfRunningIsAddedInOnePlace carries a member through its life under a runtime that nothing else knows of: checked and probed by commands
// that are run there, adopted by the next agent, started again after it failed, stopped, gone.
func TestAWayOfRunningIsAddedInOnePlace(t *testing.T) {
	r := &sheets{running: map[int]*sheet{}}
	dir := t.TempDir()
	c, end := startedWith(t, Options{Dir: dir, Runtime: r})
	ctx := context.Background()
	missing, err := c.Lookups(ctx, []order.Lookup{{Member: "it-1", Program: "scribe"}, {Member: "it-2", Program: "sleep"}})
	if err != nil || len(missing) != 1 || missing[0] != "it-2 on gull-1: nobody here can write sleep" {
		t.Errorf("missing %q, %v", missing, err)
	}
	spec := &order.Spec{Role: "it", Address: "127.0.0.1", Command: []string{"scribe", "a letter"}, Validate: []string{"read-over"}, Restart: field.Restart{After: field.Duration(20 * time.Millisecond)},
		Ready: &field.Probe{Call: field.Call{Exec: []string{"look"}}, Expect: `output == "well written"`, Every: field.Duration(20 * time.Millisecond)}}
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: spec})
	first := until(t, c, &heard, order.Started)
	until(t, c, &heard, order.Ready)
	end()

	c, _ = startedWith(t, Options{Dir: dir, Runtime: r})
	if adopted := until(t, c, &heard, order.Adopted); adopted.PID != first.PID {
		t.Errorf("adopted %+v, started %+v", adopted, first)
	}
	r.mu.Lock()
	run := r.running[first.PID]
	r.mu.Unlock()
	run.ends(order.Exit{Known: true, Code: 3})
	if exit := until(t, c, &heard, order.Exited); exit.PID != first.PID || exit.Exit.Code != 3 {
		t.Errorf("got %+v", exit)
	}
	if again := until(t, c, &heard, order.Started); again.Incarnation != first.Incarnation+1 {
		t.Errorf("got %+v", again)
	}
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Stop, Spec: spec})
	until(t, c, &heard, order.Stopped)
	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-1", Want: order.Gone, Spec: spec})
	until(t, c, &heard, order.Removed)
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.running) != 0 || len(r.swept) == 0 || len(r.called) < 3 {
		t.Errorf("%d run, %d were swept, called %v", len(r.running), len(r.swept), r.called)
	}
}

package runtime

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"
)

// Processes is the runtime of members that are processes of the machine. A member is its control group; where none can be had, its
// processes are found by their marks and by who was seen to have started whom.
type Processes struct {
	Guard string // the program of guards; the agent's own where it is empty

	groups *host.Hierarchy // nil where there are none
	limits fit.Limiting

	versions fit.Versions

	mu   sync.Mutex
	kept map[field.MemberName]*processes
}

// NewProcesses makes the runtime of a node. Without groups it goes on as where none can be had.
func NewProcesses(node string, groups bool) *Processes {
	r := &Processes{kept: map[field.MemberName]*processes{}}
	if groups {
		r.groups = host.FindHierarchy(node, true)
	}
	if r.groups == nil {
		slog.Warn("no control groups can be had here: what leaves a member before it was seen cannot be told to be its own")
		if err := host.AdoptOrphans(); err != nil {
			slog.Error("processes that leave their members do not come to the agent", "error", err)
		}
	}
	return r
}

// Member gives what runs one member.
func (r *Processes) Member(name field.MemberName, at Place) Instance {
	r.mu.Lock()
	defer r.mu.Unlock()
	p := r.kept[name]
	if p == nil {
		p = &processes{runtime: r, name: name, at: at, group: r.groups.Of(name), seen: host.Descendants{}}
		r.kept[name] = p
	}
	return p
}

// Lacks tells what a member would lack on this machine.
func (r *Processes) Lacks(l order.Lookup) error { return fit.Lacks(l, &r.versions) }

// Sees tells whether members have to be looked at for what they start to be known.
func (r *Processes) Sees() bool { return r.groups == nil }

// Beat waits for processes that have come to the agent and ended.
func (r *Processes) Beat() {
	if r.groups == nil {
		host.ReapOrphans()
	}
}

// Close lets go of the node. What runs goes on.
func (r *Processes) Close() { r.groups.Remove() }

// seen tells whether a process was seen to be some member's.
func (r *Processes) seen(pid int) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range r.kept {
		p.mu.Lock()
		_, is := p.seen[pid]
		p.mu.Unlock()
		if is {
			return true
		}
	}
	return false
}

// processes are those of one member.
type processes struct {
	runtime *Processes
	name    field.MemberName
	at      Place

	mu    sync.Mutex
	group *host.Group      // that its processes are in; nil for none
	seen  host.Descendants // where there are no groups: what it was seen to have started
}

// run is a process that runs.
type run struct {
	*host.Process
	started int64
	traffic *traffic
}

func (r run) PID() int                  { return r.Process.PID }
func (r run) Exited() <-chan order.Exit { return r.Process.Exited }
func (r run) Usage() Usage              { return usageOf(r.Process.PID, r.traffic) }
func (r run) Record() Record            { return Record{PID: r.Process.PID, StartTime: r.started} }

// Kill ends the process, and those of its group, at once.
func (r run) Kill() {
	_ = r.Signal(syscall.SIGKILL)
	_ = syscall.Kill(-r.Process.PID, syscall.SIGKILL)
}

// in gives the group that the member's processes are in.
func (p *processes) in() *host.Group {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.group
}

// enter has the member's next processes in another group.
func (p *processes) enter(g *host.Group) *host.Group {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.group = g
	return g
}

// Adopt finds the process that an earlier agent left running: by its pid and start time; where those were not written down, by whoever holds
// the member's lock and shows its marks. It gives nil where that one has ended.
func (p *processes) Adopt(rec Record, incarnation int) Run {
	var group *host.Group
	if rec.Group != "" { // the group that it was started in, which may be another than ours would be
		group = &host.Group{Dir: rec.Group, V2: rec.GroupV2}
	}
	p.enter(group)
	if found, err := host.Adopt(rec.PID, rec.StartTime); rec.PID > 0 && err == nil {
		return run{found, rec.StartTime, &traffic{}}
	}
	// The pid was not written down, or its process has ended. Whoever is left holds the lock; a fork that was under way
	// shows its environment within moments.
	deadline := time.Now().Add(5 * time.Second)
	for host.LockHeld(p.at.Lock) && time.Now().Before(deadline) {
		pids := p.find(incarnation)
		if len(pids) > 0 && rec.PID == 0 {
			at := host.StartTime(pids[0])
			if found, err := host.Adopt(pids[0], at); err == nil {
				return run{found, at, &traffic{}}
			}
		}
		if rec.PID > 0 {
			p.Sweep(rec.PID) // children of a main process that has ended
		}
		time.Sleep(5 * time.Millisecond)
	}
	return nil
}

// Clear makes sure that nothing of an earlier start is left, and that nothing is in the way of the next one.
func (p *processes) Clear(rec Record, spec *order.Spec) error {
	left := func() bool { return host.LockHeld(p.at.Lock) || len(p.in().Processes()) > 0 }
	if left() {
		p.Sweep(rec.PID)
		if left() {
			return host.ErrStillAlive
		}
	}
	if p.enter(p.runtime.groups.Of(p.name)) == nil {
		if err := host.CheckOrphans(p.runtime.seen); err != nil {
			return err
		}
	}
	return portHolder(spec)
}

// Intent is what is to be written down before a start.
func (p *processes) Intent() Record {
	g := p.in()
	if g == nil {
		return Record{}
	}
	return Record{Group: g.Dir, GroupV2: g.V2}
}

// Start starts the member's program. Its output goes to a file opened for appending; the lock that it inherits is held
// until the last process of this incarnation has ended, whatever becomes of the agent.
func (p *processes) Start(spec *order.Spec, incarnation int) (Run, error) {
	folder, err := p.folder(spec)
	program, missing := fit.LookUpIn(spec.Command[0], folder, spec.LookIn)
	if err = cmp.Or(missing, fit.CheckLimits(spec.Limits), fit.CheckKernel(spec.Kernel), err); err != nil {
		return nil, err
	}
	who, err := fit.AccountFor(spec.User, spec.IfRoot)
	if err == nil {
		err = who.MayEnter(p.at.Folder)
	}
	if err != nil {
		return nil, err
	}
	held, err := host.HoldLock(p.at.Lock)
	if err != nil {
		return nil, err
	}
	defer held.Close()
	out, err := OpenLog(p.at.Log, who)
	if err != nil {
		return nil, host.DiskError(err)
	}
	defer out.Close()
	path, args := program, slices.Clone(spec.Command)
	if spec.Guarded { // this very program, also where its user may not enter the folder that it lies in, unless there is one for guards
		path = cmp.Or(p.runtime.Guard, "/proc/self/exe")
		args = slices.Concat([]string{"lanternfield", "guard", program}, spec.Command[1:])
	}
	cmd := &exec.Cmd{Path: path, Args: args, Dir: p.at.Folder,
		Stdout: out, Stderr: out, ExtraFiles: []*os.File{held}, SysProcAttr: &syscall.SysProcAttr{Setsid: true, Credential: who.Credential}}
	cmd.Env = append(p.environment(spec, folder), host.EnvIncarnation+"="+strconv.Itoa(incarnation))
	if err := p.runtime.limits.Start(spec.Limits, p.in().Start, cmd); err != nil {
		return nil, fmt.Errorf("%s could not be started: %w", program, err)
	}
	started := &host.Process{PID: cmd.Process.Pid, Exited: make(chan order.Exit, 1)}
	if started.Pidfd, err = unix.PidfdOpen(started.PID, 0); err != nil {
		started.Pidfd = -1
	}
	go func() {
		_ = cmd.Wait()
		host.Born.Delete(started.PID)
		started.Exited <- host.ExitOf(cmd.ProcessState)
	}()
	return run{started, host.StartTime(started.PID), &traffic{}}, nil
}

// Fits tells whether the member's program is there, in a version that suits, and can be given what it needs.
func (p *processes) Fits(spec *order.Spec) error {
	_, missing := fit.LookUp(spec.Command[0], spec.LookIn)
	_, version := p.folder(spec)
	return cmp.Or(missing, fit.CheckLimits(spec.Limits), fit.CheckKernel(spec.Kernel), version)
}

// Account is the user that the member runs as.
func (p *processes) Account(spec *order.Spec) (*fit.Account, error) {
	return fit.AccountFor(spec.User, spec.IfRoot)
}

// Exec runs a command about the member to its end, in its control group. It is marked as the member's: a command may leave a process behind,
// which is to be found when the member goes.
func (p *processes) Exec(ctx context.Context, spec *order.Spec, args []string, out io.Writer) (code int, err error) {
	folder, _ := p.folder(spec)
	program, err := fit.LookUpIn(args[0], folder, spec.LookIn)
	if err != nil {
		return 0, err
	}
	who, err := fit.AccountFor(spec.User, spec.IfRoot)
	if err == nil {
		err = who.MayEnter(p.at.Folder)
	}
	if err != nil {
		return 0, err
	}
	cmd := exec.CommandContext(ctx, program, args[1:]...)
	cmd.Dir, cmd.Env = p.at.Folder, p.environment(spec, folder)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: who.Credential}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second // for its last words, on a machine that is busy; what it has left behind may hold its output for ever
	cmd.Stdout, cmd.Stderr = out, out
	if err := p.runtime.limits.Start(spec.Limits, p.in().Start, cmd); err != nil {
		return 0, fmt.Errorf("%s: %w", args[0], err)
	}
	err = cmd.Wait()
	host.Born.Delete(cmd.Process.Pid)
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) {
		return 0, fmt.Errorf("%s: %w", args[0], err)
	}
	return cmd.ProcessState.ExitCode(), nil
}

// Look notes what a run has started.
func (p *processes) Look(r Run) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.group == nil {
		p.seen.See(r.PID())
	}
}

// LogFlags are how a log is opened. It belongs to the member's user, who could have taken a lease on it: nothing waits for that.
const LogFlags = syscall.O_NOFOLLOW | syscall.O_NONBLOCK

// OpenLog opens what a member writes to. It belongs to the member's user, so that the member may open its own output again by its
// descriptor, in a folder that only the agent may enter.
func OpenLog(name string, who *fit.Account) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_APPEND|LogFlags, 0o600)
	if err == nil && os.Geteuid() == 0 {
		if err = f.Chown(who.UID, who.GID); err != nil {
			f.Close()
		}
	}
	return f, err
}

// find lists the living processes of a member by their environment. Incarnation 0 means any.
func find(node string, m field.MemberName, incarnation int) []int {
	var pids []int
	host.EachEnvironment(func(pid int, vars map[string]bool) {
		if vars[host.EnvMember+"="+string(m)] && vars[host.EnvHome+"="+node] && (incarnation == 0 || vars[host.EnvIncarnation+"="+strconv.Itoa(incarnation)]) {
			pids = append(pids, pid)
		}
	})
	return pids
}

// find lists the living processes of the member. Where they have a group, what is in it says all; elsewhere their environment does.
func (p *processes) find(incarnation int) []int {
	if g := p.in(); g != nil {
		pids := g.Processes()
		slices.SortFunc(pids, func(a, b int) int { return cmp.Compare(host.StartTime(a), host.StartTime(b)) })
		return pids
	}
	return find(p.at.Node, p.name, incarnation)
}

// Sweep kills what is left of the member after its main process has ended.
func (p *processes) Sweep(pid int) {
	if g := p.in(); g != nil {
		if g.End(5 * time.Second); pid == 0 { // the member goes, and who visits it with it
			p.visits().End(5 * time.Second)
		}
		return
	}
	if pid > 1 {
		_ = syscall.Kill(-pid, syscall.SIGKILL)
	}
	p.mu.Lock()
	seen := maps.Clone(p.seen)
	p.mu.Unlock()
	deadline := time.Now().Add(5 * time.Second)
	for time.Now().Before(deadline) {
		pids := find(p.at.Node, p.name, 0)
		if seen.End(5*time.Second) && len(pids) == 0 {
			return
		}
		for _, pid := range pids {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

package agent

import (
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"lanternfield/internal/core/floating"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// floater sees to it that a member has the address that only one of its role has at a time while it does its work, and only then: by a holder, which is a process of
// its own, so that the agent stays small, and the address stays while the agent is replaced. For several goroutines.
type floater struct {
	member *member
	guard  string // the program of holders; the agent's own where it is empty

	mu      sync.Mutex
	told    floating.Told
	in      io.WriteCloser
	process *os.Process
	says    floating.Says
	ended   chan struct{} // closed when the holder that runs has ended; nil where none does
	news    chan struct{} // closed when it has said something
}

// How long an address is waited for to be laid down, and after what time a holder that has ended is started again.
const (
	layWithin    = 2 * time.Second
	holdAgain    = time.Second
	hearWithin   = time.Second
	holderWithin = 3 * time.Second // for one of an earlier agent to end
)

// holderFile notes the holder that runs, for the next agent.
func (f *floater) holderFile() string {
	return filepath.Join(f.member.disk.record(f.member.name), "holder.json")
}

// tell has the holder go by how the member is now. A spec that is nil is the one of before.
func (f *floater) tell(spec *order.Spec, ready bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if spec != nil {
		if f.told.Of == nil && spec.Floating == nil {
			return
		}
		f.told.Member, f.told.Near, f.told.Ends = f.member.name, spec.Address, spec.Floating == nil
		if spec.Floating != nil {
			f.told.Of = spec.Floating
		}
	}
	if f.told.Of == nil {
		return
	}
	f.told.Ready = ready
	f.pass()
}

// pass tells the holder what there is to be told, starting one where none runs. The caller holds the lock.
func (f *floater) pass() {
	if f.ended == nil {
		if f.told.Ends {
			return
		}
		if err := f.start(); err != nil {
			slog.Error("the holder of an address cannot be started", "member", f.member.name, "error", err)
			return
		}
	}
	if in, can := f.in.(interface{ SetWriteDeadline(time.Time) error }); can {
		_ = in.SetWriteDeadline(time.Now().Add(hearWithin)) // one that hangs holds nobody else up
	}
	if err := json.NewEncoder(f.in).Encode(f.told); err != nil {
		slog.Warn("the holder of an address does not listen; it is ended, and another is started", "member", f.member.name, "error", err)
		_ = f.process.Kill()
	}
}

// lay has the address laid down, and waits for that, so that another has it before this member ends. Ends says that it is not to have it again.
func (f *floater) lay(ends bool) {
	f.mu.Lock()
	if f.ended == nil {
		f.mu.Unlock()
		return
	}
	f.told.Ready, f.told.Ends = false, ends || f.told.Ends
	f.pass()
	ended := f.ended
	f.mu.Unlock()
	late := time.After(layWithin)
	for {
		f.mu.Lock()
		news, has := f.news, f.says.Holds
		f.mu.Unlock()
		if !has && !ends {
			return
		}
		select {
		case <-news:
		case <-ended:
			return
		case <-late:
			slog.Warn("an address has not been laid down in time; the system takes it away", "member", f.member.name)
			return
		}
	}
}

// start starts a holder. One of an earlier agent is ended before: it leaves the address as it is, and its successor goes on from there.
func (f *floater) start() error {
	f.endEarlier()
	cmd := &exec.Cmd{Path: cmp.Or(f.guard, "/proc/self/exe"), Args: []string{"lanternfield-guard", floating.Command}, Dir: "/", SysProcAttr: &syscall.SysProcAttr{Setsid: true}}
	cmd.Env = []string{"PATH=" + host.ServicePath, host.EnvHome + "=" + f.member.disk.dir}
	var err error
	if f.in, err = cmd.StdinPipe(); err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return err
	}
	noted, err := json.Marshal(supervised{cmd.Process.Pid, host.StartTime(cmd.Process.Pid)})
	if err == nil {
		err = os.WriteFile(f.holderFile(), noted, 0o600)
	}
	if err != nil {
		slog.Warn("the holder of an address cannot be noted", "member", f.member.name, "error", err)
	}
	f.process = cmd.Process
	f.ended, f.news, f.says = make(chan struct{}), make(chan struct{}), floating.Says{}
	go f.listen(out, cmd)
	return nil
}

// supervised is a process, with what tells it from a later one of that number.
type supervised struct {
	PID       int   `json:"pid"`
	StartTime int64 `json:"start_time"`
}

// endEarlier ends the holder of an earlier agent.
func (f *floater) endEarlier() {
	var s supervised
	data, err := os.ReadFile(f.holderFile())
	if errors.Is(err, fs.ErrNotExist) || json.Unmarshal(data, &s) != nil || !host.Lives(s.PID, s.StartTime) {
		return
	}
	_ = syscall.Kill(s.PID, syscall.SIGTERM)
	for until := time.Now().Add(holderWithin); host.Lives(s.PID, s.StartTime); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(until) {
			_ = syscall.Kill(s.PID, syscall.SIGKILL)
			return
		}
	}
}

// listen hears what a holder says until it ends, and starts another one then.
func (f *floater) listen(out io.Reader, cmd *exec.Cmd) {
	lines := json.NewDecoder(out)
	for {
		var said floating.Says
		if lines.Decode(&said) != nil {
			break
		}
		f.heard(said)
	}
	err := cmd.Wait()
	f.heard(floating.Says{}) // if it had it, it has it no longer than the system lets it
	f.mu.Lock()
	close(f.ended)
	f.ended = nil
	_ = os.Remove(f.holderFile())
	again := !f.told.Ends
	f.mu.Unlock()
	if !again {
		return
	}
	slog.Warn("the holder of an address has ended; it is started again", "member", f.member.name, "how", err)
	time.Sleep(holdAgain)
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ended == nil && !f.told.Ends {
		f.pass()
	}
}

// heard takes in what a holder says.
func (f *floater) heard(said floating.Says) {
	f.mu.Lock()
	before := f.says
	f.says = said
	close(f.news)
	f.news = make(chan struct{})
	f.mu.Unlock()
	if said.Why != "" && said.Why != before.Why {
		slog.Warn("about an address that one member has at a time", "member", f.member.name, "problem", said.Why)
	}
	if said.Holds != before.Holds || said.Term != before.Term {
		f.member.answers.setLeads(said.Holds)
		f.member.report(order.Report{Kind: order.Leading, Leads: said.Holds, Term: said.Term})
	}
}

// Package runtime is how an agent runs members. A runtime starts what a member is, finds again what an earlier agent started, signals it,
// waits for its end, says what it takes, and ends all that it has left behind. Processes of the machine are the first kind.
package runtime

import (
	"context"
	"io"
	"os"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/fit"
)

// Place is where a member's things are on its node.
type Place struct {
	Node   string // the node's folder; it tells fields and nodes apart
	Folder string // the member's own, in which it runs
	Data   string // its data, below that one
	Log    string // the file that its output goes to
	Lock   string // the file that is locked as long as anything of it lives
}

// Record is what has to be written down of a run, so that the next agent finds it.
type Record struct {
	PID       int
	StartTime int64  // of the process, in ticks since boot: tells a reused pid apart
	Group     string // its control group; empty where it has none
	GroupV2   bool
}

// Runtime runs the members of a node.
type Runtime interface {
	// Lacks tells what a member would lack on this node; nil where it is all there.
	Lacks(l order.Lookup) error
	// Member gives what runs one member; it is the same each time.
	Member(name field.MemberName, at Place) Instance
	// Sees tells whether members have to be looked at now and then for what they start to be known.
	Sees() bool
	// Beat is called every second or so.
	Beat()
	// Close lets go of the node. What runs goes on.
	Close()
}

// Instance runs one member. It is for one goroutine, but for Exec.
type Instance interface {
	// Adopt finds what an earlier agent started; nil where that has ended.
	Adopt(rec Record, incarnation int) Run
	// Clear makes sure that nothing of an earlier start is left, and that nothing is in the way of the next one.
	Clear(rec Record, spec *order.Spec) error
	// Intent is what is to be written down before a start.
	Intent() Record
	// Start starts the member's program.
	Start(spec *order.Spec, incarnation int) (Run, error)
	// Account is whose the files of the member are.
	Account(spec *order.Spec) (*fit.Account, error)
	// Fits tells whether the member's program is there to be started.
	Fits(spec *order.Spec) error
	// Exec runs a command about the member to its end, where the member itself runs and in its folder, and gives its exit code. An error says
	// that it could not be run. What it writes goes to out; when the context ends it is killed.
	Exec(ctx context.Context, spec *order.Spec, args []string, out io.Writer) (code int, err error)
	// Visit starts a command about the member that has nothing to do with its own run: it goes on when that ends, and ends with the member. It
	// returns when the command has ended, or the context has, which kills it.
	Visit(ctx context.Context, spec *order.Spec, c Command) (order.Exit, error)
	// Look notes what a run has started.
	Look(r Run)
	// Sweep ends what is left of the member after the main process of a run, with that pid, has ended; 0 where it had none.
	Sweep(pid int)
}

// Command is a command that somebody has run at a member.
type Command struct {
	Args     []string
	Env      []string // besides that of the member, and over it
	In       io.Reader
	Out, Err io.Writer
	// Terminal is one end of a terminal, which the command has for all three instead; nil for none.
	Terminal *os.File
	// Signals are passed on to the command, and all that it has started in its group.
	Signals <-chan syscall.Signal
}

// Run is a member that runs.
type Run interface {
	PID() int
	Record() Record
	// Exited gives one value, when it has ended.
	Exited() <-chan order.Exit
	// Signal reaches this very run, never what took over its number.
	Signal(s syscall.Signal) error
	// Kill ends it at once.
	Kill()
	// Usage is what it and all that it has started take of the machine.
	Usage() Usage
	// Close lets go of it. It goes on.
	Close()
}

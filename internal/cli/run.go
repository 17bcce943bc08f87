package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plain"
	"lanternfield/internal/core/wording"
)

func (a *app) runCommand() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: "run [FILE] WHAT… -- COMMAND [ARGUMENT…]", Short: "Run a command at members, through their agents",
		Long: "WHAT is members, roles or nodes. The command runs at each of them at the same time, as the member's user, with its environment, in its\n" +
			"folder. No shell reads it: say -- sh -c '…' for one. At one member its output and errors come as they are, and what this command is\n" +
			"given to read is passed on; of several, each line comes with the member's name before it. The exit status is the worst of all; 2 where\n" +
			"one could not be run. The journal names who ran which program where, and no arguments.",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, command := splitDash(cmd, args)
			folder, _, what, err := a.folder(args)
			if err != nil {
				return err
			}
			switch {
			case len(command) == 0:
				return errors.New("say what to run after --, as in: lanternfield run wardens -- uptime")
			case len(what) == 0:
				return errors.New("say where: members, roles or nodes, before --")
			}
			ctx := cmd.Context()
			if timeout > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, timeout)
				defer cancel()
			}
			return a.runAt(ctx, folder, what, agentapi.Visit{By: visitor(), How: "run", Args: command})
		}}
	cmd.Flags().DurationVar(&timeout, "timeout", 0, "interrupt it after that long; it is waited for when left out")
	a.jsonFlag(cmd)
	return cmd
}

// ran is what came of a command at one member.
type ran struct {
	Member field.MemberName `json:"member"`
	Node   field.NodeName   `json:"node"`
	Code   int              `json:"code"`
	Signal string           `json:"signal,omitempty"`
	Error  string           `json:"error,omitempty"` // why it could not be run, or how it ended is not known
	Output string           `json:"output"`
	Errors string           `json:"errors,omitempty"`
}

// status is what it comes to as an exit status.
func (r ran) status() int {
	switch {
	case r.Error != "":
		return exitCannot
	case r.Signal != "":
		number, _ := strconv.Atoi(strings.Fields(r.Signal)[0]) // as shells do
		return 128 + number
	}
	return r.Code
}

// mostKept is how much output of one member a JSON document takes.
const mostKept = 4 << 20

// runAt runs a command at members, all at the same time.
func (a *app) runAt(ctx context.Context, folder control.Folder, what []string, v agentapi.Visit) error {
	visitor, hosts, err := control.Visiting(folder, what)
	if err != nil {
		return err
	}
	defer visitor.Close()
	if len(hosts) == 0 {
		return fmt.Errorf("none of %s has a node yet, so there is nowhere to run it", wording.List(what))
	}
	width := 0
	for _, h := range hosts {
		width = max(width, len(h.Member))
	}
	results := make([]ran, len(hosts))
	var printing sync.Mutex
	var all sync.WaitGroup
	for i, h := range hosts {
		all.Add(1)
		go func() {
			defer all.Done()
			out, errs, in := io.Writer(nil), io.Writer(nil), io.Reader(nil)
			var keptOut, keptErr limitedBuffer
			finish := func() {}
			switch {
			case a.json:
				out, errs = &keptOut, &keptErr
			case len(hosts) == 1:
				fmt.Fprintf(a.err, "%s on %s (%s)\n", h.Member, h.Node, h.Address)
				out, errs, in = a.asIs(), a.err, a.in
			default:
				o := &named{to: a.out, name: fmt.Sprintf("%-*s  ", width, h.Member), lock: &printing}
				e := &named{to: a.err, name: fmt.Sprintf("%-*s  ", width, h.Member), lock: &printing}
				out, errs = o, e
				finish = func() { o.finish(); e.finish() }
			}
			results[i] = a.runOne(ctx, visitor, h, v, in, out, errs)
			finish()
			results[i].Output, results[i].Errors = keptOut.String(), keptErr.String()
		}()
	}
	all.Wait()
	return a.ranAll(ctx, results)
}

// asIs is where output goes as it is: to a terminal what acts on it is taken out, to anywhere else nothing.
func (a *app) asIs() io.Writer {
	if a.screen != nil && !isTerminal(a.screen) {
		return a.screen
	}
	return a.out
}

// interruptedFor is how long a command that was interrupted may take to end.
const interruptedFor = 3 * time.Second

// runOne runs a command at one member until it ends.
func (a *app) runOne(ctx context.Context, visitor *control.Visitor, h control.Host, v agentapi.Visit, in io.Reader, out, errs io.Writer) ran {
	r := ran{Member: h.Member, Node: h.Node}
	whole, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	frames, err := visitor.Visit(whole, h, v)
	if err != nil {
		r.Error = err.Error()
		return r
	}
	defer frames.Close()
	interrupted := context.AfterFunc(ctx, func() {
		_ = frames.Write(agentapi.FrameSignal, []byte("INT"))
		time.AfterFunc(interruptedFor, func() { frames.Close() })
	})
	defer interrupted()
	ending, err := visit{frames, in, out, errs}.run()
	if err != nil {
		r.Error = err.Error()
	}
	r.Code, r.Signal = ending.Code, ending.Signal
	if ending.Why != "" {
		r.Error = ending.Why
	}
	return r
}

// ranAll says what came of it everywhere, and ends with the worst.
func (a *app) ranAll(ctx context.Context, results []ran) error {
	worst := 0
	for _, r := range results {
		worst = max(worst, r.status())
		switch {
		case a.json:
		case r.Error != "":
			fmt.Fprintf(a.err, "%s: %s\n", r.Member, r.Error)
		case r.Signal != "":
			fmt.Fprintf(a.err, "%s: it was ended by signal %s\n", r.Member, r.Signal)
		case r.Code != 0 && len(results) > 1:
			fmt.Fprintf(a.err, "%s: it ended with exit status %d\n", r.Member, r.Code)
		}
	}
	if a.json {
		a.printJSON(results)
	}
	if errors.Is(ctx.Err(), context.Canceled) {
		return errLooked
	}
	if ctx.Err() != nil {
		fmt.Fprintln(a.err, "It took longer than --timeout says, and was interrupted.")
		return exitStatus(max(worst, exitBadAnswer))
	}
	if worst != 0 {
		return exitStatus(worst)
	}
	return nil
}

// limitedBuffer keeps the first of what is written.
type limitedBuffer struct{ bytes.Buffer }

// Write keeps it while there is room.
func (b *limitedBuffer) Write(p []byte) (int, error) {
	b.Buffer.Write(p[:min(len(p), max(0, mostKept-b.Len()))])
	return len(p), nil
}

// named writes whole lines with a name before each.
type named struct {
	to   io.Writer
	name string
	lock *sync.Mutex
	part []byte
}

// mostLine is after how many bytes without an end a line is written all the same.
const mostLine = 64 << 10

// Write takes more output.
func (n *named) Write(p []byte) (int, error) {
	n.part = append(n.part, p...)
	for {
		i := bytes.IndexByte(n.part, '\n')
		if i < 0 && len(n.part) < mostLine {
			return len(p), nil
		}
		rest := i + 1
		if i < 0 {
			i, rest = mostLine, mostLine
		}
		n.line(n.part[:i])
		n.part = n.part[rest:]
	}
}

// finish writes what is left of the last line.
func (n *named) finish() {
	if len(n.part) > 0 {
		n.line(n.part)
		n.part = nil
	}
}

func (n *named) line(text []byte) {
	n.lock.Lock()
	defer n.lock.Unlock()
	fmt.Fprintf(n.to, "%s%s\n", n.name, plain.Text(string(text)))
}

// Command lanternfield-agent is the daemon of a node on a host that lanternfield has brought it to. It is started by lanternfield, not by hand.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"lanternfield/internal/agent"
	"lanternfield/internal/agent/service"
	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
	"lanternfield/internal/inspect"
	"lanternfield/internal/joining"
	"lanternfield/internal/outside"
)

func main() {
	host.KeepPrivate()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := run(ctx, os.Args[1:])
	stop()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}

// run carries one command out:
//
//	start      enrols with who is at standard input and output, and has the agent run from now on
//	supervise  runs the agent, and again when it ends by itself
//	agent      is the agent
//	inspect    answers what is asked of the machine at standard input and output
//	join       has this machine be a node, by the invitation in the environment
//	play       watches something outside the field, as a member of it
//	unfilter   takes rules of the packet filter back that nobody has confirmed in time
//	remove     ends the agent and its members, and takes everything of them away
func run(ctx context.Context, args []string) error {
	if len(args) == 0 {
		return errors.New("lanternfield brings this program to hosts and starts it there; there is nothing to do by hand")
	}
	if args[0] == "inspect" {
		return inspect.Serve(ctx, stdio{os.Stdin, os.Stdout})
	}
	switch args[0] {
	case "join":
		return join(ctx, args[1:])
	case "unfilter":
		return unfilter(ctx, args[1:])
	case "play":
		return play(ctx, args[1:])
	}
	var p service.Place
	var node, ports string
	flags := flag.NewFlagSet(args[0], flag.ContinueOnError)
	flags.StringVar(&p.Dir, "dir", "", "the node's folder")
	flags.StringVar(&p.Field, "field", "", "the field's name")
	flags.StringVar(&node, "node", "", "the node's name")
	flags.StringVar(&p.Address, "address", "", "the node's address")
	flags.StringVar(&ports, "ports", "", "FIRST-LAST, of which the agent takes one")
	if err := flags.Parse(args[1:]); err != nil {
		return err
	}
	p.Node = field.NodeName(node)
	var err error
	if p.Ports, err = service.ParsePorts(ports); err != nil {
		return err
	}
	if err := p.Valid(); err != nil {
		return err
	}
	switch args[0] {
	case "start":
		return service.Start(ctx, p, stdio{os.Stdin, os.Stdout})
	case "supervise":
		return service.Supervise(ctx, p)
	case "agent":
		return agent.Run(ctx, agent.Options{Dir: p.Dir, Node: p.Node, Address: p.Address, Ports: p.Ports, Guard: host.Program(p.Dir, host.GuardProgram),
			TakeAway: func() ([]string, error) { return service.TakeAway(context.WithoutCancel(ctx), p) }})
	case "remove":
		return service.Remove(ctx, p)
	}
	return fmt.Errorf("%q is nothing that this program does", args[0])
}

// join has this machine be a node.
func join(ctx context.Context, args []string) error {
	o := service.Joining{Invitation: os.Getenv(joining.Variable), Out: os.Stdout}
	flags := flag.NewFlagSet("join", flag.ContinueOnError)
	flags.StringVar(&o.Address, "address", "", "at which others reach this machine")
	if err := flags.Parse(args); err != nil {
		return err
	}
	_ = os.Unsetenv(joining.Variable) // what is started from here has no use for it
	own, err := os.Executable()
	if err != nil {
		return err
	}
	o.Programs = filepath.Dir(own)
	return service.Join(ctx, o)
}

// unfilter takes rules back.
func unfilter(ctx context.Context, args []string) error {
	var dir string
	var after time.Duration
	flags := flag.NewFlagSet("unfilter", flag.ContinueOnError)
	flags.StringVar(&dir, "dir", "", "the node's folder")
	flags.DurationVar(&after, "after", 0, "how long it waits")
	if err := flags.Parse(args); err != nil {
		return err
	}
	return agent.Unfilter(ctx, dir, after)
}

// play watches what is outside.
func play(ctx context.Context, args []string) error {
	if len(args) == 0 || args[0] != "outside" {
		return errors.New("of what lanternfield plays, this program has the watcher of what is outside alone")
	}
	var o outside.Options
	flags := flag.NewFlagSet("play outside", flag.ContinueOnError)
	o.Flags(flags)
	if err := flags.Parse(args[1:]); err != nil {
		return err
	}
	return outside.Run(ctx, o)
}

// stdio is who has started this command, at its standard input and output.
type stdio struct {
	io.Reader
	io.Writer
}

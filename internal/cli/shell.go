package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
)

func (a *app) shellCommand() *cobra.Command {
	return &cobra.Command{Use: "shell [FILE] MEMBER [-- COMMAND [ARGUMENT…]]", Short: "Open a shell at a member, through its agent",
		Long: "The shell runs on the member's node, as its user, with its environment, in its folder; its prompt begins with the member's name. It has a\n" +
			"terminal of its own: sizes, signals and job control work as on the spot. With a command, that has the terminal instead, such as\n" +
			"-- psql or -- less. The journal names who opened which program, and nothing that is typed. The member may stop and start meanwhile.",
		RunE: func(cmd *cobra.Command, args []string) error {
			args, command := splitDash(cmd, args)
			folder, _, what, err := a.folder(args)
			if err != nil {
				return err
			}
			if len(what) != 1 {
				return errors.New("say at which member the shell is to be opened: one name")
			}
			if !isTerminal(a.in) || !isTerminal(a.screen) {
				return errors.New("a shell needs a terminal on both sides; `lanternfield run` runs a command without one")
			}
			visitor, host, err := a.oneMember(folder, what[0])
			if err != nil {
				return err
			}
			defer visitor.Close()
			return a.shellAt(cmd.Context(), visitor, host, command)
		}}
}

// findShell begins the best shell that there is on the node.
const findShell = `for s in /bin/bash /usr/bin/bash; do [ -x $s ] && exec $s --noprofile --norc -i; done; PS1="$LANTERNFIELD_PROMPT $ " exec /bin/sh -i`

// shellAt gives the terminal to a program at a member until that ends.
func (a *app) shellAt(ctx context.Context, door *control.Visitor, host control.Host, command []string) error {
	prompt := fmt.Sprintf("%s on %s", host.Member, host.Node)
	v := agentapi.Visit{By: visitor(), How: "shell", Args: command, Terminal: windowOf(a.screen),
		Env: map[string]string{"TERM": os.Getenv("TERM"), "PS1": prompt + " \\W \\$ ", "HISTFILE": "", "LANTERNFIELD_PROMPT": prompt}}
	if colours := os.Getenv("COLORTERM"); colours != "" {
		v.Env["COLORTERM"] = colours
	}
	if len(command) == 0 {
		v.Args = []string{"sh", "-c", findShell}
	}
	whole, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	frames, err := door.Visit(whole, host, v)
	if err != nil {
		return fmt.Errorf("%s: %w", host.Member, err)
	}
	defer frames.Close()
	fmt.Fprintf(a.err, "At %s on %s (%s). What is typed goes there until the shell ends.\n", host.Member, host.Node, host.Address)
	before, err := term.MakeRaw(a.in.Fd())
	if err != nil {
		return err
	}
	title := fmt.Sprintf("\x1b]2;%s\x07", prompt)
	fmt.Fprint(a.screen, title)
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, syscall.SIGWINCH)
	go func() {
		for range resized {
			if w := windowOf(a.screen); w != nil {
				_ = frames.WriteJSON(agentapi.FrameWindow, w)
			}
		}
	}()
	ending, err := visit{frames, a.in, a.screen, a.screen}.run()
	signal.Stop(resized)
	close(resized)
	_ = term.Restore(a.in.Fd(), before)
	fmt.Fprint(a.screen, "\x1b]2;\x07")
	switch {
	case err != nil:
		return fmt.Errorf("%s: %w", host.Member, err)
	case ending.Why != "":
		return fmt.Errorf("%s: %s", host.Member, ending.Why)
	case ending.Signal != "":
		return fmt.Errorf("%s: it was ended by signal %s", host.Member, ending.Signal)
	}
	fmt.Fprintf(a.err, "Back from %s.\n", host.Member)
	if ending.Code != 0 {
		return exitStatus(ending.Code)
	}
	return nil
}

// windowOf is the size of a terminal.
func windowOf(f *os.File) *agentapi.Window {
	width, height, err := term.GetSize(f.Fd())
	if err != nil || width <= 0 || height <= 0 {
		return &agentapi.Window{Rows: 24, Columns: 80}
	}
	return &agentapi.Window{Rows: uint16(min(height, 1<<15)), Columns: uint16(min(width, 1<<15))}
}

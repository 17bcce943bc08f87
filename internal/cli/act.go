package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/agent"
	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/fieldfile"
)

func (a *app) deployCommand() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: "deploy [FILE]", Short: "Carry the review out and wait until the field has converged",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			return a.deploy(cmd, f, folder, nil, timeout)
		}}
	a.actFlags(cmd, &timeout)
	return cmd
}

func (a *app) actFlags(cmd *cobra.Command, timeout *time.Duration) {
	cmd.Flags().DurationVar(timeout, "timeout", 5*time.Minute, "how long to wait")
	a.yesFlag(cmd)
	a.jsonFlag(cmd)
}

// deploy reviews, asks, orders and waits. Save is called when the order is about to leave.
func (a *app) deploy(cmd *cobra.Command, f *fieldfile.File, folder control.Folder, save func() error, timeout time.Duration) error {
	ctx := cmd.Context()
	found := finding.All(f.Field)
	if finding.Worst(found) {
		return a.refuse(f, found)
	}
	session, err := control.Open(ctx, folder, by(cmd))
	if err != nil {
		return err
	}
	defer session.Close()
	review, err := session.Review(ctx, f.Field)
	if err != nil {
		return err
	}
	if !a.json {
		a.printFindings(f, found)
		a.printReview(review)
	}
	if !review.Empty() {
		if err := a.confirm("Deploy this?"); err != nil {
			return err
		}
	}
	if save != nil {
		if err := save(); err != nil {
			return err
		}
	}
	if err := session.Do(ctx, control.Order{What: "deploy", Draft: f.Field, By: by(cmd)}); err != nil {
		return err
	}
	return a.follow(ctx, session, timeout, engine.StateConverged)
}

// confirm asks before anything is done. Where nobody can be asked, --yes must have been said.
func (a *app) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !isTerminal(a.in) {
		return errors.New("this changes the real field, and there is no terminal to ask on; nothing has been done. Say --yes to go ahead")
	}
	fmt.Fprintf(a.out, "%s [y/N] ", question)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if answer := strings.ToLower(strings.TrimSpace(line)); err == nil && (answer == "y" || answer == "yes") {
		return nil
	}
	return errors.New("nothing has been done")
}

// giveUpAfter is how many failures in a row of one member end the wait for a rollout.
const giveUpAfter = 3

// follow prints what changes until the rollout is over and the field is in the wanted state.
func (a *app) follow(ctx context.Context, session control.Session, timeout time.Duration, want engine.FieldState) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	snapshots, err := session.Watch(ctx)
	if err != nil {
		return err
	}
	began := time.Now()
	phases := map[field.MemberName]string{}
	var last *engine.Snapshot
	for snap := range snapshots {
		last = snap
		a.printChanges(snap, phases, began)
		if !snap.Rollout.Active && (snap.State == want || want == "") {
			if a.json {
				if fresh, err := session.Snapshot(ctx); err == nil {
					snap = fresh
				}
				a.printJSON(snap)
			} else {
				fmt.Fprintf(a.out, "%s is %s after %s. %s\n", snap.Field, snap.State, field.Span(time.Since(began)), snap.Verdict)
			}
			return nil
		}
		if m := givenUp(snap); m != nil {
			return a.gaveUp(snap, m)
		}
	}
	if last == nil {
		last = &engine.Snapshot{}
	}
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		if a.json {
			a.printJSON(last)
		}
		fmt.Fprintf(a.err, "%s did not become %s within %s: %s\n", last.Field, want, field.Span(timeout), last.Verdict)
		for _, m := range last.Members {
			if m.WaitsFor != "" {
				fmt.Fprintf(a.err, "  %s waits for %s\n", m.Member, m.WaitsFor)
			}
		}
		fmt.Fprintf(a.err, "What was ordered stays ordered; `lanternfield status` tells how it goes on.\n")
		return errBadAnswer
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if _, err := session.Snapshot(context.Background()); err != nil {
		return err
	}
	return errors.New("the controller has let go of the field; give the command again to go on")
}

func (a *app) printChanges(snap *engine.Snapshot, phases map[field.MemberName]string, began time.Time) {
	if a.json {
		return
	}
	first := len(phases) == 0
	for _, m := range snap.Members {
		line := string(m.Phase)
		if m.Phase == engine.Failed || m.Phase == engine.Unready || m.Phase == engine.Unknown {
			line += ": " + m.Why
		} else if m.Phase == engine.Planned && m.WaitsFor != "" {
			line += ", waits for " + gateNames(m.WaitsFor)
		}
		if phases[m.Member] != line {
			phases[m.Member] = line
			if first && m.Phase == engine.Ready {
				continue // it was lit before anything was asked
			}
			fmt.Fprintf(a.out, "%8s  %-14s %s\n", field.Span(time.Since(began)), m.Member, line)
		}
	}
}

// gateNames drops the counts from what a member waits for, so that it is not said again at every step.
func gateNames(waits string) string {
	parts := strings.Split(waits, ", ")
	for i, p := range parts {
		parts[i], _, _ = strings.Cut(p, " (")
	}
	return strings.Join(parts, ", ")
}

// givenUp finds a member that keeps a rollout from ending, if waiting for it makes no sense.
func givenUp(snap *engine.Snapshot) *engine.MemberView {
	if snap.Rollout.What == "retire" || snap.Rollout.What == "stop" {
		return nil // what fails ends all the same
	}
	for i := range snap.Members {
		m := &snap.Members[i]
		if snap.Rollout.Active && (m.Trouble != "" || m.Phase == engine.Failed && m.Attempt >= giveUpAfter) {
			return m
		}
	}
	return nil
}

// gaveUp says why waiting on makes no sense, with what the member wrote last.
func (a *app) gaveUp(snap *engine.Snapshot, m *engine.MemberView) error {
	if a.json {
		a.printJSON(snap)
		return errBadAnswer
	}
	if m.Trouble != "" {
		fmt.Fprintf(a.err, "%s\nNobody else is let in or let go before that is settled. Deploy again to go on trying, or scale back to give it up.\n", m.Trouble)
		return errBadAnswer
	}
	fmt.Fprintf(a.err, "%s on %s failed %d times: %s\n", m.Member, m.Node, m.Attempt, m.Why)
	for _, line := range m.LastLines {
		fmt.Fprintf(a.err, "    | %s\n", line)
	}
	if len(m.LastLines) > 0 {
		fmt.Fprintf(a.err, "Its whole log is %s\n", m.Log)
	}
	fmt.Fprintf(a.err, "Its agent goes on trying. Mend it and deploy again, or retire the field.\n")
	return errBadAnswer
}

func (a *app) scaleCommand() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: "scale [FILE] ROLE N [ROLE N …]", Short: "Change the member counts in the field file and deploy",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err != nil {
				return err
			}
			if len(rest) == 0 || len(rest)%2 != 0 {
				return errors.New("scale takes pairs of a role and a number, e.g. `lanternfield scale crews 6`")
			}
			next := f
			for i := 0; i < len(rest); i += 2 {
				if next, err = withMembers(next, rest[i], rest[i+1]); err != nil {
					return err
				}
			}
			return a.deploy(cmd, next, folder, func() error { return f.Save(next.Bytes) }, timeout)
		}}
	a.actFlags(cmd, &timeout)
	return cmd
}

func notANumber(text string) error {
	return fmt.Errorf("%q is not a number of members; write 0 or more", text)
}

func withMembers(f *fieldfile.File, role, number string) (*fieldfile.File, error) {
	r := f.Field.Role(field.RoleName(role))
	if r == nil {
		var names []string
		for _, r := range f.Field.Roles {
			names = append(names, string(r.Name))
		}
		hint := "there is " + strings.Join(names, ", ")
		if near := field.Nearest(role, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, fmt.Errorf("%s has no role %q; %s", f.Name, role, hint)
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 0 {
		return nil, notANumber(number)
	}
	if n == r.Members {
		return f, nil
	}
	data, err := f.SetMembers(r.Name, n)
	if err != nil {
		return nil, err
	}
	return fieldfile.Parse(f.Name, data)
}

func (a *app) lifeCommand(verb, short string) *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: verb + " [FILE] [ROLE|NODE|MEMBER …]", Short: short,
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			return a.live(cmd, folder, verb, rest, timeout)
		}}
	a.actFlags(cmd, &timeout)
	return cmd
}

// live stops, starts or restarts members and waits until that is done.
func (a *app) live(cmd *cobra.Command, folder control.Folder, verb string, what []string, timeout time.Duration) error {
	ctx := cmd.Context()
	session, snap, err := a.openDeployed(ctx, cmd, folder, verb)
	if err != nil {
		return err
	}
	defer session.Close()
	if verb != "start" {
		whom := "all members of " + snap.Field
		if len(what) > 0 {
			whom = strings.Join(what, ", ")
		}
		a.printLosses(snap, verb, what)
		if err := a.confirm(fmt.Sprintf("%s %s? Membership and data are kept.", strings.ToUpper(verb[:1])+verb[1:], whom)); err != nil {
			return err
		}
	}
	if err := session.Do(ctx, control.Order{What: verb, Names: what, By: by(cmd)}); err != nil {
		return err
	}
	want := engine.FieldState("")
	if verb != "stop" {
		want = engine.StateConverged
		if slices.ContainsFunc(snap.Members, func(m engine.MemberView) bool { return m.Phase == engine.Stopped }) && len(what) > 0 {
			want = "" // others may stay stopped
		}
	}
	return a.follow(ctx, session, timeout, want)
}

// printLosses says which roles cannot do their work any more once those members are stopped.
func (a *app) printLosses(snap *engine.Snapshot, verb string, what []string) {
	if a.json || verb != "stop" || len(what) == 0 {
		return
	}
	for _, r := range snap.Roles {
		left := 0
		for _, m := range snap.Members {
			if m.Role == r.Role && m.Phase == engine.Ready && !slices.Contains(what, string(m.Member)) && !slices.Contains(what, string(m.Role)) &&
				!slices.Contains(what, string(m.Node)) {
				left++
			}
		}
		switch {
		case left == r.Ready || r.Survives < 0:
		case r.Votes && left < r.VotesNeeded:
			fmt.Fprintf(a.out, "%s would be left with %d of %d votes and needs %d: its writes stop.\n", r.Role, left, r.Voters, r.VotesNeeded)
		case left == 0:
			fmt.Fprintf(a.out, "%s would be left with nobody to do its work.\n", r.Role)
		}
	}
}

func (a *app) openDeployed(ctx context.Context, cmd *cobra.Command, folder control.Folder, verb string) (control.Session, *engine.Snapshot, error) {
	snap, err := control.Look(ctx, folder)
	if err != nil && !errors.Is(err, control.ErrNothing) {
		return nil, nil, err
	}
	if err != nil || snap.State == engine.StateDraft || snap.State == engine.StateRetired {
		return nil, nil, fmt.Errorf("%s is not deployed, so there is nothing to %s", filepath.Base(folder.Dir), verb)
	}
	session, err := control.Open(ctx, folder, by(cmd))
	return session, snap, err
}

func (a *app) retireCommand() *cobra.Command {
	var timeout time.Duration
	var forget bool
	cmd := &cobra.Command{Use: "retire [FILE]", Short: "Take everything down and prove that nothing is left",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			return a.retire(cmd, folder, forget, timeout)
		}}
	cmd.Flags().BoolVar(&forget, "forget", false, "remove the history and the receipt too")
	a.actFlags(cmd, &timeout)
	return cmd
}

func (a *app) retire(cmd *cobra.Command, folder control.Folder, forget bool, timeout time.Duration) error {
	ctx := cmd.Context()
	session, snap, err := a.openDeployed(ctx, cmd, folder, "retire")
	if err != nil {
		if _, known := os.Stat(folder.Dir); forget && known == nil {
			return control.Forget(folder)
		}
		return err
	}
	defer session.Close()
	if err := a.confirm(fmt.Sprintf("Retire %s? %d members on %d nodes end for good, and their data is lost.", snap.Field,
		len(snap.Members), len(snap.Nodes))); err != nil {
		return err
	}
	if err := session.Do(ctx, control.Order{What: "retire", By: by(cmd)}); err != nil {
		return err
	}
	if err := a.followRetire(ctx, session, timeout); err != nil {
		return err
	}
	receipt, err := control.WriteReceipt(folder)
	if err != nil {
		return err
	}
	if err := session.Close(); err != nil {
		return err
	}
	if forget {
		if err := control.Forget(folder); err != nil {
			return err
		}
	}
	a.printReceipt(receipt, forget, folder)
	if len(receipt.Left) > 0 {
		return errBadAnswer
	}
	return nil
}

// followRetire follows without the closing document: the receipt is what is printed.
func (a *app) followRetire(ctx context.Context, session control.Session, timeout time.Duration) error {
	shown := *a
	if a.json {
		shown.out, shown.json = io.Discard, false
	}
	return shown.follow(ctx, session, timeout, engine.StateRetired)
}

func (a *app) printReceipt(r *control.Receipt, forget bool, folder control.Folder) {
	if a.json {
		a.printJSON(r)
		return
	}
	for _, m := range r.Members {
		fmt.Fprintf(a.out, "  gone  %s on %s (%s; processes %s)\n", m.Name, m.Node, m.Address, strings.Trim(fmt.Sprint(m.PIDs), "[]"))
	}
	for _, n := range r.Nodes {
		fmt.Fprintf(a.out, "  gone  the agent of %s (%s) and its folder\n", n.Name, n.Address)
	}
	for _, left := range r.Left {
		fmt.Fprintf(a.out, "  LEFT  %s\n", left)
	}
	switch {
	case len(r.Left) > 0:
		fmt.Fprintf(a.out, "%s is retired, but %d things were found afterwards; see above.\n", r.Field, len(r.Left))
	case forget:
		fmt.Fprintf(a.out, "%s is retired and forgotten.\n", r.Field)
	default:
		fmt.Fprintf(a.out, "%s is retired: looked for every process and folder again, and found none. The history stays in %s; --forget removes it.\n", r.Field, folder.Dir)
	}
}

func (a *app) agentCommand() *cobra.Command {
	var o agent.Options
	var node string
	ready := -1
	cmd := &cobra.Command{Use: "agent", Short: "Run the daemon of a node (started by the ground, not by hand)", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.Dir == "" || node == "" || o.Address == "" {
				return errors.New("an agent needs --dir, --node and --address; controllers start agents by themselves")
			}
			o.Node = field.NodeName(node)
			if ready >= 0 {
				o.Ready = os.NewFile(uintptr(ready), "ready")
			}
			return agent.Run(cmd.Context(), o)
		}}
	cmd.Flags().StringVar(&o.Dir, "dir", "", "the agent's own folder")
	cmd.Flags().StringVar(&node, "node", "", "the node's name")
	cmd.Flags().StringVar(&o.Address, "address", "", "the node's address")
	cmd.Flags().IntVar(&ready, "ready-fd", -1, "a file descriptor that gets a line when the agent answers")
	return cmd
}

func (a *app) openCommand() *cobra.Command {
	var ascii bool
	cmd := &cobra.Command{Use: "open [FILE]", Short: "Open the full-screen application",
		RunE: func(cmd *cobra.Command, args []string) error {
			file, rest, err := a.pickFile(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			return a.open(cmd.Context(), file, ascii)
		}}
	cmd.Flags().BoolVar(&ascii, "ascii", false, "draw with ASCII only")
	return cmd
}

func (a *app) open(ctx context.Context, file string, ascii bool) error {
	f, err := fieldfile.Load(file)
	if err != nil {
		return err
	}
	folder, err := a.folderOf(f.Field.Name)
	if err != nil {
		return err
	}
	if !isTerminal(a.in) {
		return errors.New("the full-screen application needs a terminal; `lanternfield status` prints the field")
	}
	return a.screen(ctx, file, folder, ascii)
}

package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/agent"
	"lanternfield/internal/control"
	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/keeper"
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
	a.takeOverFlag(cmd)
	return cmd
}

func (a *app) takeOverFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.takeOver, "take-over", "", "go on with a log that lacks what the nodes were told: the field's name")
}

// attach gives a session through the keeper of a field, starting one where there is none.
func (a *app) attach(ctx context.Context, cmd *cobra.Command, folder control.Folder) (control.Session, error) {
	session, err := keeper.Attach(ctx, folder, who(cmd))
	a.progressEnds()
	return session, err
}

// openToAct opens a field; also one with a broken log, where a person takes it over by its name.
func (a *app) openToAct(ctx context.Context, cmd *cobra.Command, folder control.Folder) (control.Session, error) {
	session, err := a.attach(ctx, cmd, folder)
	var broken *eventlog.Broken
	if !errors.As(err, &broken) || a.takeOver != folder.Name() {
		return session, err
	}
	kept, err := control.Cut(folder, broken)
	if err != nil {
		return nil, err
	}
	if !a.json {
		fmt.Fprintf(a.out, "The log was broken; the whole of it is kept in %s.\n", kept)
	}
	return a.attach(ctx, cmd, folder)
}

// takesOver goes on with the log that is here, where a person has said so.
func (a *app) takesOver(ctx context.Context, cmd *cobra.Command, session control.Session) error {
	if a.takeOver == "" {
		return nil
	}
	err := session.Do(ctx, control.Request{What: "take over", Names: []string{a.takeOver}, By: by(cmd)})
	if err == nil && !a.json {
		fmt.Fprintf(a.out, "%s goes on with the log that is here.\n", a.takeOver)
	}
	return err
}

func (a *app) actFlags(cmd *cobra.Command, timeout *time.Duration) {
	cmd.Flags().DurationVar(timeout, "timeout", 5*time.Minute, "how long to wait")
	a.yesFlag(cmd)
	a.jsonFlag(cmd)
}

// deploy reviews, asks, orders and waits. Save is called when the order is about to leave.
func (a *app) deploy(cmd *cobra.Command, f *fieldfile.File, folder control.Folder, save func() error, timeout time.Duration) error {
	ctx := cmd.Context()
	found := finding.Whole(f.Field)
	if finding.HasErrors(found) {
		return a.refuse(f, found)
	}
	session, err := a.openToAct(ctx, cmd, folder)
	if err != nil {
		return err
	}
	defer session.Close()
	if err := a.takesOver(ctx, cmd, session); err != nil {
		return err
	}
	review, err := session.Review(ctx, f.Field)
	if err != nil {
		return err
	}
	if !a.json {
		a.printFindings(f, found)
		a.printReview(review)
	}
	if len(review.Missing) > 0 {
		return fmt.Errorf("nodes lack what the draft needs; see above. Nothing has been changed")
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
	if err := session.Do(ctx, control.Request{What: "deploy", Draft: f.Field, Accepted: review, By: by(cmd)}); err != nil {
		return err
	}
	return a.follow(ctx, session, timeout, waited{what: "deploy", want: snapshot.Converged})
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
	data, err := f.Put(arrange.Put{Path: []string{"roles", string(r.Name), "members"}, Value: strconv.Itoa(n)})
	if err != nil {
		return nil, err
	}
	return f.With(data)
}

func (a *app) lifeCommand(verb, short string) *cobra.Command {
	var timeout time.Duration
	var without []string
	cmd := &cobra.Command{Use: verb + " [FILE] [ROLE|NODE|MEMBER …]", Short: short,
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			return a.live(cmd, folder, verb, rest, without, timeout)
		}}
	if verb == "start" {
		cmd.Flags().StringSliceVar(&without, "without", nil, "start without what these members may have that the others have not, where their data is the newest or cannot be read")
	}
	a.actFlags(cmd, &timeout)
	return cmd
}

// live stops, starts or restarts members and waits until that is done.
func (a *app) live(cmd *cobra.Command, folder control.Folder, verb string, what, without []string, timeout time.Duration) error {
	ctx := cmd.Context()
	session, snap, err := a.openDeployed(ctx, cmd, folder, verb)
	if err != nil {
		return err
	}
	defer session.Close()
	if err := known(snap, append(slices.Clone(what), without...)); err != nil {
		return err
	}
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
	if err := session.Do(ctx, control.Request{What: verb, Names: what, Without: without, By: by(cmd)}); err != nil {
		return err
	}
	w := waited{what: verb, names: what}
	if verb != "stop" && (len(what) == 0 || !slices.ContainsFunc(snap.Members, func(m snapshot.MemberView) bool { return m.Phase == state.Stopped })) && !snap.Rollout.Paused {
		w.want = snapshot.Converged
	}
	if len(what) > 0 { // what is wrong elsewhere is not waited for
		w.want = ""
	}
	return a.follow(ctx, session, timeout, w)
}

// known refuses words that name nothing of the field.
func known(snap *snapshot.Snapshot, what []string) error {
	words := []string{}
	for _, m := range snap.Members {
		words = append(words, string(m.Member), string(m.Role), string(m.Node))
	}
	slices.Sort(words)
	words = slices.Compact(words)
	for _, word := range what {
		if slices.Contains(words, word) {
			continue
		}
		if near := field.Nearest(word, words); near != "" {
			return fmt.Errorf("there is no role, node or member %q; did you mean %q?", word, near)
		}
		return fmt.Errorf("there is no role, node or member %q; there is %s", word, strings.Join(words, ", "))
	}
	return nil
}

// printLosses says what stops, or stops for a while, when those members are stopped or restarted.
func (a *app) printLosses(snap *snapshot.Snapshot, verb string, what []string) {
	if a.json {
		return
	}
	names := func(m snapshot.MemberView) bool {
		return len(what) == 0 || slices.Contains(what, string(m.Member)) || slices.Contains(what, string(m.Role)) || slices.Contains(what, string(m.Node))
	}
	if verb == "stop" {
		ends := 0
		for _, m := range snap.Members {
			if names(m) && m.Phase != state.Stopped && m.Phase != state.Planned {
				ends++
			}
		}
		fmt.Fprintf(a.out, "%d %s would be stopped, and stay stopped until they are started again; their data is kept.\n", ends, many(ends, "member"))
	}
	for _, r := range snap.Roles {
		left, leads, any := 0, false, false
		for _, m := range snap.Members {
			if m.Role != r.Role || m.Phase != state.Ready {
				continue
			}
			if names(m) {
				leads, any = leads || m.Leads, true
			} else {
				left++
			}
		}
		if verb == "restart" {
			if leads && any {
				fmt.Fprintf(a.out, "%s is led by %s, which is restarted last: %s.\n", r.Role, r.Leader, leaderLoss(r))
			}
			continue
		}
		switch {
		case !any || r.Survives < 0:
		case r.Votes && left < r.VotesNeeded:
			fmt.Fprintf(a.out, "%s would be left with %d of %d votes and needs %d: its writes stop.\n", r.Role, left, r.Voters, r.VotesNeeded)
		case left == 0:
			fmt.Fprintf(a.out, "%s would be left with nobody to do its work.\n", r.Role)
		case leads:
			fmt.Fprintf(a.out, "%s would lose %s, which leads: %s.\n", r.Role, r.Leader, leaderLoss(r))
		}
	}
}

// leaderLoss says what the loss of its leader means for a role.
func leaderLoss(r snapshot.RoleView) string {
	if r.Votes {
		return "writes wait for an election"
	}
	return "writes stop until another leads"
}

func (a *app) openDeployed(ctx context.Context, cmd *cobra.Command, folder control.Folder, verb string) (control.Session, *snapshot.Snapshot, error) {
	snap, err := control.Look(ctx, folder)
	var lacks *control.LacksError
	var broken *eventlog.Broken
	if a.takeOver != "" && (err == nil || errors.As(err, &lacks) || errors.As(err, &broken)) {
		session, err := a.openToAct(ctx, cmd, folder)
		if err == nil {
			err = a.takesOver(ctx, cmd, session)
		}
		if err != nil {
			return nil, nil, err
		}
		if snap, err = session.Snapshot(ctx); err != nil || snap.State == snapshot.Draft || snap.State == snapshot.Retired {
			return nil, snap, errors.Join(err, session.Close())
		}
		return session, snap, nil
	}
	if err != nil && !errors.Is(err, control.ErrNothing) {
		return nil, nil, err
	}
	if err != nil || snap.State == snapshot.Draft || snap.State == snapshot.Retired {
		return nil, nil, fmt.Errorf("%s is not deployed, so there is nothing to %s", filepath.Base(folder.Dir), verb)
	}
	session, err := a.attach(ctx, cmd, folder)
	return session, snap, err
}

func (a *app) agentCommand() *cobra.Command {
	var o agent.Options
	var node string
	enrol, unit := -1, false
	cmd := &cobra.Command{Use: "agent", Short: "Run the daemon of a node (started by the ground, not by hand)", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if unit {
				return a.printUnit()
			}
			if o.Dir == "" || node == "" || o.Address == "" {
				return errors.New("an agent needs --dir, --node and --address; controllers start agents by themselves")
			}
			o.Node = field.NodeName(node)
			if enrol < 0 {
				return errors.New("an agent gets its certificate from the controller that starts it, by --enrol-fd; controllers start agents by themselves")
			}
			syscall.CloseOnExec(enrol)
			o.Enrol = os.NewFile(uintptr(enrol), "enrolment")
			return agent.Run(cmd.Context(), o)
		}}
	cmd.Flags().BoolVar(&unit, "print-unit", false, "print a systemd unit that brings a field back when the machine starts (with --field NAME)")
	cmd.Flags().StringVar(&o.Dir, "dir", "", "the node's folder")
	cmd.Flags().StringVar(&node, "node", "", "the node's name")
	cmd.Flags().StringVar(&o.Address, "address", "", "the node's address")
	cmd.Flags().IntVar(&enrol, "enrol-fd", -1, "a connection to the controller that starts it, inherited")
	return cmd
}

func (a *app) keepLogsCommand() *cobra.Command {
	var nodes, lock string
	cmd := &cobra.Command{Use: "keep-logs", Short: "Bound the logs of members whose agents are away (started by the ground, not by hand)", Args: cobra.NoArgs, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if nodes == "" || lock == "" {
				return errors.New("a keeper of logs needs --nodes and --lock; controllers start it by themselves")
			}
			return agent.KeepLogs(cmd.Context(), nodes, lock)
		}}
	cmd.Flags().StringVar(&nodes, "nodes", "", "the folder of the nodes")
	cmd.Flags().StringVar(&lock, "lock", "", "the file that is locked meanwhile")
	return cmd
}

func (a *app) openCommand() *cobra.Command {
	var ascii bool
	cmd := &cobra.Command{Use: "open [FILE]", Short: "Open the full-screen application",
		RunE: func(cmd *cobra.Command, args []string) error {
			file, rest, err := a.pickFile(args)
			if errors.Is(err, errNoFile) && isTerminal(a.in) { // the first time, in a folder of their own
				if file, err = a.screens.Start(cmd.Context(), ".", ascii); err == nil && file == "" {
					return nil
				}
			}
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			return a.open(cmd.Context(), file, ascii)
		}}
	cmd.Flags().BoolVar(&ascii, "ascii", false, "draw with ASCII only")
	return cmd
}

func (a *app) open(ctx context.Context, file string, ascii bool) error {
	f, err := fieldfile.Load(file, a.env)
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
	return a.screens.Open(ctx, file, a.env, folder, ascii)
}

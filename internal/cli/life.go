package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

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
			if leads && any && r.Floating != "" {
				fmt.Fprintf(a.out, "%s has %s, and is restarted last: %s.\n", r.Leader, r.Floating, leaderLoss(r))
			} else if leads && any {
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
		case leads && r.Floating != "":
			fmt.Fprintf(a.out, "%s would lose %s, which has %s: %s.\n", r.Role, r.Leader, r.Floating, leaderLoss(r))
		case leads:
			fmt.Fprintf(a.out, "%s would lose %s, which leads: %s.\n", r.Role, r.Leader, leaderLoss(r))
		}
	}
}

// leaderLoss says what the loss of its leader means for a role.
func leaderLoss(r snapshot.RoleView) string {
	if r.Floating != "" {
		return "that moves to another within seconds"
	}
	if r.Votes {
		return "writes wait for an election"
	}
	return "writes stop until another leads"
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/snapshot"
)

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
	a.takeOverFlag(cmd)
	cmd.Flags().BoolVar(&forget, "forget", false, "remove the history and the receipt too")
	a.actFlags(cmd, &timeout)
	return cmd
}

func (a *app) retire(cmd *cobra.Command, folder control.Folder, forget bool, timeout time.Duration) error {
	ctx := cmd.Context()
	session, snap, err := a.openDeployed(ctx, cmd, folder, "retire")
	if err == nil && session == nil {
		return nil // taken over and taken down, and the log knows of nothing else
	}
	if err != nil {
		if _, known := os.Stat(folder.Dir); forget && known == nil {
			return control.Forget(folder)
		}
		return err
	}
	defer session.Close()
	also := ""
	if len(snap.Kept) > 0 {
		also = ", also what was kept of " + snap.KeptNames()
	}
	if !a.json {
		fmt.Fprintf(a.out, "%d members on %d nodes end for good, and their data is deleted%s.\n", len(snap.Members), len(snap.Nodes), also)
		for _, r := range snap.Roles {
			for _, h := range r.HandedTo {
				fmt.Fprintf(a.out, "%s is called by another field, %s (its %s), which loses it.\n", r.Role, h.Field, h.As)
			}
		}
	}
	if err := a.confirm(fmt.Sprintf("Retire %s?", snap.Field)); err != nil {
		return err
	}
	if err := session.Do(ctx, control.Request{What: "retire", By: by(cmd)}); err != nil {
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
		if err := control.Forget(folder); err != nil { // what was done is said all the same
			a.printReceipt(receipt, false, folder)
			return fmt.Errorf("its history is not removed: %w", err)
		}
	}
	a.printReceipt(receipt, forget, folder)
	if len(receipt.Left)+len(receipt.Unconfirmed) > 0 {
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
	return shown.follow(ctx, session, timeout, waited{what: "retire", want: snapshot.Retired})
}

func (a *app) printReceipt(r *control.Receipt, forget bool, folder control.Folder) {
	if a.json {
		a.printJSON(r)
		return
	}
	for _, m := range r.Members {
		if m.Never {
			fmt.Fprintf(a.out, "  gone  %s on %s, which was never started\n", m.Name, m.Node)
			continue
		}
		fmt.Fprintf(a.out, "  gone  %s on %s (%s; processes %s)\n", m.Name, m.Node, m.Address, strings.Trim(fmt.Sprint(m.PIDs), "[]"))
	}
	for _, n := range r.Nodes {
		switch {
		case n.Never:
			fmt.Fprintf(a.out, "  gone  %s, which was asked for and never there\n", n.Name)
		case n.Itself:
			fmt.Fprintf(a.out, "  gone  the agent of %s (%s) and its folder, by its own account: nobody else can look there\n", n.Name, n.Address)
		default:
			fmt.Fprintf(a.out, "  gone  the agent of %s (%s) and its folder\n", n.Name, n.Address)
		}
	}
	for _, left := range r.Left {
		fmt.Fprintf(a.out, "  LEFT  %s\n", left)
	}
	for _, what := range r.Stays {
		fmt.Fprintf(a.out, "  STAYS  %s\n", what)
	}
	for _, what := range r.Unconfirmed {
		fmt.Fprintf(a.out, "  NOT CONFIRMED  %s\n", what)
	}
	switch {
	case len(r.Left) == 0 && len(r.Unconfirmed) > 0:
		fmt.Fprintf(a.out, "%s is retired, and nothing was found afterwards on this machine; %d things could not be confirmed by who ran them, see above.\n", r.Field, len(r.Unconfirmed))
	case len(r.Left) > 0:
		fmt.Fprintf(a.out, "%s is retired, but %d things were found afterwards; see above.\n", r.Field, len(r.Left))
	case forget:
		fmt.Fprintf(a.out, "%s is retired and forgotten.\n", r.Field)
	default:
		fmt.Fprintf(a.out, "%s is retired: looked for every process and folder again, and found none. The history stays in %s; --forget removes it.\n", r.Field, folder.Dir)
	}
}

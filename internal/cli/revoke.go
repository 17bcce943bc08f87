package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/wording"
)

func (a *app) trustRevokeCommand() *cobra.Command {
	var timeout time.Duration
	controllers := false
	cmd := &cobra.Command{Use: "revoke [FILE] NODE … | --controllers", Short: "Revoke the certificates of agents, or of all controllers",
		Long: "By node: the agent's key may be known to others. Nobody here speaks with who shows a certificate that was issued for it until now. An agent on this machine, or\n" +
			"on a host that is reached by SSH, is started anew with another key at once, and its members go on; a machine that has joined is to be invited again.\n\n" +
			"--controllers: somebody may have copied what a controller, or a watcher (own/watch.pem), shows. Every agent that can be reached parts from them within a second,\n" +
			"the others as soon as they are. Whoever may have read the keyring, too, can make others: trust rotate --agents.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, nodes, err := a.folder(args)
			if err != nil {
				return err
			}
			switch {
			case controllers && len(nodes) > 0:
				return fmt.Errorf("say nodes, or --controllers: %s is a name of nodes", strings.Join(nodes, ", "))
			case !controllers && len(nodes) == 0:
				return fmt.Errorf("say which nodes' agents are meant, or --controllers")
			}
			ask := control.Request{What: control.RevokeAgents, Names: nodes, By: by(cmd)}
			question := fmt.Sprintf("Revoke the certificate of the agent of %s? Its members go on. If others may have read its disk, change the secrets of its members too (trust change).", wording.And(nodes))
			if controllers {
				ask.What = control.RevokeControllers
				question = "Revoke all certificates of controllers and watchers that were issued until now? Whoever keeps the field gives itself a new one."
			}
			return a.changeAgents(cmd, folder, ask, question, timeout)
		}}
	cmd.Flags().BoolVar(&controllers, "controllers", false, "all certificates of controllers and watchers that were issued until now")
	a.actFlags(cmd, &timeout)
	return cmd
}

// rotateAgents has another authority take the place of the one of agents and controllers.
func (a *app) rotateAgents(cmd *cobra.Command, folder control.Folder, finish bool, timeout time.Duration) error {
	ask := control.Request{What: control.RotateAgents, By: by(cmd)}
	question := "Have another authority take the place of the one of agents and controllers? Agents are given new certificates as they run; members notice nothing. Open invitations end."
	if finish {
		ask.What = control.FinishAgents
		question = "Go on without agents that have not been given a certificate by the new authority? They are replaced when they can be reached; a machine that has joined is to be invited again."
	}
	return a.changeAgents(cmd, folder, ask, question, timeout)
}

// changeAgents changes which certificates count between controllers and agents, and waits until all agents that can be reached follow.
func (a *app) changeAgents(cmd *cobra.Command, folder control.Folder, ask control.Request, question string, timeout time.Duration) error {
	session, snap, err := a.openDeployed(cmd.Context(), cmd, folder, "trust")
	if err != nil {
		return err
	}
	defer session.Close()
	if err := knownNodes(snap, ask.Names); err != nil {
		return err
	}
	if err := a.confirm(question); err != nil {
		return err
	}
	if err := session.Do(cmd.Context(), ask); err != nil {
		return err
	}
	return a.awaitAgents(cmd.Context(), session, ask, timeout)
}

// knownNodes refuses words that name no node.
func knownNodes(snap *snapshot.Snapshot, names []string) error {
	var all []string
	for _, n := range snap.Nodes {
		all = append(all, string(n.Node))
	}
	for _, name := range names {
		if slices.Contains(all, name) {
			continue
		}
		if near := field.Nearest(name, all); near != "" {
			return fmt.Errorf("there is no node %q; did you mean %q?", name, near)
		}
		return fmt.Errorf("there is no node %q; there is %s", name, strings.Join(all, ", "))
	}
	return nil
}

// lateFor is how long agents that cannot be asked are waited for, where the others have followed.
const lateFor = 3 * time.Second

// awaitAgents waits until all agents follow; those that cannot be reached are named.
func (a *app) awaitAgents(ctx context.Context, session control.Session, ask control.Request, timeout time.Duration) error {
	began := time.Now()
	after := time.After(timeout)
	for {
		t, err := session.Trust(ctx)
		if err != nil {
			return err
		}
		late, only := lateAgents(t, ask.Names)
		rotating := ask.What == control.RotateAgents
		switch {
		case len(late) == 0 && !t.Beside:
			if a.json {
				return a.printTrust(t)
			}
			fmt.Fprintf(a.out, "%s, after %s.\n", agentsFollow(t, ask), field.Span(time.Since(began)))
			return nil
		case len(late) > 0 && only && time.Since(began) > lateFor && !rotating:
			fmt.Fprintf(a.err, "%s cannot be reached, and will be told before anything else: %s.\n", wording.Counted(len(late), "agent"), strings.Join(late, "; "))
			return errBadAnswer
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-after:
			fmt.Fprintf(a.err, "Not done after %s: %s. It goes on while somebody keeps the field; `lanternfield trust` tells how far it is", field.Span(timeout), strings.Join(late, "; "))
			if rotating {
				fmt.Fprint(a.err, ", and `lanternfield trust rotate --agents --finish` goes on without them")
			}
			fmt.Fprintln(a.err, ".")
			return errBadAnswer
		case <-time.After(trustEvery):
		}
	}
}

// lateAgents lists the agents that do not follow yet, with why; only tells whether all of those cannot be reached.
func lateAgents(t *snapshot.Trust, names []string) (late []string, only bool) {
	only = true
	for _, x := range t.Agents {
		if x.Moved() && !x.Issued.Before(x.Since) || len(names) > 0 && !slices.Contains(names, string(x.Node)) {
			continue
		}
		if only = only && x.Why != ""; x.Why != "" {
			late = append(late, string(x.Node)+": "+x.Why)
		} else {
			late = append(late, string(x.Node)+" has not been told yet")
		}
	}
	return late, only
}

// agentsFollow says what has come of it.
func agentsFollow(t *snapshot.Trust, ask control.Request) string {
	switch ask.What {
	case control.RevokeControllers:
		return fmt.Sprintf("%s no longer hear anybody whose certificate was issued before", wording.Counted(len(t.Agents), "agent"))
	case control.RevokeAgents:
		return fmt.Sprintf("The agent of %s has another key and another certificate", wording.And(ask.Names))
	}
	return fmt.Sprintf("%s have certificates by the new authority, which alone counts now", wording.Counted(len(t.Agents), "agent"))
}

// printAgents says what agents show.
func (a *app) printAgents(t *snapshot.Trust) {
	if len(t.Agents) == 0 {
		return
	}
	var first time.Time
	shown := 0
	for _, x := range t.Agents {
		if x.Why != "" {
			continue
		}
		if shown++; first.IsZero() || x.Until.Before(first) {
			first = x.Until
		}
	}
	fmt.Fprintf(a.out, "\n%d of %s show certificates that count", shown, wording.Counted(len(t.Agents), "agent"))
	if shown > 0 {
		fmt.Fprintf(a.out, ", the first of them until %s", first.Local().Format(day))
	}
	fmt.Fprintln(a.out, ".")
	if t.Beside {
		fmt.Fprintln(a.out, "Another authority is taking the place of the one of agents and controllers.")
	}
	if !t.Askers.IsZero() {
		fmt.Fprintf(a.out, "Of controllers and watchers, only certificates count that were issued since %s.\n", t.Askers.Local().Format("2 Jan 2006 15:04:05"))
	}
	late, _ := lateAgents(t, nil)
	for _, text := range late {
		fmt.Fprintln(a.out, "  "+text)
	}
}

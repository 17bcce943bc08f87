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
)

func (a *app) proveCommand() *cobra.Command {
	timeout := 5 * time.Minute
	cmd := &cobra.Command{Use: "prove [FILE] [ROLE…]", Short: "Prove that the roles do their work: write here and read there",
		Long: "Proofs come with kits, and fields add theirs (proofs:). Each is a list of steps, each with what must be answered; what they write goes into a\n" +
			"namespace of its own and is removed afterwards. They are done after every deploy, too. The exit status is 1 where one does not hold.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, roles, err := a.folder(args)
			if err != nil {
				return err
			}
			session, before, err := a.openDeployed(cmd.Context(), cmd, folder, "prove")
			if err != nil {
				return err
			}
			defer session.Close()
			last := 0
			for _, p := range before.Proofs {
				last = max(last, p.Number)
			}
			if err := session.Do(cmd.Context(), control.Request{What: "prove", Names: roles, By: by(cmd)}); err != nil {
				return err
			}
			return a.awaitProofs(cmd, session, timeout, roles, last)
		}}
	cmd.Flags().DurationVar(&timeout, "timeout", timeout, "how long to wait")
	a.jsonFlag(cmd)
	return cmd
}

// awaitProofs prints what comes of proofs whose numbers are above the last one before.
func (a *app) awaitProofs(cmd *cobra.Command, session control.Session, timeout time.Duration, roles []string, last int) error {
	after := time.After(timeout)
	snapshots, err := session.Watch(cmd.Context())
	if err != nil {
		return err
	}
	said := map[int]bool{}
	for {
		select {
		case snap, more := <-snapshots:
			if !more {
				if err := cmd.Context().Err(); err != nil {
					return err
				}
				return fmt.Errorf("the process that kept the field has ended, so the proofs do not go on by themselves; give the command again")
			}
			var mine []snapshot.ProofView
			running := false
			for _, p := range snap.Proofs {
				if len(roles) > 0 && !slices.Contains(roles, string(p.Role)) {
					continue
				}
				if running = running || p.Running; p.Number > last {
					mine = append(mine, p)
				}
			}
			if !a.json {
				for _, p := range mine {
					if !said[p.Number] {
						said[p.Number] = true
						a.printProof(p)
					}
				}
			}
			if running {
				continue
			}
			if a.json {
				a.printJSON(mine)
			}
			if slices.ContainsFunc(mine, snapshot.ProofView.Failed) {
				return errBadAnswer
			}
			return nil
		case <-after:
			fmt.Fprintf(a.err, "The proofs are not finished after %s; they go on, and `lanternfield status` tells what came of them.\n", field.Span(timeout))
			return errBadAnswer
		}
	}
}

// printProof prints what came of a proof, step by step.
func (a *app) printProof(p snapshot.ProofView) {
	word := "holds"
	if !p.OK {
		word = "does not hold"
	}
	fmt.Fprintf(a.out, "%s of %s %s, in %s\n", p.Name, p.Role, word, field.Brief(time.Duration(p.TookMS*float64(time.Millisecond))))
	for _, s := range p.Steps {
		mark := "+"
		switch {
		case s.Borne:
			mark = "-"
		case !s.OK:
			mark = "x"
		}
		who := ""
		if s.Member != "" {
			who = string(s.Member)
		}
		if s.From != "" {
			who += " from " + string(s.From)
		}
		tries := ""
		if s.Tries > 1 {
			tries = fmt.Sprintf(", at the try %d", s.Tries)
		}
		fmt.Fprintf(a.out, "  %s %-14s %s (%s%s)\n", mark, who, s.Say, field.Brief(s.Took), tries)
		if !s.OK {
			fmt.Fprintf(a.out, "    %s\n", strings.ReplaceAll(s.Why, "\n", "\n    "))
		}
	}
	if !p.OK && (len(p.Steps) == 0 || !strings.Contains(p.Why, p.Steps[len(p.Steps)-1].Why)) {
		fmt.Fprintf(a.out, "  %s\n", p.Why)
	}
}

// notProved ends a deploy whose proofs did not hold.
func (a *app) notProved(snap *snapshot.Snapshot) error {
	if a.json {
		a.printJSON(snap)
		return errBadAnswer
	}
	for _, p := range snap.Proofs {
		if p.Failed() {
			a.printProof(p)
		}
	}
	fmt.Fprintf(a.err, "%s runs as it was deployed, and is not proved. `lanternfield prove` tries again.\n", snap.Field)
	return errBadAnswer
}

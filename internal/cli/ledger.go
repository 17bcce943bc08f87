package cli

import (
	"errors"
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

func (a *app) mendCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "mend [FILE] [NODE…]", Short: "Carry out what mends failing checks: install packages, raise settings of the kernel",
		Long: "Hosts are looked at, as check --nodes does. What can be mended from here is listed and asked about, then done: packages by apt-get, whose services are neither\n" +
			"started nor enabled; settings of the kernel at once, and in a file of ours in /etc/sysctl.d. It takes an agent or a login that is root. All of it is in the\n" +
			"ledger, and is undone when the node is given up or the field retired.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, only, err := a.loadNodes(args)
			if err != nil {
				return err
			}
			m, err := folder.Preflight(cmd.Context(), f.Field, a.lookedAt)
			a.progressEnds()
			if err != nil {
				return err
			}
			steps := m.Mendable(only...)
			if len(steps) == 0 {
				if m.OK() {
					fmt.Fprintln(a.out, "All checks pass: there is nothing to mend.")
					return nil
				}
				return errors.New("nothing of what fails can be mended from here; `lanternfield check --nodes` says what to do")
			}
			for _, s := range steps {
				fmt.Fprintf(a.out, "  on %s: %s\n", s.Node, s.Step)
			}
			if err := a.confirm(fmt.Sprintf("Do %s on %s?", wording.Plural(len(steps), "this", "these"), wording.Counted(nodesOf(steps), "machine"))); err != nil {
				return err
			}
			session, err := a.attach(cmd.Context(), cmd, folder)
			if err != nil {
				return err
			}
			defer session.Close()
			out, err := session.Mend(cmd.Context(), control.MendAsked{Draft: f.Field, Steps: steps, By: by(cmd)})
			if err != nil {
				return err
			}
			return a.printMended(f.Field.Name, out)
		}}
	a.yesFlag(cmd)
	a.jsonFlag(cmd)
	return cmd
}

func nodesOf(steps []preflight.Mending) int {
	seen := map[field.NodeName]bool{}
	for _, s := range steps {
		seen[s.Node] = true
	}
	return len(seen)
}

func (a *app) printMended(name string, out []control.MendOutcome) error {
	failed := false
	for _, o := range out {
		failed = failed || o.Why != ""
	}
	if a.json {
		a.printJSON(map[string]any{"field": name, "ok": !failed, "steps": out})
	} else {
		for _, o := range out {
			if o.Why != "" {
				fmt.Fprintf(a.err, "%s: this could not be done: %s: %s\n", o.Node, o.Step, o.Why)
				continue
			}
			fmt.Fprintf(a.out, "%s: %s\n", o.Node, o.Entry)
		}
	}
	if failed {
		return errBadAnswer
	}
	return nil
}

func (a *app) ledgerCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "ledger [FILE]", Short: "What was put on machines for a field, and what of it is still to be undone",
		Long: "Lists, for each node that is there, its agent's folder, and the members on it; and all that was changed on machines beside that: packages, settings of the kernel.\n" +
			"Retiring the field, or giving a node up, undoes it. Where a machine could not be reached then, it is still owed, and stands here until `ledger settle` has undone it.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			list, err := folder.Ledger()
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(map[string]any{"field": folder.Name(), "entries": ledgerRows(list)})
				return nil
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "Nothing of this field is on any machine.")
				return nil
			}
			w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "node\twhat\tsince\tstate")
			for _, r := range ledgerRows(list) {
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", r.Node, r.What, r.Since, r.State)
			}
			return w.Flush()
		}}
	a.jsonFlag(cmd)
	cmd.AddCommand(a.settleCommand())
	return cmd
}

// ledgerRow is an entry for people and other programs.
type ledgerRow struct {
	Node  field.NodeName `json:"node"`
	What  string         `json:"what"`
	Since string         `json:"since,omitempty"`
	State string         `json:"state"`
	Owed  bool           `json:"owed,omitempty"`
	Why   string         `json:"why,omitempty"`
}

func ledgerRows(list []state.LedgerEntry) []ledgerRow {
	rows := []ledgerRow{}
	for _, e := range list {
		r := ledgerRow{Node: e.Node, What: e.What, State: "in use", Owed: e.Due, Why: e.Owed}
		if !e.At.IsZero() {
			r.Since = e.At.Local().Format("2 Jan 15:04")
		}
		switch {
		case e.Due && e.Owed != "":
			r.State = "still to be undone: " + e.Owed
		case e.Due:
			r.State = "still to be undone"
		}
		rows = append(rows, r)
	}
	return rows
}

func (a *app) settleCommand() *cobra.Command {
	return &cobra.Command{Use: "settle [FILE] [NODE…]", Short: "Undo what is still owed on machines of nodes that were given up, or of a field that was retired",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			var only []field.NodeName
			for _, n := range rest {
				only = append(only, field.NodeName(n))
			}
			session, err := a.attach(cmd.Context(), cmd, folder)
			if err != nil {
				return err
			}
			defer session.Close()
			if err := session.SettleLedger(cmd.Context(), only); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Nothing is left to undo.")
			return nil
		}}
}

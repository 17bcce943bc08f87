package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/wording"
)

func (a *app) rolloutsCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "rollouts [FILE] [N [M]]", Short: "List what was carried out; with a number, compare it with what came before, or with another",
		RunE: func(_ *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			var numbers []int
			for _, text := range rest {
				n, err := strconv.Atoi(text)
				if err != nil || n < 1 {
					return fmt.Errorf("%q is no number of a rollout; `lanternfield rollouts` lists them", text)
				}
				numbers = append(numbers, n)
			}
			switch len(numbers) {
			case 0:
				return a.listRollouts(folder)
			case 1:
				return a.compareRollouts(folder, numbers[0]-1, numbers[0])
			case 2:
				return a.compareRollouts(folder, numbers[0], numbers[1])
			}
			return errors.New("two rollouts at most are compared")
		}}
	a.jsonFlag(cmd)
	return cmd
}

func (a *app) rolloutCommand() *cobra.Command {
	var why bool
	cmd := &cobra.Command{Use: "rollout [FILE] [N]", Short: "Tell how a rollout unfolds, or unfolded: what goes on, or ended last, or number N",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			var ask control.RolloutAsked
			if len(rest) > 1 {
				return errors.New("one rollout is told at a time")
			}
			if len(rest) == 1 {
				if ask.Number, err = strconv.Atoi(rest[0]); err != nil || ask.Number < 1 {
					return fmt.Errorf("%q is no number of a rollout; `lanternfield rollouts` lists them", rest[0])
				}
			}
			record, snap, err := control.LookAtRollout(cmd.Context(), folder, ask)
			if errors.Is(err, control.ErrNothing) {
				return fmt.Errorf("nothing has been carried out yet: %s is not deployed", folder.Name())
			}
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(record)
				return nil
			}
			fmt.Fprint(a.out, record.Text())
			if why && record.Active() && snap != nil {
				a.sayReasons(record, snap)
			}
			return nil
		}}
	a.jsonFlag(cmd)
	cmd.Flags().BoolVar(&why, "why", false, "also say of each member that is not done what it waits for, down to the root")
	return cmd
}

// sayReasons says what those wait for that are not done; members of a role that wait for the same are told together.
func (a *app) sayReasons(record *rollout.Record, snap *snapshot.Snapshot) {
	others := map[string]int{}
	key := func(row rollout.Row, lines []string) string {
		return string(row.Role) + strings.TrimPrefix(strings.Join(lines, "\n"), string(row.Member))
	}
	for _, row := range record.Rows {
		if row.Done.IsZero() {
			others[key(row, rollout.Reasons(snap, row.Member))]++
		}
	}
	for _, row := range record.Rows {
		lines := rollout.Reasons(snap, row.Member)
		n := others[key(row, lines)]
		if !row.Done.IsZero() || n == 0 {
			continue
		}
		delete(others, key(row, lines))
		for i, line := range lines {
			if i == 0 && n > 1 {
				line += fmt.Sprintf(", and so does %s of %s", wording.Counted(n-1, "other"), row.Role)
			}
			fmt.Fprintf(a.out, "  %s%s\n", strings.Repeat("  ", i), line)
		}
	}
}

func (a *app) listRollouts(folder control.Folder) error {
	all, err := control.LookRollouts(folder)
	if errors.Is(err, control.ErrNothing) || err == nil && len(all) == 0 {
		return fmt.Errorf("nothing has been carried out yet: %s is not deployed", folder.Name())
	}
	if err != nil {
		return err
	}
	if a.json {
		a.printJSON(all)
		return nil
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "number\twhat\tbegan\ttook\toutcome\tasked for by")
	for _, r := range all {
		took, outcome := "-", cmp.Or(string(r.Outcome), "goes on")
		if r.Paused && r.Active {
			outcome = "paused"
		}
		if !r.Ended.IsZero() {
			took = field.Span(r.Ended.Sub(r.Began))
		}
		if r.Failed != "" {
			outcome += ": " + r.Failed
		}
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", r.Number, r.What, r.Began.Local().Format("2006-01-02 15:04:05"), took, outcome, cmp.Or(r.By, "-"))
	}
	return w.Flush()
}

func (a *app) compareRollouts(folder control.Folder, before, after int) error {
	var differences []review.Difference
	var err error
	if before == 0 {
		return errors.New("before rollout 1 there was nothing to compare it with; name two of them")
	}
	if differences, err = control.CompareRollouts(folder, before, after); err != nil {
		return err
	}
	if a.json {
		a.printJSON(differences)
		return nil
	}
	if len(differences) == 0 {
		fmt.Fprintf(a.out, "Rollouts %d and %d carried out the same draft.\n", before, after)
	}
	for _, d := range differences {
		switch {
		case d.Before == "":
			fmt.Fprintf(a.out, "+ %s: %s\n", d.Path, d.After)
		case d.After == "":
			fmt.Fprintf(a.out, "- %s: %s\n", d.Path, d.Before)
		default:
			fmt.Fprintf(a.out, "~ %s: %s → %s\n", d.Path, d.Before, d.After)
		}
	}
	return nil
}

package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
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

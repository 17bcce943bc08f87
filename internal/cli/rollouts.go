package cli

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

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
	var why, stop, back bool
	var again []string
	var timeout time.Duration
	cmd := &cobra.Command{Use: "rollout [FILE] [N]", Short: "Tell how a rollout unfolds, or unfolded (what goes on, or ended last, or number N); stop it, have steps tried again, go back",
		RunE: func(cmd *cobra.Command, args []string) error {
			if back {
				return a.goBack(cmd, args, timeout)
			}
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if stop || len(again) > 0 {
				return a.steer(cmd, folder, rest, stop, again)
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
	a.actFlags(cmd, &timeout)
	cmd.Flags().BoolVar(&stop, "stop-here", false, "begin nothing new; what has begun goes on, and the next deploy goes on from there")
	cmd.Flags().StringSliceVar(&again, "again", nil, "have these members tried again at once: steps that came to nothing, processes that fail or do not get ready")
	cmd.Flags().BoolVar(&back, "back", false, "deploy the draft before again: the newest other one that was carried out to its end")
	cmd.Flags().BoolVar(&why, "why", false, "also say of each member that is not done what it waits for, down to the root")
	cmd.MarkFlagsMutuallyExclusive("stop-here", "again", "back", "why")
	return cmd
}

// steer stops what is carried out, or has members tried again.
func (a *app) steer(cmd *cobra.Command, folder control.Folder, rest []string, stop bool, again []string) error {
	if err := a.noRest(rest); err != nil {
		return err
	}
	session, snap, err := a.openDeployed(cmd.Context(), cmd, folder, "carry out")
	if err != nil {
		return err
	}
	defer session.Close()
	ask := control.Request{What: control.StopHere, By: by(cmd)}
	if !stop {
		if err := known(snap, again); err != nil {
			return err
		}
		ask.What, ask.Names = control.TryAgain, again
	}
	if err := session.Do(cmd.Context(), ask); err != nil {
		return err
	}
	switch {
	case a.json:
	case stop:
		fmt.Fprintln(a.out, "Nothing new is begun. What has begun goes on; deploy goes on from there, rollout --back deploys the draft before.")
	default:
		fmt.Fprintf(a.out, "%s: tried again.\n", strings.Join(again, ", "))
	}
	return nil
}

// goBack deploys the draft before again. The field file stays as it is.
func (a *app) goBack(cmd *cobra.Command, args []string, timeout time.Duration) error {
	f, folder, rest, err := a.load(args)
	if err = errors.Join(err, a.noRest(rest)); err != nil {
		return err
	}
	draft, number, err := control.DraftBefore(folder)
	if err != nil {
		return err
	}
	if !a.json {
		fmt.Fprintf(a.out, "Back to the draft of rollout %d. The field file stays as it is: what it says otherwise shows as a change again.\n", number)
	}
	f.Field = draft
	return a.deploy(cmd, f, folder, nil, timeout)
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

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/wording"
)

// chosenLines is which lines of members are wanted.
type chosenLines struct {
	since   time.Time
	matches *regexp.Regexp // nil for all
	last    int            // the newest so many; 0 for all that are read
}

func (a *app) linesCommand() *cobra.Command {
	var grep, since string
	var follow bool
	var c chosenLines
	cmd := &cobra.Command{Use: "lines [FILE] [WHAT…]", Short: "Show what members write, merged in time",
		Long: "WHAT is members, roles or nodes; everybody without any. Lines are read by the agents where the members are. A time with ~ is that at which\n" +
			"the line was there at the latest: the program wrote none of its own.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if c.since, err = moment(since, time.Now()); err != nil {
				return err
			}
			if c.last < 0 {
				return fmt.Errorf("--last %d is no number of lines; write 0 for all", c.last)
			}
			if grep != "" {
				if c.matches, err = regexp.Compile(grep); err != nil {
					return fmt.Errorf("--grep %q is no regular expression: %w", grep, err)
				}
			}
			return a.lines(cmd.Context(), folder, rest, c, follow)
		}}
	cmd.Flags().StringVar(&grep, "grep", "", "only lines that match this regular expression")
	cmd.Flags().StringVar(&since, "since", "", "only lines from then on: a time (15:04), or how long ago (10m)")
	cmd.Flags().IntVar(&c.last, "last", 200, "the newest so many lines to begin with; 0 for all that are read, 2 MiB at most")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on until interrupted")
	a.jsonFlag(cmd)
	return cmd
}

// memberLine is a line with whose it is.
type memberLine struct {
	Member field.MemberName `json:"member"`
	logline.Line
}

// linesEvery is how often it is asked whether there are more lines.
const linesEvery = 250 * time.Millisecond

// lines prints what members wrote, and goes on with what they write. It says whose lines could not be read.
func (a *app) lines(ctx context.Context, folder control.Folder, what []string, c chosenLines, follow bool) error {
	reader, names, err := control.ReadLines(folder, what)
	if errors.Is(err, control.ErrNothing) {
		return fmt.Errorf("%s is not deployed, so nobody writes anything", folder.Name())
	}
	if err != nil {
		return err
	}
	after := map[field.MemberName]int64{}
	width := 0
	for _, m := range names {
		after[m] = -1
		width = max(width, len(m))
	}
	first := true
	for {
		got, err := reader.Next(ctx, after)
		if ctx.Err() != nil {
			return errLooked
		}
		if err != nil {
			return err
		}
		for name, log := range got {
			after[name] = log.Next
		}
		last := 0
		if first {
			last = c.last
		}
		a.printLines(c.of(got, last), width, follow)
		if !follow {
			return a.unread(names, got)
		}
		first = false
		select {
		case <-ctx.Done():
			return errLooked
		case <-time.After(linesEvery):
		}
	}
}

// of merges the lines of members in time, those that are wanted, the newest so many.
func (c chosenLines) of(got map[field.MemberName]agentapi.Log, last int) []memberLine {
	all := []memberLine{}
	for _, name := range slices.Sorted(maps.Keys(got)) {
		for _, line := range got[name].Lines {
			if !line.At.Before(c.since) && (c.matches == nil || c.matches.MatchString(line.Text)) {
				all = append(all, memberLine{name, line})
			}
		}
	}
	slices.SortStableFunc(all, func(x, y memberLine) int { return x.At.Compare(y.At) })
	if last > 0 {
		all = all[max(0, len(all)-last):]
	}
	return all
}

func (a *app) printLines(all []memberLine, width int, follow bool) {
	if a.json && !follow {
		a.printJSON(all)
		return
	}
	for _, l := range all {
		if a.json { // a document a line, since it goes on
			data, _ := json.Marshal(l)
			fmt.Fprintf(a.out, "%s\n", data)
			continue
		}
		fmt.Fprintf(a.out, "%s%s  %-*s  %s\n", map[bool]string{true: "~", false: " "}[l.About], l.At.Local().Format("2006-01-02 15:04:05.000"), width, l.Member, l.Text)
	}
}

// unread says whose lines could not be read.
func (a *app) unread(names []field.MemberName, got map[field.MemberName]agentapi.Log) error {
	var missing []field.MemberName
	for _, m := range names {
		if _, ok := got[m]; !ok {
			missing = append(missing, m)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	fmt.Fprintf(a.err, "The lines of %s cannot be read: %s not been placed yet, or the agent there does not answer.\n", wording.Members(missing), wording.Plural(len(missing), "it has", "they have"))
	return errBadAnswer
}

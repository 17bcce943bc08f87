package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/wording"
)

// chosenLines is which lines of members are wanted.
type chosenLines struct {
	since, until time.Time
	filter       journal.Filter // patterns and levels
	last         int            // the newest so many; 0 for all
	count        bool           // how many there are, and not what they say
}

func (a *app) linesCommand() *cobra.Command {
	var grep, since, until, level string
	var follow bool
	var c chosenLines
	cmd := &cobra.Command{Use: "lines [FILE] [WHAT…]", Short: "Show what members write, merged in time",
		Long: "WHAT is members, roles, nodes or zones; everybody without any. Lines are searched by the agents where the members are, as far back as they are kept. A time\n" +
			"with ~ is that at which the line was there at the latest: the program wrote none of its own, or one that is ahead. Stack traces are one line with what goes on with it.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if c.since, err = moment("since", since, time.Now()); err != nil {
				return err
			}
			if c.until, err = moment("until", until, time.Now()); err != nil {
				return err
			}
			if c.last < 0 {
				return fmt.Errorf("--last %d is no number of lines; write 0 for all", c.last)
			}
			if c.filter, err = chosenBy(grep, level); err != nil {
				return err
			}
			if c.count && follow {
				return fmt.Errorf("--count says how many lines there are, and --follow goes on for ever; choose one of them")
			}
			if c.count && !cmd.Flags().Changed("last") {
				c.last = 0
			}
			return a.lines(cmd.Context(), folder, rest, c, follow)
		}}
	cmd.Flags().StringVar(&grep, "grep", "", "only lines that match this regular expression")
	cmd.Flags().StringVar(&level, "level", "", "only lines of that level and worse: warning or error")
	cmd.Flags().StringVar(&since, "since", "", "only lines from then on: a time (15:04), or how long ago (10m)")
	cmd.Flags().StringVar(&until, "until", "", "only lines before then, likewise")
	cmd.Flags().IntVar(&c.last, "last", 200, "the newest so many lines; 0 for all that are kept")
	cmd.Flags().BoolVar(&c.count, "count", false, "how many lines there are: by member and level, and over time")
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on until interrupted")
	a.jsonFlag(cmd)
	return cmd
}

// chosenBy makes a filter out of a regular expression and a level.
func chosenBy(grep, level string) (journal.Filter, error) {
	var f journal.Filter
	if grep != "" {
		if _, err := regexp.Compile(grep); err != nil {
			return f, fmt.Errorf("--grep %q is no regular expression: %w", grep, err)
		}
		f.Words = append(f.Words, journal.Word{Kind: "pattern", Text: "(?-i:" + grep + ")"})
	}
	switch level {
	case "":
	case "warning", "error":
		f.Words = append(f.Words, journal.Word{Kind: "level", Text: level})
	default:
		return f, fmt.Errorf("--level %q is no level; write warning or error", level)
	}
	return f.Ready()
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
	width := 0
	for _, m := range names {
		width = max(width, len(m))
	}
	if follow {
		return a.followLines(ctx, reader, names, width, c)
	}
	all, silent, err := searchLines(ctx, reader, names, c)
	if err != nil {
		return err
	}
	if c.count {
		a.printCounts(all, width)
	} else {
		a.printLines(all, width, false)
	}
	if len(silent) > 0 {
		fmt.Fprintf(a.err, "The lines of %s cannot be read: %s not been placed yet, or the agent there does not answer.\n", wording.Members(silent), wording.Plural(len(silent), "it has", "they have"))
		return errBadAnswer
	}
	return nil
}

// Bounds of what is searched for one command: how long the agents search before they give what they have, and how many lines are held.
const (
	searchFor  = time.Second
	searchHold = 500_000
)

// searchLines has the agents search for the lines that are wanted, of those members, merged in time; and names who cannot be asked.
func searchLines(ctx context.Context, reader *control.LineReader, names []field.MemberName, c chosenLines) (all []memberLine, silent []field.MemberName, err error) {
	ask := control.SearchAsked{Filter: c.filter, Since: c.since, Until: c.until, Most: c.last, Within: searchFor}
	for _, name := range names {
		ask.Filter.Words = append(ask.Filter.Words, journal.Word{Kind: "member", Text: string(name)})
	}
	found := map[field.MemberName]int{}
	all = []memberLine{}
	for len(names) > 0 {
		got, err := reader.Search(ctx, ask)
		if ctx.Err() != nil {
			return nil, nil, errLooked
		}
		if err != nil {
			return nil, nil, err
		}
		for name, lines := range got.Lines {
			found[name] += len(lines)
			for _, l := range lines {
				all = append(all, memberLine{name, l})
			}
		}
		if !ask.On {
			silent = got.Silent
		}
		ask.On, ask.Before = true, got.Left
		maps.DeleteFunc(ask.Before, func(name field.MemberName, _ int64) bool { return c.last > 0 && found[name] >= c.last })
		if len(ask.Before) == 0 || len(all) > searchHold {
			break
		}
	}
	slices.SortStableFunc(all, func(x, y memberLine) int {
		return cmp.Or(x.At.Compare(y.At), cmp.Compare(x.Member, y.Member))
	})
	if c.last > 0 {
		all = all[max(0, len(all)-c.last):]
	}
	return all, silent, nil
}

// followLines prints the newest lines, and goes on with what comes until it is interrupted.
func (a *app) followLines(ctx context.Context, reader *control.LineReader, names []field.MemberName, width int, c chosenLines) error {
	after := map[field.MemberName]int64{}
	for _, m := range names {
		after[m] = -1
	}
	for last := c.last; ; last = 0 {
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
		a.printLines(c.of(got, last), width, true)
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
			if !line.At.Before(c.since) && c.filter.Fits(&journal.Of{Level: line.Level, Member: name, Text: line.Text, More: line.More}) {
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

// counted is how many lines a member wrote.
type counted struct {
	Member   field.MemberName `json:"member"`
	Lines    int              `json:"lines"`
	Warnings int              `json:"warnings"`
	Errors   int              `json:"errors"`
	Last     time.Time        `json:"last"`
}

// countParts is into how many parts the time is divided in which lines are counted.
const countParts = 60

// printCounts says how many lines there are: by member and level, and over time.
func (a *app) printCounts(all []memberLine, width int) {
	by := map[field.MemberName]*counted{}
	var hist *journal.Histogram
	if n := len(all); n > 0 {
		hist = journal.NewHistogram(all[0].At, all[n-1].At, countParts)
	}
	for _, l := range all {
		x := by[l.Member]
		if x == nil {
			x = &counted{Member: l.Member}
			by[l.Member] = x
		}
		x.Lines++
		x.Last = l.At
		switch l.Level {
		case logline.Error:
			x.Errors++
		case logline.Warning:
			x.Warnings++
		}
		hist.Add(l.At, l.Level)
	}
	rows := []counted{}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		rows = append(rows, *by[name])
	}
	if a.json {
		a.printJSON(struct {
			Members []counted          `json:"members"`
			Over    *journal.Histogram `json:"over_time,omitempty"`
		}{rows, hist})
		return
	}
	if hist == nil {
		fmt.Fprintln(a.out, "There is no such line.")
		return
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "member\tlines\twarnings\terrors\tthe last at")
	for _, x := range rows {
		fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%s\n", x.Member, x.Lines, x.Warnings, x.Errors, x.Last.Local().Format("2006-01-02 15:04:05"))
	}
	w.Flush()
	fmt.Fprintf(a.out, "\n%s  %s  %s, %d at the most in one part\n", hist.From.Local().Format("15:04:05"), hist.Line(false), hist.To.Local().Format("15:04:05"), hist.Most())
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
		for _, more := range l.More {
			fmt.Fprintf(a.out, "%*s  %s\n", len(" 2006-01-02 15:04:05.000  ")+width, "", more)
		}
	}
}

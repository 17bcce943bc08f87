package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
)

func (a *app) journalCommand() *cobra.Command {
	var follow bool
	var part control.Range
	var since string
	var why uint64
	cmd := &cobra.Command{Use: "journal [FILE]", Short: "Show what happened",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if part.Since, err = moment("since", since, time.Now()); err != nil {
				return err
			}
			if why > 0 {
				return a.causes(folder, why)
			}
			return a.journal(cmd.Context(), folder, part, follow)
		}}
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on until interrupted")
	cmd.Flags().StringVar(&since, "since", "", "what happened from then on: a time (2026-01-31 15:04, or only 15:04), or how long ago (90m, 3d)")
	cmd.Flags().IntVar(&part.Last, "last", 0, "the newest so many events")
	cmd.Flags().Uint64Var(&part.After, "after", 0, "the events above that number (--json gives the numbers)")
	cmd.Flags().Uint64Var(&why, "why", 0, "the event of that number, and what it follows from, back to where it began")
	a.jsonFlag(cmd)
	return cmd
}

// moment understands a time, or how long ago it was.
func moment(flag, text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if days, err := strconv.Atoi(strings.TrimSuffix(text, "d")); err == nil && strings.HasSuffix(text, "d") && days >= 0 {
		return now.AddDate(0, 0, -days), nil
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return now.Add(-ago), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			y, m, day := now.Local().Date()
			if at = time.Date(y, m, day, at.Hour(), at.Minute(), at.Second(), 0, time.Local); at.After(now) {
				at = at.AddDate(0, 0, -1)
			}
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("--%s %q is no time; write 2026-01-31 15:04, 15:04, or how long ago: 90m, 3d", flag, text)
}

// lateBy is how many events later than others one may be stored and still be shown in its place.
const lateBy = 10_000

// journal prints events in the order in which they happened: reports of agents may be stored late. It holds no more than a few thousand.
func (a *app) journal(ctx context.Context, folder control.Folder, part control.Range, follow bool) error {
	list := 0
	show := func(e control.Entry) error {
		if a.json {
			return a.listed(&list, e)
		}
		if e.Kind != "heard" && e.Kind != "order-taken" {
			printEntry(a.out, e)
		}
		return nil
	}
	if follow {
		show = func(e control.Entry) error {
			if e.Kind != "heard" && e.Kind != "order-taken" {
				printEntry(a.out, e)
			}
			return nil
		}
	}
	for {
		var waiting []control.Entry
		flush := func(n int) error {
			if !follow {
				slices.SortStableFunc(waiting, func(x, y control.Entry) int { return x.At.Compare(y.At) })
			}
			for _, e := range waiting[:n] {
				if err := cmp.Or(ctx.Err(), show(e)); err != nil {
					return err
				}
			}
			waiting = append(waiting[:0], waiting[n:]...)
			return nil
		}
		err := control.EachEntry(folder, part, func(e control.Entry) error {
			part.After = max(part.After, e.Seq)
			waiting = append(waiting, e)
			if len(waiting) >= 2*lateBy {
				return flush(lateBy)
			}
			return nil
		})
		if errors.Is(err, control.ErrNothing) {
			if !follow {
				return fmt.Errorf("nothing has happened yet: %s holds no journal", folder.Dir)
			}
			err = nil
		}
		if err = cmp.Or(err, flush(len(waiting))); err != nil {
			return err
		}
		if !follow {
			if a.json {
				a.listEnd(list)
			}
			return nil
		}
		part.Last, part.Since = 0, time.Time{}
		select {
		case <-ctx.Done():
			return errLooked
		case <-time.After(lookEvery):
		}
	}
}

// listed prints one more thing of a JSON list.
func (a *app) listed(n *int, v any) error {
	if a.fit != nil {
		a.fit.JSON = true
	}
	data, err := json.MarshalIndent(v, "  ", "  ")
	if err != nil {
		return err
	}
	between := ",\n  "
	if *n == 0 {
		between = "[\n  "
	}
	*n++
	_, err = fmt.Fprintf(a.out, "%s%s", between, data)
	return err
}

// listEnd ends it.
func (a *app) listEnd(n int) {
	if n == 0 {
		fmt.Fprintln(a.out, "[]")
		return
	}
	fmt.Fprintln(a.out, "\n]")
}

func printEntry(w io.Writer, e control.Entry) {
	fmt.Fprintf(w, "%s  %s\n", e.At.Local().Format("2006-01-02 15:04:05.000"), e.Text)
}

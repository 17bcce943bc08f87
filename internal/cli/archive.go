package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/archive"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

func (a *app) archiveCommand() *cobra.Command {
	since, until, out := "1h", "", ""
	cmd := &cobra.Command{Use: "archive [FILE] [--since WHEN] [-o OUT]", Short: "Keep a span of the field's life in one file, for a colleague",
		Long: "It holds the topology, what happened, what was measured, and what members wrote. Secrets are left out, and it is checked that none is in it before it is written.\n" +
			"Whoever has it looks at all of it with lanternfield open ARCHIVE, on any machine.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			now := time.Now()
			from, err := moment("since", since, now)
			if err != nil {
				return err
			}
			to, err := moment("until", until, now)
			if err != nil {
				return err
			}
			if to.IsZero() {
				to = now
			}
			if out == "" {
				out = fmt.Sprintf("%s-%s%s", folder.Name(), to.UTC().Format("20060102T150405Z"), archive.Ending)
			}
			if !archive.Is(out) {
				return fmt.Errorf("the name of an archive ends with %s, by which it is known; %q does not", archive.Ending, out)
			}
			done, err := control.Archive(cmd.Context(), folder, from, to, out)
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(done)
				return nil
			}
			fmt.Fprintf(a.out, "%s, %s: %s of %s, %s, and %s of %s.\n", done.File, field.Bytes(done.Bytes), field.Span(done.To.Sub(done.From).Round(time.Second)), done.Field,
				wording.Counted(done.Events, "event"), wording.Counted(done.Lines, "line"), wording.Counted(done.Members, "member"))
			fmt.Fprintf(a.out, "No secret is in it: %s looked for.\n", wording.Plural(done.Secrets, "1 was", fmt.Sprintf("%d were", done.Secrets)))
			if done.Hidden > 0 {
				fmt.Fprintf(a.out, "%s a secret, which was taken out.\n", wording.Plural(done.Hidden, "1 line had", fmt.Sprintf("%d lines had", done.Hidden)))
			}
			if len(done.Silent) > 0 {
				fmt.Fprintf(a.out, "The lines of %s are not in it: their agents do not answer.\n", wording.Members(done.Silent))
			}
			if len(done.Cut) > 0 {
				fmt.Fprintf(a.out, "Of %s only the newest lines are in it.\n", wording.Members(done.Cut))
			}
			return nil
		}}
	cmd.Flags().StringVar(&since, "since", since, "from then on: a time (2026-01-31 15:04, or only 15:04), or how long ago (90m, 3d)")
	cmd.Flags().StringVar(&until, "until", "", "up to then; now when left out")
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; one with field and time in its name when left out")
	a.jsonFlag(cmd)
	return cmd
}

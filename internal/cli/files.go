package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/review"
)

func (a *app) filesCommand() *cobra.Command {
	var against string
	cmd := &cobra.Command{Use: "files [FILE] MEMBER", Short: "Show the config files of a member, before anything runs, and where each value comes from",
		Long: "Shows the command, the environment and the config files that a member would be run with, each line with where its values\n" +
			"come from. --against another member, or `live`, shows the difference instead.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err != nil {
				return err
			}
			if len(rest) != 1 {
				return fmt.Errorf("name one member, such as %s", f.Field.Roles[0].Name.Member(1))
			}
			files, err := control.LookPreview(cmd.Context(), folder, f.Field, field.MemberName(rest[0]))
			if err != nil {
				return err
			}
			other := files.Live
			if against != "" && against != "live" {
				theirs, err := control.LookPreview(cmd.Context(), folder, f.Field, field.MemberName(against))
				if err != nil {
					return err
				}
				other = shown(theirs)
			}
			switch {
			case a.json:
				a.printJSON(files)
			case against == "live" && files.Live == nil:
				return fmt.Errorf("%s does not run, so that there is nothing to compare with", rest[0])
			case against != "":
				a.printDifference(other, shown(files))
			default:
				a.printTexts(shown(files))
			}
			return nil
		}}
	cmd.Flags().StringVar(&against, "against", "", "another member, or live: show the difference")
	a.jsonFlag(cmd)
	return cmd
}

// shown is what the draft makes of a member, or, where it has it no more, what runs.
func shown(f *review.Files) []render.Text {
	if f.Draft != nil {
		return f.Draft
	}
	return f.Live
}

func (a *app) printTexts(texts []render.Text) {
	for i, t := range texts {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintf(a.out, "%s\n", t.Name)
		for _, l := range t.Lines {
			if len(l.From) > 0 {
				fmt.Fprintf(a.out, "  %-60s  # %s\n", l.Text, strings.Join(l.From, "; "))
				continue
			}
			fmt.Fprintf(a.out, "  %s\n", l.Text)
		}
	}
}

func (a *app) printDifference(from, to []render.Text) {
	same := true
	for _, t := range render.Beside(from, to) {
		for _, d := range t.Lines {
			if d.Mark != ' ' {
				same = false
				fmt.Fprintf(a.out, "%s: %c %s\n", t.Name, d.Mark, d.Text)
			}
		}
	}
	if same {
		fmt.Fprintln(a.out, "There is no difference.")
	}
}

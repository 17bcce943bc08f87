package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/draw"
)

func (a *app) exportCommand() *cobra.Command {
	var out string
	var night bool
	cmd := &cobra.Command{Use: "export [FILE] board -o OUT.svg|OUT.pdf", Short: "Write a drawing of the field for a report",
		Long: "Writes the board as it is now, or, when nothing has been deployed, as the draft would place it.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err != nil {
				return err
			}
			switch {
			case len(rest) == 0:
				return errors.New("what is to be drawn? There is `board`")
			case rest[0] != "board" || len(rest) > 1:
				return fmt.Errorf("there is no drawing %q; there is `board`", rest[len(rest)-1])
			case out == "":
				return errors.New("where to? Say -o OUT.svg or -o OUT.pdf")
			}
			snap, err := control.Look(cmd.Context(), folder)
			if errors.Is(err, control.ErrNothing) || err == nil && (snap.State == engine.StateDraft || snap.State == engine.StateRetired) {
				snap, err = draw.Draft(f.Field), nil
			}
			if err != nil {
				return err
			}
			theme := draw.Light
			if night {
				theme = draw.Night
			}
			if err := draw.Save(draw.Board(snap, theme), out); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The board of %s is in %s.\n", snap.Field, out)
			return nil
		}}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; its ending says which form, .svg or .pdf")
	cmd.Flags().BoolVar(&night, "dark", false, "in the colours of a dark screen instead of those of paper")
	return cmd
}

package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"lanternfield/internal/fieldfile"
)

func (a *app) openCommand() *cobra.Command {
	var ascii, fresh bool
	cmd := &cobra.Command{Use: "open [FILE]", Short: "Open the full-screen application",
		RunE: func(cmd *cobra.Command, args []string) error {
			file, rest, err := a.pickFile(args)
			if errors.Is(err, errNoFile) && isTerminal(a.in) { // the first time, in a folder of their own
				if file, err = a.screens.Start(cmd.Context(), ".", ascii); err == nil && file == "" {
					return nil
				}
				fresh = true
			}
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			return a.open(cmd.Context(), file, ascii, fresh)
		}}
	cmd.Flags().BoolVar(&ascii, "ascii", false, "draw with ASCII only")
	return cmd
}

// open opens the application; fresh says that the file has just been made.
func (a *app) open(ctx context.Context, file string, ascii, fresh bool) error {
	f, err := fieldfile.Load(file, a.env)
	if err != nil {
		return err
	}
	folder, err := a.folderOf(f.Field.Name)
	if err != nil {
		return err
	}
	if !isTerminal(a.in) {
		return errors.New("the full-screen application needs a terminal; `lanternfield status` prints the field")
	}
	return a.screens.Open(ctx, file, a.env, folder, ascii, fresh)
}

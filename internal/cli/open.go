package cli

import (
	"context"
	"errors"
	"os"

	"github.com/spf13/cobra"

	"lanternfield/internal/archive"
	"lanternfield/internal/fieldfile"
)

func (a *app) openCommand() *cobra.Command {
	var ascii, fresh bool
	cmd := &cobra.Command{Use: "open [FILE | ARCHIVE]", Short: "Open the full-screen application",
		Long: "On a field file it shows the field as it is. On an archive (see lanternfield archive) it shows that span of a field's life: nothing is changed, no field is needed.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 && archive.Is(args[0]) {
				return a.openArchive(cmd.Context(), args[0], ascii)
			}
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

// openArchive opens the application on an archive.
func (a *app) openArchive(ctx context.Context, name string, ascii bool) error {
	if _, err := os.Stat(name); err != nil {
		return err
	}
	if !isTerminal(a.in) {
		return errors.New("the full-screen application needs a terminal")
	}
	return a.screens.Archive(ctx, name, ascii)
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

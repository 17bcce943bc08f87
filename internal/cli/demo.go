package cli

import (
	"errors"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"lanternfield/examples"
)

func (a *app) demoCommand() *cobra.Command {
	var ascii, run bool
	cmd := &cobra.Command{Use: "demo", Short: "Open the demo field; with --run, carry it through a whole life without a screen", Args: cobra.NoArgs,
		Long: "demo opens the demo field in the full-screen application. It writes the field file to the state folder, so that\n" +
			"it can be edited; one that is there already is left as it is.\n\n" +
			"With --run it needs no screen: it deploys the field, writes and reads back, scales, kills a leader and an agent, and\n" +
			"takes everything down again, with the time of each step. It uses a temporary folder unless a state folder is named.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if run {
				return a.run(cmd)
			}
			if a.json {
				return errors.New("--json goes with --run: a screen prints no document")
			}
			file, err := a.demoFile()
			if err != nil {
				return err
			}
			return a.open(cmd.Context(), file, ascii)
		}}
	cmd.Flags().BoolVar(&ascii, "ascii", false, "draw with ASCII only")
	cmd.Flags().BoolVar(&run, "run", false, "carry the demo out without a screen, and report")
	a.jsonFlag(cmd)
	return cmd
}

// demoFile puts the demo's field file where it can be edited.
func (a *app) demoFile() (string, error) {
	folder, err := a.folderOf("demo")
	if err != nil {
		return "", err
	}
	dir := filepath.Join(filepath.Dir(folder.Dir), "files")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", errors.New("the demo's field file cannot be written: " + err.Error())
	}
	file := filepath.Join(dir, examples.Demo)
	if _, err := os.Stat(file); err == nil {
		return file, nil
	}
	data, err := examples.Files.ReadFile(examples.Demo)
	if err != nil {
		return "", err
	}
	return file, os.WriteFile(file, data, 0o600)
}

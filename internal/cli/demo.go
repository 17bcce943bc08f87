package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/examples"
	"lanternfield/internal/core/field"
	"lanternfield/internal/demo/tour"
	"lanternfield/internal/keyring"
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
			return a.open(cmd.Context(), file, ascii, false)
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

// errTakenDown says that an interrupted run has left nothing behind.
var errTakenDown = errors.New("interrupted; what was deployed has been taken down again")

// run is `demo --run`.
func (a *app) run(cmd *cobra.Command) error {
	if a.state == "" && os.Getenv("LANTERNFIELD_STATE") == "" {
		dir, err := os.MkdirTemp("", "lanternfield-demo-")
		if err != nil {
			return fmt.Errorf("a folder for the run cannot be made: %w", err)
		}
		a.state = dir
		defer os.RemoveAll(dir)
		if os.Getenv(keyring.OwnerVariable) == "" { // what it makes goes with it
			if err := os.Setenv(keyring.OwnerVariable, filepath.Join(dir, "owner.key")); err != nil {
				return err
			}
		}
	}
	folder, err := a.folderOf("saltmarsh-ferries")
	if err != nil {
		return err
	}
	began := time.Now()
	steps, ok, err := tour.Run(cmd.Context(), folder, func(s tour.Step) {
		if a.json {
			return
		}
		mark := map[bool]string{true: "done", false: "FAILED"}[s.OK]
		fmt.Fprintf(a.out, "%8s  %-6s %s: %s\n", field.Span(time.Duration(s.Seconds*float64(time.Second))), mark, s.Name, s.Detail)
	})
	if err != nil {
		return err
	}
	if a.json {
		a.printJSON(map[string]any{"steps": steps, "ok": ok})
	} else {
		a.printSteps(steps, time.Since(began), ok)
	}
	switch {
	case cmd.Context().Err() != nil:
		return errTakenDown
	case !ok:
		return errBadAnswer
	}
	return nil
}

func (a *app) printSteps(steps []tour.Step, took time.Duration, ok bool) {
	fmt.Fprintln(a.out)
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	for _, s := range steps {
		fmt.Fprintf(w, "%.3f s\t  %s\n", s.Seconds, s.Name)
	}
	fmt.Fprintf(w, "%.3f s\t  in all\n", took.Seconds())
	w.Flush()
	if ok {
		fmt.Fprintln(a.out, "Everything went as it should; nothing is left.")
	} else {
		fmt.Fprintln(a.out, "Something did not go as it should; see above.")
	}
}

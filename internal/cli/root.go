// Package cli is the command line: each command turns arguments into calls of package control and words the answers.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"lanternfield/internal/archive"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plain"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/fieldfile"
)

// errLooked ends a command that only looks, for as long as nobody interrupts it.
var errLooked = errors.New("interrupted")

// Exit statuses that every command keeps to.
const (
	exitDone        = 0
	exitBadAnswer   = 1 // done, but the answer is bad
	exitCannot      = 2 // could not be done
	exitInterrupted = 130
)

// badAnswer ends a command that did its work and has nothing good to tell; it has been said already.
var errBadAnswer = errors.New("the answer is bad")

// Screens are the full-screen parts. They are handed in by cmd/lanternfield, so that commands need no screen.
type Screens struct {
	Open func(ctx context.Context, file, env string, folder control.Folder, ascii, fresh bool) error // the application; fresh says that the file has just been made
	// Archive is the application on an archive, which is only looked at.
	Archive func(ctx context.Context, name string, ascii bool) error
	Start   func(ctx context.Context, dir string, ascii bool) (file string, err error) // the guided start
}

// app is what all commands share.
type app struct {
	out, err io.Writer
	fit      *plain.Writer // what out writes through
	screen   *os.File      // where that ends, where it is a file
	// errScreen is where errors end, where that is a file.
	errScreen *os.File
	showing   bool // progress stands on it
	in        *os.File
	state     string
	name      string // of the field, instead of a file
	env       string // whose choices the file's variables take
	json      bool
	yes       bool
	takeOver  string // the field whose log is gone on with although it lacks something
	anyway    bool   // a deploy goes on although machines are not ready
	logLevel  string
	logFormat string
	screens   Screens
}

var errNoFile = errors.New("no field file is named, and this folder has none; name one: NAME.field.yaml, or make one with `lanternfield new`")

// Run carries out a command line and gives the exit status.
func Run(ctx context.Context, args []string, in *os.File, out, errs io.Writer, screens Screens) int {
	// All that is printed goes through here: much of it was written by programs, files and hosts that are not ours.
	fit := &plain.Writer{To: out}
	a := &app{out: fit, fit: fit, err: &plain.Writer{To: errs}, in: in, screens: screens}
	if file, ok := out.(*os.File); ok {
		a.screen = file
	}
	if file, ok := errs.(*os.File); ok {
		a.errScreen = file
	}
	errs = a.err
	control.Release.Version, _ = release()
	if name, err := os.Executable(); err == nil {
		if info, err := os.Stat(name); err == nil {
			control.Release.Built = info.ModTime().UTC()
		}
	}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(a.out)
	root.SetErr(a.err)
	err := root.ExecuteContext(ctx)
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, new(exitStatus)):
		var status exitStatus
		errors.As(err, &status)
		return int(status)
	case errors.Is(err, errBadAnswer):
		return exitBadAnswer
	case errors.Is(err, errTakenDown):
		fmt.Fprintln(errs, "Interrupted. What was deployed has been taken down again.")
		return exitInterrupted
	case errors.Is(err, errLooked):
		return exitInterrupted
	case ctx.Err() != nil:
		fmt.Fprintln(errs, "Interrupted. What was ordered stays ordered and is carried on without this command; `lanternfield status` tells how far it is, `lanternfield pause` holds it.")
		return exitInterrupted
	}
	a.fail(err)
	return exitCannot
}

// fail prints an error, as JSON where that is wanted.
func (a *app) fail(err error) {
	if a.json {
		doc := map[string]any{"error": err.Error()}
		var errs fieldfile.Errors
		if errors.As(err, &errs) {
			doc["errors"] = errs
		}
		a.printJSON(doc)
		return
	}
	fmt.Fprintln(a.err, err)
}

func (a *app) printJSON(v any) {
	if a.fit != nil {
		a.fit.JSON = true
	}
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	_ = enc.Encode(v)
}

func (a *app) root() *cobra.Command {
	open := a.openCommand()
	root := &cobra.Command{
		Use:   "lanternfield [FILE]",
		Short: "Define a distributed system, deploy it in order, and watch it converge",
		Long: "Lantern Field defines the topology of a distributed system, maps its roles onto nodes, deploys them in order,\n" +
			"scales membership and watches the cluster converge. Without a command it opens the full-screen application.",
		Args:          cobra.ArbitraryArgs,
		SilenceUsage:  true,
		SilenceErrors: true,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 && !isFile(args[0]) {
				return fmt.Errorf("there is no command %q; `lanternfield --help` lists them, and a field file is named NAME.field.yaml", args[0])
			}
			return open.RunE(cmd, args)
		},
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.logging() },
	}
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		if i := strings.LastIndex(err.Error(), " in -"); i >= 0 && cmd.Name() == "scale" {
			if number := err.Error()[i+4:]; strings.Trim(number, "-0123456789") == "" {
				return notANumber(number)
			}
		}
		return fmt.Errorf("%w; `%s --help` tells what it takes", err, cmd.CommandPath())
	})
	flags := root.PersistentFlags()
	flags.StringVar(&a.state, "state", "", "the state folder (else LANTERNFIELD_STATE, else the XDG state folder)")
	flags.StringVar(&a.name, "field", "", "the name of a deployed field, where its file is not at hand")
	flags.StringVar(&a.env, "env", "", "an environment: variables take the values of NAME.ENV.choices.yaml, and the field is one of its own")
	flags.StringVar(&a.logLevel, "log-level", "error", "debug, info, warn or error")
	flags.StringVar(&a.logFormat, "log-format", "text", "text, or json: an object a line")
	root.AddCommand(open, a.newCommand(), a.patternCommand(), a.demoCommand(), a.checkCommand(), a.reviewCommand(), a.filesCommand(), a.exportCommand(), a.importCommand(), a.deployCommand(), a.statusCommand(), a.scaleCommand(),
		a.lifeCommand("stop", "Stop members, dependants first; membership and data are kept"),
		a.lifeCommand("start", "Start stopped members again, in the order of deployment"),
		a.lifeCommand("restart", "Restart members one at a time, the leader last"),
		a.pauseCommand(), a.resumeCommand(), a.rolloutCommand(), a.rolloutsCommand(), a.retireCommand(), a.journalCommand(), a.linesCommand(), a.proveCommand(), a.accessCommand(), a.trustCommand(), a.nodesCommand(), a.inviteCommand(), a.joinCommand(), a.ledgerCommand(), a.flowsCommand(), a.backupCommand(), a.archiveCommand(), a.restoreCommand(), a.runCommand(), a.shellCommand(), a.tunnelCommand(), a.copyCommand(), a.serveCommand(), a.keepCommand(), a.agentCommand(), a.keepLogsCommand(), a.playCommand(), a.kitCommand(), a.schemaCommand(), a.versionCommand())
	return root
}

func (a *app) logging() error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.logLevel)); err != nil {
		return fmt.Errorf("--log-level %q is unknown; it is debug, info, warn or error", a.logLevel)
	}
	options := &slog.HandlerOptions{Level: level}
	switch a.logFormat {
	case "text":
		slog.SetDefault(slog.New(slog.NewTextHandler(a.err, options)))
	case "json":
		slog.SetDefault(slog.New(slog.NewJSONHandler(a.err, options)))
	default:
		return fmt.Errorf("--log-format %q is unknown; it is text or json", a.logFormat)
	}
	return nil
}

func (a *app) jsonFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&a.json, "json", false, "print one JSON document")
}

func (a *app) yesFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVarP(&a.yes, "yes", "y", false, "do not ask")
}

func isFile(arg string) bool { return strings.HasSuffix(arg, ".field.yaml") }

// pickFile takes the field file out of the arguments, wherever it stands, or finds the only one in this folder.
func (a *app) pickFile(args []string) (file string, rest []string, err error) {
	for _, arg := range args {
		switch {
		case archive.Is(arg):
			return "", nil, fmt.Errorf("%s is an archive, which is looked at with `lanternfield open %s`: journal, lines and charts are in its views", arg, arg)
		case !isFile(arg):
			rest = append(rest, arg)
		case file != "":
			return "", nil, fmt.Errorf("two field files are named, %s and %s; name one", file, arg)
		default:
			file = arg
		}
	}
	if file != "" || a.name != "" {
		return file, rest, nil
	}
	found, err := filepath.Glob("*.field.yaml")
	if err != nil {
		return "", nil, err
	}
	switch len(found) {
	case 1:
		return found[0], rest, nil
	case 0:
		return "", rest, errNoFile
	}
	shown := strings.Join(found[:min(5, len(found))], ", ")
	if len(found) > 5 {
		shown += " …"
	}
	return "", nil, fmt.Errorf("this folder has %d field files (%s); name one", len(found), shown)
}

// folder finds the state folder of the field that the arguments mean.
func (a *app) folder(args []string) (control.Folder, string, []string, error) {
	file, rest, err := a.pickFile(args)
	if err != nil {
		return control.Folder{}, "", nil, err
	}
	name := a.name
	if name == "" {
		if name, err = fieldfile.NameIn(file, a.env); err != nil {
			return control.Folder{}, "", nil, err
		}
	}
	f, err := a.folderOf(name)
	return f, file, rest, err
}

func (a *app) folderOf(name string) (control.Folder, error) {
	if !field.NamePattern.MatchString(name) {
		return control.Folder{}, fmt.Errorf("%q cannot be a field's name; %s", name, field.NameRule)
	}
	root, err := control.Root(a.state)
	folder := control.FolderOf(root, name)
	folder.Progress = a.progress
	if isTerminal(a.in) {
		folder.Passphrase = a.hidden
	}
	return folder, err
}

// draft is a field file with what it comes to.
type draft struct {
	*fieldfile.File
	Field *field.Field // as it would be deployed afresh: with the nodes that its sets come to, and what other fields keep of them
}

// drafted works out what a file comes to.
func drafted(f *fieldfile.File, folder control.Folder) draft {
	return draft{f, resolve.Draft(f.Field, plan.Live{}, folder.Around)}
}

// load reads the field file that the arguments mean.
func (a *app) load(args []string) (draft, control.Folder, []string, error) {
	file, rest, err := a.pickFile(args)
	if err == nil && file == "" {
		err = errors.New("this needs the field file, not only the field's name")
	}
	if err != nil {
		return draft{}, control.Folder{}, nil, err
	}
	f, err := fieldfile.Load(file, a.env)
	if err != nil {
		return draft{}, control.Folder{}, nil, err
	}
	folder, err := a.folderOf(f.Field.Name)
	return drafted(f, folder), folder, rest, err
}

func (a *app) noRest(rest []string) error {
	if len(rest) > 0 && (strings.HasSuffix(rest[0], ".yaml") || strings.HasSuffix(rest[0], ".yml")) {
		return fmt.Errorf("%q is no field file: a field file is named NAME.field.yaml", rest[0])
	}
	if len(rest) > 0 {
		return fmt.Errorf("%q has no meaning here; a field file is named NAME.field.yaml", rest[0])
	}
	return nil
}

// by says who acts, for the journal.
func by(cmd *cobra.Command) string { return "lanternfield " + cmd.Name() }

// who says who is attached to a keeper.
func who(cmd *cobra.Command) string { return fmt.Sprintf("%s, process %d", by(cmd), os.Getpid()) }

// progress shows how far the reading of a long log has come, where somebody sees it.
func (a *app) progress(done, of uint64) {
	if of < longLog || a.errScreen == nil || !isTerminal(a.errScreen) {
		return
	}
	a.showing = true
	fmt.Fprintf(a.errScreen, "\rreading the log for the first time: %d %% of %d events", done*100/of, of)
}

// longLog is how many events take long enough to read for that to be said.
const longLog = 50_000

func (a *app) progressEnds() {
	if a.showing {
		a.showing = false
		fmt.Fprint(a.errScreen, "\r\x1b[K")
	}
}

// release is what this program is.
func release() (version, goVersion string) {
	version = "development"
	if info, ok := debug.ReadBuildInfo(); ok {
		goVersion = info.GoVersion
		if v := info.Main.Version; v != "" && v != "(devel)" {
			version = v
		}
	}
	return version, goVersion
}

func (a *app) versionCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "version", Short: "Print the version", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		version, goVersion := release()
		if a.json {
			a.printJSON(map[string]any{"version": version, "go": goVersion, "format": 1})
			return nil
		}
		fmt.Fprintf(a.out, "Lantern Field %s (%s), field file format 1\n", version, goVersion)
		return nil
	}}
	a.jsonFlag(cmd)
	return cmd
}

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{Use: "schema [kit]", Short: "Print the JSON Schema of the field file, or of a kit", ValidArgs: []string{"kit"},
		RunE: func(_ *cobra.Command, args []string) error {
			schema := fieldfile.Schema
			switch {
			case len(args) == 1 && args[0] == "kit":
				schema = fieldfile.KitSchema()
			case len(args) > 0:
				return fmt.Errorf("%q has no meaning here; write `schema` for that of the field file, or `schema kit`", strings.Join(args, " "))
			}
			_, err := a.out.Write(schema)
			return err
		}}
}

package cli

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/draw"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/graph"
	"lanternfield/internal/tosca"
)

// exports are what can be written, each with the endings that a file of it may have.
var exports = []struct {
	what, about string
	endings     []string
}{
	{"board", "the nodes and what stands on them", []string{".svg", ".pdf"}},
	{"order", "the roles in the order of deployment, with their gates", []string{".svg", ".pdf"}},
	{"survives", "what is left of each role when a zone or a node fails", []string{".svg", ".pdf"}},
	{"rollout", "what is carried out, or was last, over time; --rollout N another one", []string{".svg", ".pdf"}},
	{"health", "what was measured over time, of a role or of the whole field: --role, --last 1h", []string{".svg", ".pdf"}},
	{"topology", "roles, nodes and what joins them, for programs that draw graphs", []string{".dot", ".graphml"}},
	{"tosca", "a service template of TOSCA, Simple Profile in YAML 1.3", []string{".yaml", ".yml"}},
}

func (a *app) exportCommand() *cobra.Command {
	var out string
	var night bool
	var number int
	var role string
	var last time.Duration
	var at string
	long := "Writes one of these:\n"
	var names []string
	for _, e := range exports {
		names = append(names, e.what)
		long += fmt.Sprintf("  %-10s %s (%s)\n", e.what, e.about, strings.Join(e.endings, ", "))
	}
	long += "Drawings show the field as it is now, or as it was (--at), or, when nothing has been deployed, as the draft would place it; the others show the draft."
	cmd := &cobra.Command{Use: "export [FILE] WHAT -o OUT", Short: "Write a drawing of the field for a report, or its topology for other programs", Long: long,
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err != nil {
				return err
			}
			if len(rest) != 1 {
				return fmt.Errorf("what is to be written? There is %s", strings.Join(names, ", "))
			}
			i := slices.Index(names, rest[0])
			if i < 0 {
				hint := "there is " + strings.Join(names, ", ")
				if near := field.Nearest(rest[0], names); near != "" {
					hint = fmt.Sprintf("did you mean %s?", near)
				}
				return fmt.Errorf("there is no export %q; %s", rest[0], hint)
			}
			ending := strings.ToLower(filepath.Ext(out))
			if !slices.Contains(exports[i].endings, ending) {
				if out != "" {
					name := strings.TrimSuffix(out, filepath.Ext(out))
					return fmt.Errorf("%s cannot be written as %s: %s is written to -o %s%s", out, cmp.Or(strings.TrimPrefix(ending, "."), "a file without an ending"), rest[0],
						name, strings.Join(exports[i].endings, " or -o "+name))
				}
				return fmt.Errorf("where to? Say -o OUT%s", strings.Join(exports[i].endings, " or -o OUT"))
			}
			switch rest[0] {
			case "topology":
				write := graph.DOT
				if ending == ".graphml" {
					write = graph.GraphML
				}
				var b bytes.Buffer
				if err := write(&b, f.Field); err != nil {
					return err
				}
				err = os.WriteFile(out, b.Bytes(), 0o644)
			case "rollout":
				err = a.exportRollout(cmd, f.Field.Name, folder, number, out, night)
			case "health":
				err = a.exportHealth(cmd, f, folder, field.RoleName(role), last, out, night)
			case "tosca":
				err = a.exportTOSCA(f, out)
			default:
				err = a.exportDrawing(cmd, f, folder, rest[0], at, out, night)
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The %s of %s is in %s.\n", cmp.Or(map[string]string{"tosca": "service template", "survives": "table of losses"}[rest[0]], rest[0]), f.Field.Name, out)
			return nil
		}}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; its ending says which form")
	cmd.Flags().StringVar(&role, "role", "", "the role whose health is drawn; the whole field when left out")
	cmd.Flags().DurationVar(&last, "last", time.Hour, "how much of the time until now")
	cmd.Flags().StringVar(&at, "at", "", "the board, the order or what survives as it was then: a time (15:04), or how long ago (10m)")
	cmd.Flags().IntVar(&number, "rollout", 0, "the number of the rollout that is drawn")
	cmd.Flags().BoolVar(&night, "dark", false, "in the colours of a dark screen instead of those of paper")
	return cmd
}

func (a *app) exportDrawing(cmd *cobra.Command, f draft, folder control.Folder, what, at, out string, night bool) error {
	then, err := moment("at", at, time.Now())
	if err != nil {
		return err
	}
	var snap *snapshot.Snapshot
	if then.IsZero() {
		snap, err = control.Look(cmd.Context(), folder)
	} else if snap, err = control.LookPast(folder, then); err == nil && snap.State == snapshot.Draft {
		return fmt.Errorf("nothing was deployed yet at %s", then.Local().Format("2006-01-02 15:04:05"))
	}
	if errors.Is(err, control.ErrNothing) || err == nil && (snap.State == snapshot.Draft || snap.State == snapshot.Retired) {
		snap, err = draw.Draft(f.Field), nil
	}
	if err != nil {
		return err
	}
	theme := draw.Light
	if night {
		theme = draw.Night
	}
	return draw.Save(draw.Of(what, snap, theme), out)
}

func (a *app) exportRollout(cmd *cobra.Command, name string, folder control.Folder, number int, out string, night bool) error {
	record, _, err := control.LookAtRollout(cmd.Context(), folder, control.RolloutAsked{Number: number})
	if errors.Is(err, control.ErrNothing) {
		return fmt.Errorf("nothing has been carried out yet: %s is not deployed", name)
	}
	if err != nil {
		return err
	}
	theme := draw.Light
	if night {
		theme = draw.Night
	}
	return draw.Save(draw.Rollout(name, record, theme), out)
}

// parts is in how many parts the time of a printed chart is told.
const parts = 350

func (a *app) exportHealth(cmd *cobra.Command, f draft, folder control.Folder, role field.RoleName, last time.Duration, out string, night bool) error {
	var known []string
	for i := range f.Field.Roles {
		known = append(known, string(f.Field.Roles[i].Name))
	}
	if role != "" && f.Field.Role(role) == nil {
		return fmt.Errorf("there is no role %q; there is %s, and, without --role, the whole field", role, strings.Join(known, ", "))
	}
	now := time.Now().UTC()
	told, err := control.LookHealth(cmd.Context(), folder, control.HealthAsked{Role: role, From: now.Add(-last), To: now, Parts: parts})
	if err != nil {
		return err
	}
	if len(told.Charts) == 0 {
		return fmt.Errorf("nothing was measured of %s in the last %s", cmp.Or(string(role), f.Field.Name), field.Span(last))
	}
	theme := draw.Light
	if night {
		theme = draw.Night
	}
	return draw.Save(draw.Health(f.Field.Name, told, theme), out)
}

func (a *app) exportTOSCA(f draft, out string) error {
	data, lost, err := tosca.Export(f.Field)
	if err != nil {
		return err
	}
	if err := os.WriteFile(out, data, 0o644); err != nil {
		return err
	}
	a.printLost("The template has no words for these, and they are not in it", lost)
	return nil
}

func (a *app) printLost(head string, lost []string) {
	if len(lost) == 0 {
		return
	}
	fmt.Fprintf(a.err, "%s:\n", head)
	for _, l := range lost {
		fmt.Fprintf(a.err, "  %s\n", l)
	}
}

func (a *app) importCommand() *cobra.Command {
	var out string
	cmd := &cobra.Command{Use: "import TEMPLATE.yaml", Short: "Make a field file out of a TOSCA service template", Args: cobra.ExactArgs(1),
		Long: "Reads a service template of TOSCA, Simple Profile in YAML, and writes a field file. What could not be carried over is listed.",
		RunE: func(_ *cobra.Command, args []string) error {
			info, err := os.Stat(args[0])
			if err != nil {
				return fmt.Errorf("%s cannot be read: %w", args[0], err)
			}
			if info.Size() > 64<<20 {
				return fmt.Errorf("%s has %d MiB, which is no service template", args[0], info.Size()>>20)
			}
			data, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("%s cannot be read: %w", args[0], err)
			}
			i, err := tosca.Import(args[0], data)
			if err != nil {
				return err
			}
			if out == "" {
				out = i.File.Field.Name + ".field.yaml"
			}
			if err := fieldfile.Create(out, i.Data); err != nil {
				return err
			}
			if a.json {
				a.printJSON(map[string]any{"file": out, "lost": i.Lost})
				return nil
			}
			a.printLost("These could not be carried over", i.Lost)
			fmt.Fprintf(a.out, "%s is written; `lanternfield check %s` says what is wrong or risky in it.\n", out, out)
			return nil
		}}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the field file to write (else the template's name)")
	a.jsonFlag(cmd)
	return cmd
}

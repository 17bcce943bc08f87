package cli

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"lanternfield/internal/core/field"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/kit"
)

func (a *app) kitCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "kit", Short: "What can be deployed: list kits, show one, check and begin one's own",
		Long: "A kit is what must be known to run one program as a role. Kits are looked for in `kits` beside the field file (in this folder, where\n" +
			"none is named), in your own folder, and in the program; the nearest of a name is taken. docs/kits.md says how one is written.",
		Args: cobra.ArbitraryArgs, RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return cmd.Help()
			}
			words := []string{"list", "show", "check", "new"}
			hint := "there is list, show, check and new"
			if near := field.Nearest(args[0], words); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			return fmt.Errorf("there is no `kit %s`; %s", args[0], hint)
		}}
	cmd.AddCommand(a.kitListCommand(), a.kitShowCommand(), a.kitCheckCommand(), a.kitNewCommand())
	return cmd
}

// library is that of the field file among the arguments, or of one in this folder.
func (a *app) library(args []string) (kit.Library, []string) {
	for i, arg := range args {
		if isFile(arg) {
			return kit.Of(arg), slices.Delete(slices.Clone(args), i, i+1)
		}
	}
	return kit.Of("here.field.yaml"), args
}

func (a *app) kitListCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "list [FILE]", Short: "List the kits, and where each comes from", RunE: func(_ *cobra.Command, args []string) error {
		library, rest := a.library(args)
		if err := a.noRest(rest); err != nil {
			return err
		}
		type listed struct {
			Name   string       `json:"name"`
			Kind   string       `json:"kind,omitempty"`
			About  string       `json:"about,omitempty"`
			Source kit.Source   `json:"source"`
			Folder string       `json:"folder,omitempty"`
			Hides  []kit.Source `json:"hides,omitempty"`
			Error  string       `json:"error,omitempty"`
		}
		all := []listed{}
		for _, k := range library.All() {
			info, err := k.Info()
			l := listed{Name: k.Name, Kind: cmp.Or(info.Kind, string(field.Worker)), About: info.About, Source: k.Source, Folder: k.Folder, Hides: k.Hides}
			if err != nil {
				l.Error = err.Error()
			}
			all = append(all, l)
		}
		if a.json {
			a.printJSON(all)
			return nil
		}
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		for _, l := range all {
			from := string(l.Source)
			if len(l.Hides) > 0 {
				from += ", hides one that is " + string(l.Hides[0])
			}
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", l.Name, l.Kind, from, cmp.Or(l.Error, l.About))
		}
		return w.Flush()
	}}
	a.jsonFlag(cmd)
	return cmd
}

func (a *app) kitShowCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "show [FILE] NAME", Short: "Print a kit: what it sets, calls and provides, and its kit.yaml", RunE: func(_ *cobra.Command, args []string) error {
		library, rest := a.library(args)
		if len(rest) != 1 {
			return errors.New("name one kit: lanternfield kit show NAME")
		}
		k, ok := library.Find(rest[0])
		if !ok {
			return noKit(library, rest[0])
		}
		data, err := k.Content()
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "# %s: %s", k.Name, k.Source)
		if k.Folder != "" {
			fmt.Fprintf(a.out, ", in %s", k.Folder)
		}
		if len(k.Hides) > 0 {
			fmt.Fprintf(a.out, "; hides one that is %s", k.Hides[0])
		}
		_, err = fmt.Fprintf(a.out, "\n%s", data)
		return err
	}}
	return cmd
}

func noKit(library kit.Library, name string) error {
	names := library.Names()
	hint := "there is " + strings.Join(names, ", ")
	if near := field.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	return fmt.Errorf("there is no kit %q; %s", name, hint)
}

func (a *app) kitCheckCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "check FOLDER", Short: "Check a kit without running anything: its words, expressions and templates",
		Long: "It reads FOLDER/kit.yaml, checks it against its schema (lanternfield schema kit), compiles every expression, and executes every\n" +
			"template for members that found their cluster, that join, and that are started again. FOLDER may be the name of a kit, too.",
		RunE: func(_ *cobra.Command, args []string) error {
			library, rest := a.library(args)
			if len(rest) != 1 {
				return errors.New("name one folder: lanternfield kit check FOLDER")
			}
			k, ok := library.Find(rest[0])
			if !ok || strings.ContainsRune(rest[0], filepath.Separator) {
				var err error
				if k, err = kit.In(rest[0]); err != nil {
					return err
				}
			}
			tried, err := fieldfile.CheckKit(k, library)
			var wrong fieldfile.Errors
			if err != nil && !errors.As(err, &wrong) {
				return err
			}
			if a.json {
				a.printJSON(map[string]any{"kit": k.Name, "errors": append(fieldfile.Errors{}, wrong...), "ok": err == nil})
			} else if err != nil {
				fmt.Fprintln(a.out, wrong)
			} else {
				fmt.Fprintf(a.out, "%s: nothing is wrong. %d members were tried, each as one that founds, that is started again, and that joins.\n", k.Name, tried.Members)
				for _, call := range slices.Sorted(maps.Keys(tried.Beside)) {
					fmt.Fprintf(a.out, "  as its %s there was %s\n", call, tried.Beside[call])
				}
				for _, w := range tried.Warnings {
					fmt.Fprintf(a.out, "  in the field it was tried in: %s\n", w)
				}
			}
			if err != nil {
				return errBadAnswer
			}
			return nil
		}}
	a.jsonFlag(cmd)
	return cmd
}

func (a *app) kitNewCommand() *cobra.Command {
	var own bool
	cmd := &cobra.Command{Use: "new NAME", Short: "Write a kit to begin with, into kits/NAME", Args: cobra.ExactArgs(1), RunE: func(_ *cobra.Command, args []string) error {
		below := "kits"
		if own {
			var err error
			if below, err = kit.Folder(); err != nil {
				return err
			}
		}
		k, err := kit.New(below, args[0])
		if err != nil {
			return err
		}
		folder := filepath.Join(below, k.Name)
		fmt.Fprintf(a.out, "%s is written: a kit that works as it is, with a remark at each word.\n", folder)
		fmt.Fprintf(a.out, "Put your program in its place, then `lanternfield kit check %s`; a role takes it with `kit: %s`.\n", folder, k.Name)
		return nil
	}}
	cmd.Flags().BoolVar(&own, "own", false, "into your own folder, for all your fields, not beside the field files here")
	return cmd
}

package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/pattern"
)

func (a *app) newCommand() *cobra.Command {
	var name, zones, size, load, survive, members string
	var set, need []string
	var ascii bool
	cmd := &cobra.Command{Use: "new [PATTERN]", Short: "Begin a field: a few questions, or a pattern with answers",
		Long: "Without a pattern it asks, with the board beside the questions, and opens what was made. With one it writes\n" +
			"NAME.field.yaml from the answers that are given, and says what the field survives.",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case len(args) > 1:
				return fmt.Errorf("%q has no meaning here; name one pattern, `lanternfield pattern` lists them", args[1])
			case len(args) == 0 && !isTerminal(a.in):
				return errors.New("the questions need a terminal; name a pattern instead, `lanternfield pattern` lists them")
			case len(args) == 0:
				file, err := a.screens.Start(cmd.Context(), ".", ascii)
				if err != nil {
					return err
				}
				if file == "" {
					fmt.Fprintln(a.err, "No field was written.")
					return errBadAnswer
				}
				return a.open(cmd.Context(), file, ascii, true)
			}
			p, err := pattern.Find(args[0])
			if err != nil {
				return err
			}
			if name == "" {
				name = p.File.Field.Name
			}
			answers := pattern.Answers{Name: name, Load: load, Survive: pattern.Survive(survive), Variables: map[string]string{}}
			if answers.Survive.String() == "" {
				return fmt.Errorf("--survive %q is unknown; it is nothing, node, two-nodes or zone", survive)
			}
			if answers.Zones, err = pattern.ParseZones(zones); err != nil {
				return err
			}
			if answers.Size, err = pattern.ParseSize(size); err != nil {
				return err
			}
			for _, s := range set {
				key, value, ok := strings.Cut(s, "=")
				if !ok {
					return fmt.Errorf("--set %q says no value; write --set NAME=VALUE", s)
				}
				answers.Variables[key] = value
			}
			if p.Err == nil {
				if answers.Counts, err = pattern.ParseCounts(members, p.File.Field); err != nil {
					return err
				}
			}
			if answers.Settings, err = settingsOf(need, p); err != nil {
				return err
			}
			o, err := p.Make(answers)
			if err != nil {
				return err
			}
			file := name + ".field.yaml"
			if err := fieldfile.Create(file, o.Data); err != nil {
				return err
			}
			found := finding.Whole(o.Field)
			if a.json {
				a.printJSON(map[string]any{"file": file, "survives": o.Says, "kept": o.Kept, "findings": found})
			} else {
				a.printFindings(draft{o.File, o.Field}, found)
				for _, s := range o.Says {
					fmt.Fprintln(a.out, s)
				}
				for _, offer := range p.Offers(answers, o) {
					fmt.Fprintf(a.out, "To survive %s: --members %q.\n", offer.Survives, offer.Counts)
				}
				fmt.Fprintf(a.out, "%s is written; `lanternfield open %s` shows it.\n", file, file)
			}
			if !o.Kept {
				return errBadAnswer
			}
			return nil
		}}
	flags := cmd.Flags()
	flags.StringVar(&name, "name", "", "the field's name (else the pattern's)")
	flags.StringVar(&zones, "nodes", "1", "zones with their nodes, such as \"north 3, south 3\", or a number of nodes")
	flags.StringVar(&size, "size", "", "of each node, such as \"2 cores, 4GiB\"")
	flags.StringVar(&load, "load", "", "the load profile, such as light or heavy")
	flags.StringVar(&survive, "survive", "nothing", "nothing, node, two-nodes or zone: sets counts and spread")
	flags.StringVar(&members, "members", "", "how many each role has, such as \"records 3, doors 2\" (else what --survive sets)")
	flags.StringArrayVar(&need, "setting", nil, "a setting that a kit requires, ROLE.NAME=VALUE")
	flags.StringArrayVar(&set, "set", nil, "a variable of the pattern, NAME=VALUE")
	flags.BoolVar(&ascii, "ascii", false, "draw with ASCII only")
	a.jsonFlag(cmd)
	return cmd
}

// settingsOf reads the settings that kits require.
func settingsOf(given []string, p pattern.Pattern) (map[field.RoleName]map[string]string, error) {
	out := map[field.RoleName]map[string]string{}
	needs := p.Needs()
	for _, g := range given {
		key, value, ok := strings.Cut(g, "=")
		role, name, dotted := strings.Cut(key, ".")
		if !ok || !dotted {
			return nil, fmt.Errorf("--setting %q is not ROLE.NAME=VALUE", g)
		}
		if !slices.ContainsFunc(needs, func(n pattern.Need) bool { return string(n.Role) == role && n.Name == name }) {
			return nil, fmt.Errorf("no kit of this pattern requires %s of %s; other settings are changed in the file", name, role)
		}
		r := field.RoleName(role)
		if out[r] == nil {
			out[r] = map[string]string{}
		}
		out[r][name] = value
	}
	return out, nil
}

func (a *app) patternCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "pattern", Short: "List the patterns that new fields begin with", Args: cobra.NoArgs, RunE: func(*cobra.Command, []string) error {
		type listed struct {
			Name  string `json:"name"`
			About string `json:"about"`
			Own   bool   `json:"own,omitempty"`
			Error string `json:"error,omitempty"`
		}
		var all []listed
		for _, p := range pattern.All() {
			l := listed{Name: p.Name, About: p.About, Own: p.Own}
			if p.Err != nil {
				l.Error = p.Err.Error()
			}
			all = append(all, l)
		}
		if a.json {
			a.printJSON(all)
			return nil
		}
		for _, l := range all {
			if l.Error != "" {
				fmt.Fprintf(a.out, "%-15s cannot be used:\n%s\n", l.Name, l.Error)
				continue
			}
			fmt.Fprintf(a.out, "%-15s %s\n", l.Name, l.About)
		}
		return nil
	}}
	var about string
	save := &cobra.Command{Use: "save [FILE] NAME", Short: "Keep a field, with its variables, as a pattern of your own", RunE: func(_ *cobra.Command, args []string) error {
		f, _, rest, err := a.load(args)
		if err != nil {
			return err
		}
		if len(rest) != 1 {
			return errors.New("name the pattern: lanternfield pattern save FILE NAME")
		}
		file, err := pattern.Save(f.File, rest[0], about)
		if err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s is kept as a pattern in %s.\n", f.Field.Name, file)
		return nil
	}}
	save.Flags().StringVar(&about, "about", "", "what it is for (else what the field says of itself)")
	cmd.AddCommand(save)
	a.jsonFlag(cmd)
	return cmd
}

package cli

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
)

func (a *app) flowsCommand() *cobra.Command {
	hosts, nft := false, false
	cmd := &cobra.Command{Use: "flows [FILE]", Short: "Who connects to whom, at which ports: what a packet filter has to let through",
		Long: "Follows from the draft: the connections that members' own configurations name, and those by which clients get in. Printed as a matrix of roles; with --hosts as a\n" +
			"list of every connection from machine to machine, for whoever keeps the packet filters. Members of one machine reach each other without the network.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			flows, err := folder.Flows(f.Field)
			if err != nil {
				return err
			}
			if nft {
				return a.printFilters(folder, f.Field)
			}
			switch {
			case a.json:
				a.printJSON(map[string]any{"field": f.Field.Name, "flows": flows})
				return nil
			case len(flows) == 0:
				fmt.Fprintln(a.out, "Nothing passes between machines.")
				return nil
			case hosts:
				return a.printConnections(flows)
			}
			return a.printFlows(f.Field, flows)
		}}
	cmd.Flags().BoolVar(&hosts, "hosts", false, "list every connection from machine to machine")
	cmd.Flags().BoolVar(&nft, "nft", false, "print what the packet filter of each host is told with `rules: managed`, as nft reads it")
	a.jsonFlag(cmd)
	return cmd
}

// printFilters prints the rules of each node.
func (a *app) printFilters(folder control.Folder, f *field.Field) error {
	rules, err := folder.Filters(f)
	if err != nil {
		return err
	}
	for _, node := range slices.Sorted(maps.Keys(rules)) {
		if r := rules[node]; len(r.Ports) > 0 {
			fmt.Fprintf(a.out, "# %s\n%s\n", node, r.Script())
		}
	}
	return nil
}

// clients is how those are called who are none of the field.
const clients = "clients"

// printFlows prints a matrix: who connects in the rows, to whom in the columns, at which ports in the cells.
func (a *app) printFlows(f *field.Field, flows []review.Flow) error {
	cells := map[[2]string][]string{}
	rows, columns := map[string]bool{}, map[string]bool{}
	for _, x := range flows {
		from, to := string(x.From), string(x.To)
		if from == "" {
			from = clients
		}
		rows[from], columns[to] = true, true
		for _, n := range x.Numbers() {
			if text := fmt.Sprintf("%d %s", n, x.Port); !slices.Contains(cells[[2]string{from, to}], text) {
				cells[[2]string{from, to}] = append(cells[[2]string{from, to}], text)
			}
		}
	}
	order := []string{clients}
	for i := range f.Roles {
		order = append(order, string(f.Roles[i].Name))
	}
	var across []string
	for _, name := range order {
		if columns[name] {
			across = append(across, name)
		}
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 3, ' ', 0)
	fmt.Fprintf(w, "from \\ to\t%s\n", strings.Join(across, "\t"))
	for _, from := range order {
		if !rows[from] {
			continue
		}
		lines := 1
		for _, to := range across {
			lines = max(lines, len(cells[[2]string{from, to}]))
		}
		for i := range lines {
			line := []string{from}
			if i > 0 {
				line[0] = ""
			}
			for _, to := range across {
				switch have := cells[[2]string{from, to}]; {
				case i < len(have):
					line = append(line, have[i])
				case i == 0:
					line = append(line, "-")
				default:
					line = append(line, "")
				}
			}
			fmt.Fprintln(w, strings.Join(line, "\t"))
		}
	}
	return w.Flush()
}

// printConnections prints each connection, with the machines at both ends.
func (a *app) printConnections(flows []review.Flow) error {
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "from\tto\taddress\tTCP port\tfor")
	seen := map[string]bool{}
	for _, x := range flows {
		for _, p := range x.Paths {
			from, who := string(p.From), fmt.Sprintf("%s of %s, by %s", p.Port, p.Members[1], x.From)
			if x.From == "" {
				from, who = clients, strings.TrimSuffix(fmt.Sprintf("%s of %s: %s", p.Port, p.Members[1], x.Purpose), ": ")
			}
			address := p.At.Address
			if address == "" {
				address = "-"
			}
			line := fmt.Sprintf("%s\t%s\t%s\t%d\t%s", from, p.To, address, p.At.Port, who)
			if !seen[line] {
				seen[line] = true
				fmt.Fprintln(w, line)
			}
		}
	}
	return w.Flush()
}

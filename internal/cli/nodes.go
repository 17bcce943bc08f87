package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/wording"
)

func (a *app) nodesCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "nodes [FILE]", Short: "The machines of a field: what was found on them, and whether they are ready",
		Long: "Each machine is looked at, as check --nodes does, and told what it is: its system, cores, memory, disk, addresses. Nothing is changed.\n" +
			"The nodes of a field whose ground is ssh are hosts of yours; see docs/hosts.md.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			m, err := folder.Preflight(cmd.Context(), f.Field, a.lookedAt)
			a.progressEnds()
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(map[string]any{"field": f.Field.Name, "ok": m.OK(), "nodes": m.Nodes})
				return nil
			}
			a.printMachines(m)
			return nil
		}}
	a.jsonFlag(cmd)
	cmd.AddCommand(a.acceptCommand(), a.bringKeyCommand(), a.mendCommand(), a.lostCommand())
	return cmd
}

// printMachines prints what was found of each node.
func (a *app) printMachines(m *preflight.Matrix) {
	rows := [][]string{{"node", "zone", "ground", "address", "system", "cores", "memory", "disk free", "ready"}}
	for _, n := range m.Nodes {
		row := []string{string(n.Name), cmp.Or(string(n.Zone), "-"), n.Ground, cmp.Or(n.Address, "-"), "?", "?", "?", "?", "yes"}
		if x := n.Found; x != nil {
			row[4], row[5], row[6], row[7] = x.System+" "+x.Arch, fmt.Sprint(x.CPUs), x.Memory.String(), fmt.Sprintf("%s of %s", x.DiskFree, x.Disk)
		}
		if check, cell := n.Worst(); cell.Verdict != preflight.Good {
			row[8] = string(check)
			if len(cell.Problems) > 0 {
				row[8] += ": " + cell.Problems[0].Why
			}
		}
		rows = append(rows, row)
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	for _, row := range rows {
		fmt.Fprintln(w, strings.Join(row, "\t"))
	}
	_ = w.Flush()
}

func (a *app) acceptCommand() *cobra.Command {
	var all, changed bool
	cmd := &cobra.Command{Use: "accept [FILE] [NODE…]", Short: "Show the keys of hosts that nobody has confirmed yet, and believe them from now on",
		Long: "Every host shows a key by which it can be told from another one. Those in your own known_hosts are believed. Others are shown here and asked for once;\n" +
			"compare them with what `ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub` says on the host itself. They are noted in the state folder of the field.\n" +
			"A host that shows another key than before is not spoken to, until its new one is accepted with --changed and its name.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, only, err := a.loadNodes(args)
			if err != nil {
				return err
			}
			if changed && len(only) == 0 {
				return errors.New("name the hosts whose keys have changed: lanternfield nodes accept --changed NODE")
			}
			return a.accept(cmd, folder, f.Field, only, all, changed)
		}}
	cmd.Flags().BoolVar(&all, "accept-new", false, "believe whatever hosts show that were never seen, without asking")
	cmd.Flags().BoolVar(&changed, "changed", false, "the hosts that are named were installed anew: believe the keys that they show now")
	a.jsonFlag(cmd)
	return cmd
}

// loadNodes reads the field file that the arguments mean, and the nodes that they name.
func (a *app) loadNodes(args []string) (f draft, folder control.Folder, only []field.NodeName, err error) {
	f, folder, rest, err := a.load(args)
	if err != nil {
		return f, folder, nil, err
	}
	for _, n := range rest {
		if f.Field.Node(field.NodeName(n)) == nil {
			return f, folder, nil, fmt.Errorf("there is no node %s in %s", n, f.Field.Name)
		}
		only = append(only, field.NodeName(n))
	}
	return f, folder, only, nil
}

// accept shows the keys of hosts until none is left to show: behind a host on the way there may be others.
func (a *app) accept(cmd *cobra.Command, folder control.Folder, draft *field.Field, only []field.NodeName, all, changed bool) error {
	accepted := []control.ShownKey{}
	var unreached []error
	for {
		shown, not, err := folder.HostKeys(cmd.Context(), draft, only)
		if err != nil {
			return err
		}
		unreached = not
		var fresh []control.ShownKey
		for _, k := range shown {
			switch {
			case k.Changed != changed:
				unreached = append(unreached, fmt.Errorf("%s: %s %s", k.Node, k.Host, k.Why))
			case !slices.ContainsFunc(fresh, func(o control.ShownKey) bool { return o.Key == k.Key }):
				fresh = append(fresh, k)
			}
		}
		if len(fresh) == 0 {
			break
		}
		if !all {
			if err := a.askKeys(fresh, changed); err != nil {
				return err
			}
		}
		if err := folder.Believe(fresh); err != nil {
			return err
		}
		if accepted = append(accepted, fresh...); changed {
			break
		}
	}
	return a.acceptedKeys(draft, accepted, unreached)
}

// askKeys shows keys and asks whether they are right.
func (a *app) askKeys(keys []control.ShownKey, changed bool) error {
	for _, k := range keys {
		fmt.Fprintf(a.out, "%-10s %s  %s %s\n", k.Node, k.Host, k.Key.Type, k.Key.Print)
		if changed {
			fmt.Fprintf(a.out, "%-10s it %s\n", "", k.Why)
		}
	}
	if !isTerminal(a.in) {
		return errors.New("these keys are to be compared, and there is no terminal to ask on; nothing has been accepted. --accept-new believes them without asking")
	}
	fmt.Fprintln(a.out, "Compare with what this says on the host: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub")
	return a.confirm(fmt.Sprintf("Are these the keys of the %s?", wording.Plural(len(keys), "host", "hosts")))
}

// acceptedKeys says what came of it.
func (a *app) acceptedKeys(draft *field.Field, accepted []control.ShownKey, unreached []error) error {
	if a.json {
		words := []string{}
		for _, err := range unreached {
			words = append(words, err.Error())
		}
		a.printJSON(map[string]any{"field": draft.Name, "accepted": accepted, "unreached": words})
	} else {
		for _, k := range accepted {
			fmt.Fprintf(a.out, "%s: the key of %s is accepted: %s %s\n", k.Node, k.Host, k.Key.Type, k.Key.Print)
		}
		if len(accepted) == 0 && len(unreached) == 0 {
			fmt.Fprintln(a.out, "All hosts show keys that are known.")
		}
		for _, err := range unreached {
			fmt.Fprintln(a.err, err)
		}
	}
	if len(unreached) > 0 {
		return errBadAnswer
	}
	return nil
}

func (a *app) lostCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "lost [FILE] NODE", Short: "Say that a node is gone for good: nobody will answer for it any more",
		Long: "A node that cannot be reached is waited for, since what runs there may run on. Where it will never come back, such as a host that burned or was given away, a\n" +
			"person says so: what was on it counts as gone, and nothing waits for it any more. Before that, take it out of the file and deploy, so that others take the place\n" +
			"of those that were on it; or retire the field. Should it come back all the same, what is on it runs on, and nobody tells it anything: end it there.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if len(rest) != 1 {
				return errors.New("say which node is gone for good, one at a time: lanternfield nodes lost NODE")
			}
			session, snap, err := a.openDeployed(cmd.Context(), cmd, folder, "give up")
			if err != nil {
				return err
			}
			defer session.Close()
			if err := a.confirm(fmt.Sprintf("%s of %s will never come back, and nothing of what was on it runs any more?", rest[0], snap.Field)); err != nil {
				return err
			}
			if err := control.GiveUp(cmd.Context(), session, field.NodeName(rest[0]), cmd.CommandPath()); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s counts as gone. What was on it was not looked for.\n", rest[0])
			return nil
		}}
	a.yesFlag(cmd)
	return cmd
}

func (a *app) bringKeyCommand() *cobra.Command {
	back := false
	cmd := &cobra.Command{Use: "bring-key [FILE] [NODE…]", Short: "Bring the key with which hosts are logged in to, by a password that is asked for once",
		Long: "Hosts that let the key in already are left as they are. The others are logged in to with the password, once, and the public key is added to the\n" +
			"authorized_keys of the user there; then it is tried. The password is kept nowhere. Keys stay on hosts when a field is retired, since you log in by them; the\n" +
			"ledger has them, and --take-back takes away those that this has brought, where the host is not deployed.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, only, err := a.loadNodes(args)
			if err != nil {
				return err
			}
			was, done := "%s lets the key in already\n", "%s lets the key in from now on\n"
			var list []control.Brought
			if back {
				was, done = "to %s no key was brought\n", "%s does not let that key in any more\n"
				list, err = folder.TakeKeysBack(cmd.Context(), f.Field, only)
			} else {
				list, err = folder.BringKey(cmd.Context(), f.Field, only, func() (string, error) { return a.hidden("The password on the hosts: ") })
			}
			if err != nil {
				return err
			}
			failed := false
			for _, b := range list {
				failed = failed || b.Why != ""
			}
			if a.json {
				a.printJSON(map[string]any{"field": f.Field.Name, "hosts": list})
			} else {
				for _, b := range list {
					switch {
					case b.Why != "":
						fmt.Fprintln(a.out, b.Why)
					case b.Before:
						fmt.Fprintf(a.out, was, b.Node)
					default:
						fmt.Fprintf(a.out, done, b.Node)
					}
				}
			}
			if failed {
				return errBadAnswer
			}
			return nil
		}}
	cmd.Flags().BoolVar(&back, "take-back", false, "take away the keys that were brought")
	a.jsonFlag(cmd)
	return cmd
}

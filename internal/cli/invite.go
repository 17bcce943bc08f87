package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/carried"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/host"
	"lanternfield/internal/joining"
)

func (a *app) inviteCommand() *cobra.Command {
	ask := control.InviteAsked{}
	var node, zone string
	cmd := &cobra.Command{Use: "invite [FILE]", Short: "Let a machine join that only its operator can log in to: prints the command to run there",
		Long: "For nodes whose ground is join. The command that is printed brings the agent to the machine, by HTTPS from the keeper, and the machine appears\n" +
			"on the board. It carries a token: who has it can be a node of the field, so hand it over as you would a password. The token is limited in time and uses, and\n" +
			"can be revoked; it is shown this once. See docs/hosts.md.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			ask.Node, ask.Zone, ask.By = field.NodeName(node), field.ZoneName(zone), by(cmd)
			if ask.Node != "" && ask.Zone != "" {
				return errors.New("say --node or --zone, not both: a node has its zone in the file")
			}
			session, _, err := a.openDeployed(cmd.Context(), cmd, folder, "invite a machine to")
			if err != nil {
				return err
			}
			defer session.Close()
			i, err := session.Invite(cmd.Context(), ask)
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(map[string]any{"field": folder.Name(), "invitation": i, "command": i.Command()})
				return nil
			}
			a.printInvitation(folder.Name(), i)
			return nil
		}}
	flags := cmd.Flags()
	flags.StringVar(&node, "node", "", "as this node (else any that has no machine yet)")
	flags.StringVar(&zone, "zone", "", "as any node of this zone that has no machine yet")
	flags.IntVar(&ask.Uses, "uses", 1, "how many machines may use it")
	flags.DurationVar(&ask.For, "for", time.Hour, "how long it is valid")
	flags.StringVar(&ask.At, "at", "", "ADDRESS or ADDRESS:PORT of this machine, to which the others connect")
	a.jsonFlag(cmd)
	cmd.AddCommand(a.invitationsCommand(), a.revokeCommand())
	return cmd
}

// printInvitation prints what is to be typed on the machine.
func (a *app) printInvitation(name string, i *control.Invitation) {
	fmt.Fprintf(a.out, "Run this on the machine that is to be %s of %s, as root or as the user that its members are to run as:\n\n  %s\n\n", i.As, name, i.Command())
	fmt.Fprintf(a.out, "Where lanternfield is on the machine, and no curl: %s='%s' lanternfield join\n", joining.Variable, i.Token)
	fmt.Fprintf(a.out, "It is valid for %s until %s; the machine must be able to reach %s. `lanternfield invite revoke %s` revokes it.\n",
		wording.Counted(i.Uses, "machine"), i.Until.Local().Format("2 Jan 15:04"), i.At, i.ID)
}

func (a *app) invitationsCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "list [FILE]", Short: "List the invitations that are valid, and which machines have used them",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			list, err := folder.Invitations()
			if err != nil {
				return err
			}
			if a.json {
				rows := []map[string]any{}
				for _, i := range list {
					rows = append(rows, map[string]any{"id": i.ID, "as": i.For(), "uses": i.Uses, "left": i.Left(), "until": i.Until, "at": i.At, "by": i.By, "used": i.Used})
				}
				a.printJSON(map[string]any{"field": folder.Name(), "invitations": rows})
				return nil
			}
			if len(list) == 0 {
				fmt.Fprintln(a.out, "No invitation is valid now.")
				return nil
			}
			w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "invitation\tas\tuses left\tuntil\tat\tused by")
			for _, i := range list {
				var used []string
				for machine, node := range i.Used {
					used = append(used, fmt.Sprintf("%s as %s", machine, node))
				}
				fmt.Fprintf(w, "%s\t%s\t%d of %d\t%s\t%s\t%s\n", i.ID, i.For(), i.Left(), i.Uses, i.Until.Local().Format("2 Jan 15:04"), i.At, strings.Join(used, ", "))
			}
			return w.Flush()
		}}
	a.jsonFlag(cmd)
	return cmd
}

func (a *app) revokeCommand() *cobra.Command {
	return &cobra.Command{Use: "revoke [FILE] INVITATION", Short: "Revoke an invitation; machines that have joined by it stay",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if len(rest) != 1 {
				return errors.New("say which invitation, as `lanternfield invite list` names it")
			}
			session, _, err := a.openDeployed(cmd.Context(), cmd, folder, "revoke in")
			if err != nil {
				return err
			}
			defer session.Close()
			if err := control.Revoke(cmd.Context(), session, rest[0], by(cmd)); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The invitation %s is revoked.\n", rest[0])
			return nil
		}}
}

// joinCommand has this machine join, by the agent that this program carries.
func (a *app) joinCommand() *cobra.Command {
	address := ""
	cmd := &cobra.Command{Use: "join", Short: "Have this machine be a node of a field, by an invitation", Args: cobra.NoArgs,
		Long: "The invitation, as `lanternfield invite` has printed it, is taken from " + joining.Variable + ", or asked for on the terminal. The agent is put in place and\n" +
			"kept running. Everything is taken away again when the node is given up.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			token := os.Getenv(joining.Variable)
			if token == "" {
				var err error
				if token, err = a.hidden("The invitation (lf1.…): "); err != nil {
					return fmt.Errorf("there is no invitation in %s: %w", joining.Variable, err)
				}
			}
			if _, err := joining.ParseToken(token); err != nil {
				return err
			}
			folder, err := unpackAgent()
			if err != nil {
				return err
			}
			defer func() {
				_ = os.RemoveAll(folder)
				_ = os.Remove(filepath.Dir(folder)) // where nothing is in it
			}()
			args := []string{"join"}
			if address != "" {
				args = append(args, "--address", address)
			}
			joiner := exec.CommandContext(cmd.Context(), filepath.Join(folder, host.AgentProgram), args...)
			joiner.Stdout, joiner.Stderr, joiner.Env = a.out, a.err, append(os.Environ(), joining.Variable+"="+token)
			if err := joiner.Run(); err != nil {
				return errBadAnswer // it has said why
			}
			return nil
		}}
	cmd.Flags().StringVar(&address, "address", "", "at which the others reach this machine (else the one from which it connects to the keeper)")
	return cmd
}

// unpackAgent puts the agent's programs for this machine into a folder of its own.
func unpackAgent() (folder string, err error) {
	programs, err := carried.For(runtime.GOARCH)
	if err != nil {
		return "", err
	}
	base, err := host.UsualFolder()
	if err != nil {
		return "", err
	}
	if err := host.MakeFolder(base, host.Passable); err != nil {
		return "", host.DiskError(err)
	}
	if folder, err = os.MkdirTemp(base, ".join."); err != nil {
		return "", host.DiskError(err)
	}
	for _, p := range programs {
		if err = p.Unpack(filepath.Join(folder, p.Name)); err != nil {
			return "", errors.Join(host.DiskError(err), os.RemoveAll(folder))
		}
	}
	return folder, nil
}

package cli

import (
	"errors"
	"os"
	"syscall"

	"github.com/spf13/cobra"

	"lanternfield/internal/agent"
	"lanternfield/internal/core/field"
)

func (a *app) agentCommand() *cobra.Command {
	var o agent.Options
	var node string
	enrol, unit := -1, false
	cmd := &cobra.Command{Use: "agent", Short: "Run the daemon of a node (started by the ground, not by hand)", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if unit {
				return a.printUnit()
			}
			if o.Dir == "" || node == "" || o.Address == "" {
				return errors.New("an agent needs --dir, --node and --address; controllers start agents by themselves")
			}
			o.Node = field.NodeName(node)
			if enrol < 0 {
				return errors.New("an agent gets its certificate from the controller that starts it, by --enrol-fd; controllers start agents by themselves")
			}
			syscall.CloseOnExec(enrol)
			o.Enrol = os.NewFile(uintptr(enrol), "enrolment")
			return agent.Run(cmd.Context(), o)
		}}
	cmd.Flags().BoolVar(&unit, "print-unit", false, "print a systemd unit that brings a field back when the machine starts (with --field NAME)")
	cmd.Flags().StringVar(&o.Dir, "dir", "", "the node's folder")
	cmd.Flags().StringVar(&node, "node", "", "the node's name")
	cmd.Flags().StringVar(&o.Address, "address", "", "the node's address")
	cmd.Flags().IntVar(&enrol, "enrol-fd", -1, "a connection to the controller that starts it, inherited")
	return cmd
}

func (a *app) keepLogsCommand() *cobra.Command {
	var nodes, lock string
	cmd := &cobra.Command{Use: "keep-logs", Short: "Bound the logs of members whose agents are away (started by the ground, not by hand)", Args: cobra.NoArgs, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if nodes == "" || lock == "" {
				return errors.New("a keeper of logs needs --nodes and --lock; controllers start it by themselves")
			}
			return agent.KeepLogs(cmd.Context(), nodes, lock)
		}}
	cmd.Flags().StringVar(&nodes, "nodes", "", "the folder of the nodes")
	cmd.Flags().StringVar(&lock, "lock", "", "the file that is locked meanwhile")
	return cmd
}

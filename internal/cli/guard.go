package cli

import (
	"os"

	"github.com/spf13/cobra"

	"lanternfield/internal/leaseguard"
)

// guardCommand is what agents start instead of the program of a member whose role has a lease.
func guardCommand() *cobra.Command {
	return &cobra.Command{Use: "guard PROGRAM [ARGUMENT]...", Short: "Run a member's program as long as its lease allows (started by agents, not by hand)", Hidden: true,
		DisableFlagParsing: true,
		Run:                func(_ *cobra.Command, args []string) { os.Exit(leaseguard.Run(args)) }}
}

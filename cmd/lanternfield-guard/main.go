// Command lanternfield-guard is the parent of a member whose role has a lease, on hosts: it runs the member's program as long as the lease allows.
// It also holds addresses that one member of a role has at a time. It stands apart from the agent, which shall stay small.
package main

import (
	"os"

	hold "lanternfield/internal/core/floating"
	"lanternfield/internal/floating"
	"lanternfield/internal/host"
	"lanternfield/internal/leaseguard"
)

func main() {
	host.KeepPrivate()
	args := os.Args[1:]
	if len(args) == 1 && args[0] == hold.Command {
		os.Exit(floating.Run())
	}
	if len(args) > 0 && args[0] == "guard" { // as agents name what they start
		args = args[1:]
	}
	os.Exit(leaseguard.Run(args))
}

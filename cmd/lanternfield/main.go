// Command lanternfield defines the topology of a distributed system, deploys it in order and watches it converge.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"lanternfield/internal/cli"
	"lanternfield/internal/host"
	"lanternfield/internal/leaseguard"
	"lanternfield/internal/tui"
	"lanternfield/internal/tui/start"
)

func main() {
	host.KeepPrivate()
	if len(os.Args) > 1 && os.Args[1] == "guard" { // before signals are caught: one that asks it to end, as soon as it begins, would be lost
		os.Exit(leaseguard.Run(os.Args[2:]))
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr, cli.Screens{Open: tui.Run, Archive: tui.RunArchive, Start: start.Run})
	stop()
	os.Exit(code)
}

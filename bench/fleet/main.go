// Command fleet measures the keeper and the screen of a field of a thousand nodes and ten thousand members. The agents are the real ones, each with its own
// listener, certificate and files, and are spoken to over mutual TLS; they share one process, and what they run are entries in a map, so that a field of that
// size fits on one machine. Keeper and screen are the program's own code, each in a process of its own. It is run by `make bench`, or
//
//	go run ./bench/fleet [-nodes 1000] [-members 10] [-changes 200]
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime/pprof"
	"syscall"
	"time"

	"lanternfield/internal/cli"
	"lanternfield/internal/host"
	"lanternfield/internal/keyring"
	"lanternfield/internal/tui"
	"lanternfield/internal/tui/start"
)

var (
	nodes   = flag.Int("nodes", 1000, "how many agents")
	members = flag.Int("members", 10, "how many members on each")
	changes = flag.Int("changes", 200, "how many members are ended, one after another")
	profile = flag.Bool("profile", false, "write profiles of keeper and screen at rest to /tmp")
)

// stateVariable says where the field is kept; the socket of the process that has the agents is there too.
const stateVariable = "LANTERNFIELD_STATE"

func main() {
	host.KeepPrivate()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	first := ""
	if len(os.Args) > 1 {
		first = os.Args[1]
	}
	var err error
	switch first {
	case "agent": // a keeper starts one
		err = handOver(os.Args[2:])
	case "keep-logs": // there are none
	case "have-agents":
		go profiled(first)
		err = haveAgents(ctx)
	case "", "-nodes", "-members", "-changes", "-profile":
		flag.Parse()
		err = measure(ctx)
	default:
		go profiled(first)
		os.Exit(cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr, cli.Screens{Open: tui.Run, Archive: tui.RunArchive, Start: start.Run}))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// profiled writes where the time of this process goes for as long as it is measured at rest, and what it has in memory then, each time that it is asked to by SIGUSR1.
func profiled(name string) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGUSR1)
	for range asked {
		f, err := os.Create(fmt.Sprintf("/tmp/fleet-%s-%d.cpu", name, os.Getpid()))
		if err != nil {
			continue
		}
		if pprof.StartCPUProfile(f) == nil {
			time.Sleep(restWindow)
			pprof.StopCPUProfile()
		}
		f.Close()
		if f, err = os.Create(fmt.Sprintf("/tmp/fleet-%s-%d.heap", name, os.Getpid())); err == nil {
			_ = pprof.Lookup("heap").WriteTo(f, 0)
			f.Close()
		}
	}
}

// begin makes a folder for the field, and starts the process that has its agents.
func begin() (dir string, agents *exec.Cmd, err error) {
	if dir, err = os.MkdirTemp("", "lf-fleet-"); err != nil {
		return "", nil, err
	}
	err = errors.Join(os.Setenv(stateVariable, dir), os.Setenv(keyring.OwnerVariable, filepath.Join(dir, "owner.key")))
	if err != nil {
		return dir, nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return dir, nil, err
	}
	agents = exec.Command(self, "have-agents")
	agents.Stderr = os.Stderr
	return dir, agents, agents.Start()
}

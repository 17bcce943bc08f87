package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
)

func (a *app) tunnelCommand() *cobra.Command {
	listen := "127.0.0.1:0"
	cmd := &cobra.Command{Use: "tunnel [FILE] MEMBER PORT", Short: "Reach a port of a member from here, through its agent",
		Long: "PORT is the name or the number of one of the member's ports. An address on this machine leads there until the command is interrupted; it is\n" +
			"printed first. While the member is away, connections are closed with the reason printed; when it is back, they work again.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, what, err := a.folder(args)
			if err != nil {
				return err
			}
			if len(what) != 2 {
				return errors.New("say which member, and which of its ports: lanternfield tunnel MEMBER PORT")
			}
			visitor, host, err := a.oneMember(folder, what[0])
			if err != nil {
				return err
			}
			defer visitor.Close()
			if !hasPort(host, what[1]) {
				return fmt.Errorf("%s has no port %s; it has %s", host.Member, what[1], portsOf(host))
			}
			return a.tunnelTo(cmd.Context(), visitor, host, what[1], listen)
		}}
	cmd.Flags().StringVar(&listen, "listen", listen, "where to listen on this machine; port 0 takes a free one")
	return cmd
}

func hasPort(h control.Host, port string) bool {
	for name, number := range h.Ports {
		if name == port || strconv.Itoa(number) == port {
			return true
		}
	}
	return false
}

func portsOf(h control.Host) string {
	if len(h.Ports) == 0 {
		return "none"
	}
	var words []string
	for _, name := range slices.Sorted(maps.Keys(h.Ports)) {
		words = append(words, fmt.Sprintf("%s (%d)", name, h.Ports[name]))
	}
	return strings.Join(words, ", ")
}

// tunnelTo listens until the context ends.
func (a *app) tunnelTo(ctx context.Context, door *control.Visitor, host control.Host, port, listen string) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w", listen, err)
	}
	fmt.Fprintf(a.out, "%s\n", l.Addr())
	fmt.Fprintf(a.err, "%s leads to port %s of %s on %s, until this is interrupted.\n", l.Addr(), port, host.Member, host.Node)
	var open sync.WaitGroup
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for first := true; ; first = false {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			open.Wait()
			return errLooked
		}
		if err != nil {
			return err
		}
		open.Add(1)
		go func() {
			defer open.Done()
			v := agentapi.Visit{By: visitor(), How: "tunnel", Port: port, Quiet: !first}
			if why := through(ctx, door, host, v, conn); why != "" && ctx.Err() == nil {
				fmt.Fprintln(a.err, why)
			}
		}()
	}
}

// through passes one connection on, and says why that could not be.
func through(ctx context.Context, door *control.Visitor, host control.Host, v agentapi.Visit, conn net.Conn) (why string) {
	defer conn.Close()
	frames, err := door.Visit(ctx, host, v)
	if err != nil {
		return fmt.Sprintf("%s: %v", host.Member, err)
	}
	defer frames.Close()
	ending, err := visit{frames, conn, conn, io.Discard}.run()
	switch {
	case ending.Why != "":
		return ending.Why
	case errors.Is(err, errAgentGone):
		return fmt.Sprintf("%s: %v", host.Member, err)
	}
	return ""
}

package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/agent"
	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/fit"
)

// socket is where the process that has the agents listens, in the folder of the fields.
const socket = "fleet.sock"

// handOver stands for an agent that a keeper starts: it gives what it was started with to the process that has them all.
func handOver(args []string) error {
	var dir string
	for i, a := range args {
		if a == "--dir" && i+1 < len(args) {
			dir = args[i+1]
		}
	}
	for at := dir; at != "/" && at != "."; at = filepath.Dir(at) {
		conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: filepath.Join(at, socket), Net: "unix"})
		if err != nil {
			continue
		}
		defer conn.Close()
		_, _, err = conn.WriteMsgUnix([]byte("agent "+strings.Join(args, " ")+"\n"), unix.UnixRights(3), nil)
		return err
	}
	return fmt.Errorf("nobody has the agents of %s", dir)
}

// haveAgents runs all agents, and ends members on demand: a line "end MEMBER" is answered with when that was.
func haveAgents(ctx context.Context) error {
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(os.Getenv(stateVariable), socket), Net: "unix"})
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { listener.Close() })
	slog.SetDefault(slog.New(slog.DiscardHandler))
	runs := &paper{running: map[field.MemberName]*sheet{}}
	var all sync.WaitGroup
	defer all.Wait()
	go func() { // each agent has it keep its memory small, which for a thousand in one process takes more time than all that they do
		for every := time.NewTicker(2 * time.Second); ctx.Err() == nil; <-every.C {
			debug.SetGCPercent(300)
		}
	}()
	for {
		conn, err := listener.AcceptUnix()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return err
		}
		all.Go(func() {
			if err := runs.serve(ctx, conn); err != nil && ctx.Err() == nil {
				fmt.Fprintln(os.Stderr, "agents:", err)
			}
		})
	}
}

func (p *paper) serve(ctx context.Context, conn *net.UnixConn) error {
	defer conn.Close()
	line, passed := make([]byte, 4<<10), make([]byte, unix.CmsgSpace(4))
	n, of, _, _, err := conn.ReadMsgUnix(line, passed)
	if err != nil {
		return err
	}
	verb, rest, _ := strings.Cut(strings.TrimSpace(string(line[:n])), " ")
	if verb == "end" {
		return p.ends(conn, rest)
	}
	messages, err := unix.ParseSocketControlMessage(passed[:of])
	if err != nil || len(messages) != 1 {
		return errors.Join(errors.New("an agent without an enrolment"), err)
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		return err
	}
	args := strings.Fields(rest)
	o := agent.Options{Runtime: p, NoGroups: true, Enrol: os.NewFile(uintptr(fds[0]), "enrolment")}
	for i := 0; i+1 < len(args); i += 2 {
		switch args[i] {
		case "--dir":
			o.Dir = args[i+1]
		case "--node":
			o.Node = field.NodeName(args[i+1])
		case "--address":
			o.Address = args[i+1]
		}
	}
	return agent.Run(ctx, o)
}

// ends ends members, a line each, and answers with when that was.
func (p *paper) ends(conn net.Conn, first string) error {
	lines := bufio.NewScanner(io.MultiReader(strings.NewReader("end "+first+"\n"), conn))
	for lines.Scan() {
		name := field.MemberName(strings.TrimPrefix(lines.Text(), "end "))
		p.mu.Lock()
		s := p.running[name]
		p.mu.Unlock()
		if s == nil {
			return fmt.Errorf("%s does not run", name)
		}
		at := time.Now()
		s.exits(order.Exit{Known: true, Code: 3})
		if _, err := fmt.Fprintln(conn, at.UnixNano()); err != nil {
			return err
		}
	}
	return lines.Err()
}

// paper is a runtime whose members are entries in a map.
type paper struct {
	mu      sync.Mutex
	next    int
	running map[field.MemberName]*sheet
}

type sheet struct {
	name   field.MemberName
	pid    int
	exited chan order.Exit
	by     *paper
}

func (p *paper) Lacks(order.Lookup) error { return nil }
func (p *paper) Member(name field.MemberName, _ runtime.Place) runtime.Instance {
	return desk{p, name}
}
func (p *paper) Sees() bool { return false }
func (p *paper) Beat()      {}
func (p *paper) Close()     {}

// desk is where one member runs.
type desk struct {
	*paper
	name field.MemberName
}

func (d desk) Adopt(runtime.Record, int) runtime.Run     { return nil }
func (d desk) Clear(runtime.Record, *order.Spec) error   { return nil }
func (d desk) Intent() runtime.Record                    { return runtime.Record{} }
func (d desk) Account(*order.Spec) (*fit.Account, error) { return fit.AccountOf("") }
func (d desk) Fits(*order.Spec) error                    { return nil }
func (d desk) Look(runtime.Run)                          {}
func (d desk) Sweep(int)                                 {}
func (d desk) Start(*order.Spec, int) (runtime.Run, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.next++
	s := &sheet{d.name, 1<<22 + d.next, make(chan order.Exit, 1), d.paper} // no number of a process
	d.running[d.name] = s
	return s, nil
}
func (d desk) Exec(context.Context, *order.Spec, []string, io.Writer) (int, error) { return 0, nil }
func (d desk) Visit(context.Context, *order.Spec, runtime.Command) (order.Exit, error) {
	return order.Exit{Known: true}, nil
}

func (s *sheet) PID() int                    { return s.pid }
func (s *sheet) Record() runtime.Record      { return runtime.Record{PID: s.pid} }
func (s *sheet) Exited() <-chan order.Exit   { return s.exited }
func (s *sheet) Usage() runtime.Usage        { return runtime.Usage{Memory: 1 << 20} }
func (s *sheet) Close()                      {}
func (s *sheet) Kill()                       { s.exits(order.Exit{Known: true, Code: 137}) }
func (s *sheet) Signal(syscall.Signal) error { s.exits(order.Exit{Known: true}); return nil }
func (s *sheet) exits(e order.Exit) {
	s.by.mu.Lock()
	defer s.by.mu.Unlock()
	if s.by.running[s.name] == s {
		delete(s.by.running, s.name)
		s.exited <- e
	}
}

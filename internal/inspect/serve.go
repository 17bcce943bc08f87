package inspect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/disk"
	gohost "github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"
	gonet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/mending"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/fit"
	"lanternfield/internal/host/mend"
	"lanternfield/internal/host/packetfilter"
	"lanternfield/internal/netfault"
)

// How long a connection may take, how many are tried at once, and how large a request may be.
const (
	connectWithin = 3 * time.Second
	mostAtOnce    = 64
	mostRequest   = 4 << 20
)

// Serve answers requests until the connection ends.
func Serve(ctx context.Context, conn io.ReadWriter) error {
	s := &server{}
	defer s.close()
	in := json.NewDecoder(conn)
	for {
		var r Request
		if err := in.Decode(&r); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		if err := json.NewEncoder(conn).Encode(s.answer(ctx, r)); err != nil {
			return err
		}
	}
}

type server struct {
	versions  fit.Versions
	listeners []net.Listener
}

func (s *server) close() {
	for _, l := range s.listeners {
		l.Close()
	}
	s.listeners = nil
}

func (s *server) answer(ctx context.Context, r Request) Answer {
	var a Answer
	if r.Folder != "" {
		m, err := Look(ctx, r.Folder)
		if err != nil {
			return Answer{Error: err.Error()}
		}
		a.Machine = m
	}
	for _, l := range r.Lookups {
		a.Lacks = append(a.Lacks, s.lacks(l)...)
	}
	if r.Free {
		s.close()
	}
	var listening []gonet.ConnectionStat
	for _, at := range r.Listen {
		o := s.listen(ctx, at)
		if o.Taken {
			if listening == nil {
				listening, _ = gonet.ConnectionsWithContext(ctx, "tcp")
			}
			o.Socket = whose(at, listening)
		}
		a.Listens = append(a.Listens, o)
	}
	a.Connect = connectAll(ctx, r.Connect)
	if len(r.Filter) > 0 {
		a.Filter = packetfilter.Blocking(ctx, r.Filter)
	}
	mender := mend.New(r.Field)
	for _, step := range r.Mend {
		e, err := mender.Do(ctx, step)
		a.Mended = append(a.Mended, Mended{e, words(err)})
	}
	for _, e := range r.Undo {
		stays, err := mender.Undo(ctx, e)
		a.Undone = append(a.Undone, Undone{stays, words(err)})
	}
	return a
}

func words(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// lacks tells all that a member would lack, not only the first, with what would mend it here.
func (s *server) lacks(l order.Lookup) []Lack {
	var out []Lack
	note := func(what What, err error, step *mending.Step) {
		if err == nil {
			return
		}
		if !mend.MayMend() {
			step = nil
		}
		out = append(out, Lack{l.Member, what, strings.TrimSuffix(err.Error(), fit.TriedAgain), step})
	}
	var packages *mending.Step
	if len(l.Packages) > 0 && mend.HasPackages() {
		packages = &mending.Step{Kind: mending.Packages, Packages: l.Packages}
	}
	_, missing := fit.LookUp(l.Program, l.LookIn)
	if note(Program, missing, packages); missing == nil {
		_, missing = s.versions.Pick(l)
		note(Program, missing, packages)
	}
	var limit *fit.LimitError
	err := fit.CheckLimits(l.Limits)
	if errors.As(err, &limit) && limit.Kernel != nil {
		note(Limit, err, raise(limit.Kernel))
	} else {
		note(Limit, err, nil)
	}
	for _, err := range fit.KernelLacks(l.Kernel) {
		var setting *fit.KernelError
		if errors.As(err, &setting) {
			note(Kernel, err, raise(setting))
		} else {
			note(Kernel, err, nil)
		}
	}
	if missing == nil { // else the user comes with the program
		packages = nil
	}
	_, err = fit.AccountFor(l.User, l.IfRoot)
	note(User, err, packages)
	return out
}

func raise(e *fit.KernelError) *mending.Step {
	return &mending.Step{Kind: mending.Kernel, Setting: e.Setting, Value: e.Want}
}

// listen listens at an address.
func (s *server) listen(ctx context.Context, at machine.Socket) Outcome {
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", net.JoinHostPort(at.Address, strconv.Itoa(at.Port)))
	if err != nil {
		o := Outcome{Socket: at, Why: netfault.Plain(err), Taken: errors.Is(err, syscall.EADDRINUSE)}
		switch {
		case o.Taken:
			o.Why = "it is taken"
		case errors.Is(err, syscall.EADDRNOTAVAIL):
			o.Why = "the machine has no such address"
		case errors.Is(err, syscall.EACCES):
			o.Why = "this user may not listen there"
		}
		return o
	}
	s.listeners = append(s.listeners, l)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				_ = conn.SetDeadline(time.Now().Add(connectWithin))
				_, _ = conn.Read(make([]byte, 1)) // until the other side goes: who ends it first keeps the port from others for a while
			}()
		}
	}()
	return Outcome{Socket: at}
}

// connectAll tries to reach many addresses, some at once.
func connectAll(ctx context.Context, to []machine.Socket) []Outcome {
	out := make([]Outcome, len(to))
	places := make(chan struct{}, mostAtOnce)
	var trying sync.WaitGroup
	for i, at := range to {
		trying.Add(1)
		go func() {
			defer trying.Done()
			places <- struct{}{}
			defer func() { <-places }()
			out[i] = connect(ctx, at)
		}()
	}
	trying.Wait()
	return out
}

func connect(ctx context.Context, at machine.Socket) Outcome {
	began := time.Now()
	conn, err := (&net.Dialer{Timeout: connectWithin}).DialContext(ctx, "tcp", net.JoinHostPort(at.Address, strconv.Itoa(at.Port)))
	o := Outcome{Socket: at, Took: time.Since(began)}
	if err != nil {
		o.Why, o.Refused = netfault.Plain(err), errors.Is(err, syscall.ECONNREFUSED)
		return o
	}
	conn.Close()
	return o
}

// whose finds who listens where something is taken.
func whose(at machine.Socket, all []gonet.ConnectionStat) machine.Socket {
	for _, c := range all {
		if c.Status != "LISTEN" || int(c.Laddr.Port) != at.Port || c.Laddr.IP != at.Address && c.Laddr.IP != "0.0.0.0" && c.Laddr.IP != "::" {
			continue
		}
		return named(at, int(c.Pid))
	}
	return at
}

// named says which program a process runs, and whose it is.
func named(at machine.Socket, pid int) machine.Socket {
	p, err := process.NewProcess(int32(pid))
	if pid == 0 || err != nil {
		return at
	}
	at.PID = pid
	at.Program, _ = p.Name()
	at.User, _ = p.Username()
	return at
}

// Look finds out what this machine is, with the disk on which a folder lies or would lie.
func Look(ctx context.Context, folder string) (*machine.Machine, error) {
	m := &machine.Machine{At: time.Now().UTC(), Arch: runtime.GOARCH, Root: os.Geteuid() == 0}
	about, err := gohost.InfoWithContext(ctx)
	if err != nil {
		return nil, fmt.Errorf("what the machine is cannot be found out: %w", err)
	}
	m.System, m.Kernel = strings.TrimSpace(about.Platform+" "+about.PlatformVersion), about.KernelVersion
	if about.VirtualizationRole == "guest" {
		m.Virtual = about.VirtualizationSystem
	}
	m.CPUs, err = cpu.CountsWithContext(ctx, true)
	if err != nil {
		return nil, fmt.Errorf("its cores cannot be counted: %w", err)
	}
	if list, err := cpu.InfoWithContext(ctx); err == nil && len(list) > 0 {
		m.CPU = list[0].ModelName
	}
	memory, err := mem.VirtualMemoryWithContext(ctx)
	if err != nil {
		return nil, fmt.Errorf("its memory cannot be found out: %w", err)
	}
	m.Memory, m.Free = field.Bytes(memory.Total), field.Bytes(memory.Available)
	for folder != "/" {
		if _, err := os.Stat(folder); err == nil {
			break
		}
		folder = filepath.Dir(folder)
	}
	if use, err := disk.UsageWithContext(ctx, folder); err == nil {
		m.Disk, m.DiskFree = field.Bytes(use.Total), field.Bytes(use.Free)
	}
	_, err = os.Stat("/run/systemd/system")
	m.Service = err == nil
	m.Addresses = addresses()
	m.Listens = listens(ctx)
	return m, nil
}

// addresses are those of this machine that others may reach.
func addresses() []string {
	all, _ := net.InterfaceAddrs()
	out := []string{}
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
			out = append(out, n.String())
		}
	}
	return out
}

// mostListens bounds how many sockets a machine tells of.
const mostListens = 200

// listens are the sockets at which something listens that others can reach, with whose they are.
func listens(ctx context.Context) []machine.Socket {
	all, _ := gonet.ConnectionsWithContext(ctx, "tcp")
	var out []machine.Socket
	for _, c := range all {
		ip := net.ParseIP(c.Laddr.IP)
		if c.Status != "LISTEN" || ip == nil || ip.IsLoopback() || len(out) == mostListens {
			continue
		}
		out = append(out, named(machine.Socket{Address: c.Laddr.IP, Port: int(c.Laddr.Port)}, int(c.Pid)))
	}
	return out
}

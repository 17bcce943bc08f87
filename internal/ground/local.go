package ground

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/host"

	"lanternfield/internal/core/state"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
	"lanternfield/internal/identity"
)

// Local makes nodes out of this machine: each has an address of its own in 127.0.0.0/8, a folder and an agent.
type Local struct {
	Dir       string // nodes have their folders in here
	Authority *identity.Authority
	Seal      func(field.NodeName) []byte // the key with which a node's agent seals what it keeps
	Binary    string                      // the program whose `agent` command is an agent

	LogsLock string // the lock of who bounds logs while agents are away

	mu     sync.Mutex
	given  map[netip.Addr]field.NodeName // since this process began
	busy   map[int]bool                  // blocks in which somebody listened when it was looked
	looked time.Time

	keeping sync.Once
	party   sync.Once
	us      *identity.Controller
	failed  error
}

// Addresses are taken from 127.64.0.0 to 127.127.255.0, a block of 250 at a time. On further networks they are 64 and 128 above in the second
// number: 127.70.1.5 has 127.134.1.5 and 127.198.1.5.
const (
	firstBlock = 64 << 8
	blocks     = 64 << 8
	perBlock   = 250
	perNetwork = 64
)

// Check refuses addresses at which somebody else listens.
func (l *Local) Check(_ context.Context, wants []Want, have Bindings) error {
	_, taken, err := listening()
	if err != nil {
		return err
	}
	for _, w := range wants {
		if have[w.Node.Name].Address != "" || w.Address == "" {
			continue
		}
		a, err := netip.ParseAddr(w.Address)
		if err != nil {
			return fmt.Errorf("%q is no address for %s", w.Address, w.Node.Name)
		}
		if taken[a] {
			return fmt.Errorf("the address %s of %s is in use: something else listens there. Give the node another, or leave it out", w.Address, w.Node.Name)
		}
	}
	return nil
}

// Give gives a node an address out of a block in which nobody on this machine listens. The block follows from the folder, and the address in it
// from the node's place, so that a field keeps its neighbourhood when it is deployed anew.
func (l *Local) Give(_ context.Context, want Want, have Bindings) (state.Binding, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	name := want.Node.Name
	at := state.Binding{Kind: kind.Local, Address: have[name].Address, Dir: filepath.Join(l.Dir, string(name))}
	if at.Address == "" {
		at.Address = want.Address
	}
	if at.Address == "" {
		a, err := l.free(want, have)
		if err != nil {
			return state.Binding{}, err
		}
		at.Address = a.String()
	}
	var err error
	at.Addresses, err = further(at.Address, want)
	return at, err
}

// free finds an address that nobody has.
func (l *Local) free(want Want, have Bindings) (netip.Addr, error) {
	if l.given == nil {
		l.given = map[netip.Addr]field.NodeName{}
	}
	if time.Since(l.looked) > lookAfter {
		busy, _, err := listening()
		if err != nil {
			return netip.Addr{}, err
		}
		l.busy, l.looked = busy, time.Now()
	}
	ours, used := map[int]bool{}, map[netip.Addr]bool{}
	note := func(a netip.Addr) { ours[blockOf(a)], used[a] = true, true }
	for _, b := range have {
		if a, err := netip.ParseAddr(b.Address); err == nil {
			note(a)
		}
	}
	for a, node := range l.given {
		if _, bound := have[node]; !bound && node != want.Node.Name { // promised, and not stored yet
			note(a)
		}
	}
	h := fnv.New32a()
	h.Write([]byte(l.Dir))
	block, next := int(h.Sum32()%blocks)+want.Place/perBlock, want.Place%perBlock
	for range blocks {
		b := firstBlock + block%blocks
		for i := range perBlock {
			a := netip.AddrFrom4([4]byte{127, byte(b >> 8), byte(b), byte((next+i)%perBlock + 1)})
			if l.busy[b] && !ours[b] {
				break
			}
			if !used[a] {
				l.given[a] = want.Node.Name
				return a, nil
			}
		}
		block++
	}
	return netip.Addr{}, fmt.Errorf("no addresses are left between 127.64.0.0 and 127.127.255.255")
}

// further gives the addresses of a node on all networks but the first: as the file says them, or from its main one.
func further(main string, want Want) (map[string]string, error) {
	if len(want.Networks) < 2 {
		return nil, nil
	}
	a, err := netip.ParseAddr(main)
	if err != nil || !a.Is4() {
		return nil, fmt.Errorf("%q is no address for %s", main, want.Node.Name)
	}
	out := map[string]string{}
	for i, network := range want.Networks[1:] {
		b := a.As4()
		n := int(b[1]) + perNetwork*(i+1)
		if out[network] = want.Node.Addresses[network]; out[network] != "" {
			continue
		}
		if n > 255 {
			return nil, fmt.Errorf("%s has no address left on the network %s: its main one, %s, is too high", want.Node.Name, network, main)
		}
		b[1] = byte(n)
		out[network] = netip.AddrFrom4(b).String()
	}
	return out, nil
}

// lookAfter is for how long it is believed in which blocks somebody listens.
const lookAfter = time.Second

func blockOf(a netip.Addr) int {
	b := a.As4()
	return int(b[1])<<8 | int(b[2])
}

// listening finds the addresses at which some process listens, and the blocks that they are in.
func listening() (blocks map[int]bool, addresses map[netip.Addr]bool, err error) {
	data, err := os.ReadFile("/proc/net/tcp")
	if err != nil {
		return nil, nil, fmt.Errorf("the addresses in use cannot be read: %w", err)
	}
	blocks, addresses = map[int]bool{}, map[netip.Addr]bool{}
	for _, line := range strings.Split(string(data), "\n") {
		f := strings.Fields(line)
		if len(f) < 4 || f[3] != "0A" || len(f[1]) < 8 {
			continue
		}
		if v, err := strconv.ParseUint(f[1][:8], 16, 32); err == nil && v&0xff == 127 { // lowest byte first
			a := netip.AddrFrom4([4]byte{byte(v), byte(v >> 8), byte(v >> 16), byte(v >> 24)})
			blocks[blockOf(a)], addresses[a] = true, true
		}
	}
	return blocks, addresses, nil
}

// errNoAgent says that no agent runs on a node.
var errNoAgent = errors.New("its agent does not run")

// errRebooted says why no agent runs on any node of a machine.
var errRebooted = errors.New("the machine was started again, and nothing starts by itself on it: start, deploy or open brings it back")

// ErrAdrift says that the agent of a node runs, and its folder is not there.
var ErrAdrift = errors.New("its agent runs, and its folder is gone: it was moved, deleted or unmounted. Put it back; or retire the field, which ends that agent and its members")

// Find reads where the agent answers, and checks that this very process lives.
func (l *Local) Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	end, err := l.endpoint(at.Dir)
	if err != nil {
		return nil, err
	}
	return l.client(node, end)
}

func (l *Local) client(node field.NodeName, end host.Endpoint) (agentapi.Agent, error) {
	if l.Authority == nil {
		return nil, errors.New("nothing is here by which its agent could be told from another")
	}
	l.party.Do(func() { l.us, l.failed = l.Authority.Controller() })
	if l.failed != nil {
		return nil, l.failed
	}
	c := agentapi.NewClient(end.URL, l.us.To(string(node)))
	c.Sign = func(request []byte) ([]byte, error) { return l.Authority.Sign(request, string(node)) }
	return c, nil
}

// errOld says that an agent of an older version runs, which must not be spoken to.
var errOld = errors.New("its agent is of an older version, which spoke without encryption; deploy, open or retire replaces it")

// endpoint finds the agent that runs on a node. An agent of an older version is given with errOld.
func (l *Local) endpoint(dir string) (host.Endpoint, error) {
	for _, name := range []string{host.EndpointFile(dir), host.OldEndpointFile(dir)} {
		var end host.Endpoint
		data, err := os.ReadFile(name)
		if err != nil || json.Unmarshal(data, &end) != nil {
			continue
		}
		if end.Rebooted() {
			return host.Endpoint{}, errRebooted
		}
		if !host.Lives(end.PID, end.StartTime) {
			continue
		}
		if !strings.HasPrefix(end.URL, "https://") {
			return end, errOld
		}
		return end, nil
	}
	return host.Endpoint{}, errNoAgent
}

// AgentPID gives the process of the agent whose folder that is.
func AgentPID(dir string) (int, error) {
	end, err := (&Local{}).endpoint(dir)
	return end.PID, err
}

// How long an agent may take to answer after its start, and how long one that runs is waited for to show who it is.
const (
	startWithin = 15 * time.Second
	showWithin  = time.Second
)

// Ensure starts the node's agent when it does not run. The agent is detached: it outlives this process. One that is of an older version,
// or cannot show that it is this node's, is ended and replaced: its members go on, and the next one finds them.
func (l *Local) Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	end, err := l.endpoint(at.Dir)
	switch {
	case err == nil:
		c, err := l.client(node, end)
		if err != nil {
			return nil, err
		}
		asking, cancel := context.WithTimeout(ctx, showWithin)
		defer cancel()
		if _, err := c.Standing(asking); !errors.Is(err, agentapi.ErrUntrusted) {
			return c, nil // whether it answers, who asks it next finds out
		}
		c.Close()
		fallthrough
	case errors.Is(err, errOld):
		if err := host.End(end, l.Binary, at.Dir); err != nil {
			return nil, fmt.Errorf("the agent of %s cannot be replaced: %w", node, err)
		}
	default:
		if _, err := os.Stat(at.Dir); err != nil && len(host.FindAgents(l.Binary, at.Dir)) > 0 {
			return nil, ErrAdrift
		}
	}
	if err := host.MakeFolders(at.Dir); err != nil {
		return nil, fmt.Errorf("the folder of %s cannot be made: %w", node, err)
	}
	log, err := os.OpenFile(filepath.Join(host.OwnFolder(at.Dir), "agent.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the log of the agent of %s cannot be written: %w", node, err)
	}
	defer log.Close()
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	defer ours.Close()
	line := host.Command(l.Binary, at.Dir, string(node), at.Address)
	cmd := exec.Command(line[0], line[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	cmd.ExtraFiles = []*os.File{theirs}
	cmd.Env = environment()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	theirs.Close()
	if err != nil {
		return nil, fmt.Errorf("the agent of %s cannot be started: %w", node, err)
	}
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	l.keepLogs()
	_ = ours.SetDeadline(time.Now().Add(startWithin))
	stop := context.AfterFunc(ctx, func() { _ = ours.SetDeadline(time.Now()) })
	defer stop()
	if _, err := l.Authority.Enrol(ours, string(node), l.Seal(node)); err != nil {
		_ = cmd.Process.Kill() // it shall not come up later, when nobody expects it
		<-ended
		if c, err := l.Find(ctx, node, at); err == nil { // another one was there first
			return c, nil
		}
		return nil, fmt.Errorf("the agent of %s did not come up; its log is %s", node, log.Name())
	}
	return l.Find(ctx, node, at)
}

// keepLogs has the logs of members bounded while their agents are away. One keeper serves all nodes; another one goes at once.
func (l *Local) keepLogs() {
	l.keeping.Do(func() {
		cmd := exec.Command(l.Binary, "keep-logs", "--nodes", l.Dir, "--lock", l.LogsLock)
		cmd.Dir, cmd.Env, cmd.SysProcAttr = "/", environment(), &syscall.SysProcAttr{Setsid: true}
		if err := cmd.Start(); err != nil {
			slog.Warn("logs are not bounded while agents are away", "error", err)
			return
		}
		go func() { _ = cmd.Wait() }()
	})
}

// pair makes the connection that an agent inherits from who starts it.
func pair() (ours net.Conn, theirs *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	mine := os.NewFile(uintptr(fds[0]), "enrolment")
	defer mine.Close()
	theirs = os.NewFile(uintptr(fds[1]), "enrolment")
	if ours, err = net.FileConn(mine); err != nil {
		theirs.Close()
	}
	return ours, theirs, err
}

// needed are the variables that agents get of the environment of whoever starts them. The rest is nobody's business on a node: an
// operator's environment holds tokens.
var needed = []string{"PATH", "HOME", "LANG", "TZ", "TMPDIR", "USER", "LOGNAME"}

func environment() []string {
	var env []string
	for _, name := range needed {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	return env
}

// Abandon ends an agent whose folder is gone, so that another can take down what it ran.
func (l *Local) Abandon(_ context.Context, _ field.NodeName, at state.Binding) error {
	var errs []error
	for _, pid := range host.FindAgents(l.Binary, at.Dir) {
		errs = append(errs, host.EndAdrift(pid, l.Binary, at.Dir))
	}
	return errors.Join(errs...)
}

// Found gives the nodes of which something is left: a folder with something in it, or a process that bears its mark.
func (l *Local) Found(ctx context.Context) Bindings {
	found := Bindings{}
	note := func(dir string) {
		if name := filepath.Base(dir); filepath.Dir(dir) == l.Dir && field.NamePattern.MatchString(name) {
			found[field.NodeName(name)] = state.Binding{Kind: kind.Local, Dir: dir}
		}
	}
	entries, _ := os.ReadDir(l.Dir)
	for _, e := range entries {
		for _, below := range []string{"members", "kept", "agent/keep", "keep"} {
			if held, _ := os.ReadDir(filepath.Join(l.Dir, e.Name(), below)); len(held) > 0 {
				note(filepath.Join(l.Dir, e.Name()))
			}
		}
	}
	for _, dir := range host.FoldersBelow(l.Dir) {
		note(dir)
	}
	return found
}

// SetAside ends the agent of a node, then what its members run, and keeps the folder beside those of the nodes.
func (l *Local) SetAside(ctx context.Context, node field.NodeName, at state.Binding) (kept string, err error) {
	if end, err := l.endpoint(at.Dir); err == nil || errors.Is(err, errOld) {
		if err := host.End(end, l.Binary, at.Dir); err != nil {
			return "", err
		}
	}
	if err := l.Abandon(ctx, node, at); err != nil {
		return "", err
	}
	if err := host.EndAll(ctx, at.Dir); err != nil {
		return "", err
	}
	host.RemoveGroups(at.Dir)
	aside := filepath.Join(filepath.Dir(l.Dir), "set-aside")
	if err := os.MkdirAll(aside, 0o700); err != nil {
		return "", err
	}
	kept = filepath.Join(aside, fmt.Sprintf("%s-%s", node, time.Now().UTC().Format("20060102T150405.000")))
	if err := os.Rename(at.Dir, kept); err != nil {
		if _, gone := os.Stat(at.Dir); errors.Is(gone, fs.ErrNotExist) {
			return "", nil
		}
		return "", err
	}
	return kept, nil
}

// Release ends the agent and removes its folder.
func (l *Local) Release(ctx context.Context, node field.NodeName, at state.Binding) error {
	if at.Address == "" {
		return nil // nothing was made for it
	}
	if end, err := l.endpoint(at.Dir); err == nil || errors.Is(err, errOld) {
		if err == nil {
			if c, err := l.client(node, end); err == nil {
				asking, cancel := context.WithTimeout(ctx, 2*time.Second)
				_ = c.Quit(asking)
				cancel()
				c.Close()
			}
		}
		deadline := time.Now().Add(10 * time.Second)
		for host.Lives(end.PID, end.StartTime) {
			if err := ctx.Err(); err != nil {
				return err
			}
			if time.Now().After(deadline) || errors.Is(err, errOld) {
				if err := host.End(end, l.Binary, at.Dir); err != nil {
					return fmt.Errorf("the agent of %s cannot be ended: %w", node, err)
				}
			}
			time.Sleep(2 * time.Millisecond)
		}
	}
	if err := os.RemoveAll(at.Dir); err != nil {
		return fmt.Errorf("the folder of %s cannot be removed: %w", node, err)
	}
	host.RemoveGroups(at.Dir)
	dir, err := os.Open(l.Dir) // that it is gone shall be so after a power loss too
	if err != nil {
		return nil
	}
	defer dir.Close()
	return dir.Sync()
}

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

	keeping sync.Once
	party   sync.Once
	us      *identity.Controller
	failed  error
}

// Addresses are taken from 127.64.0.0 to 127.127.255.0, a block of 250 at a time.
const (
	firstBlock = 64 << 8
	blocks     = 64 << 8
	perBlock   = 250
)

// Bind gives nodes addresses out of blocks in which nobody on this machine listens. The first block follows from the
// folder, so that a field keeps its neighbourhood when it is deployed anew.
func (l *Local) Bind(ctx context.Context, draft *field.Field, bound map[field.NodeName]state.Binding) (map[field.NodeName]state.Binding, error) {
	used := map[netip.Addr]bool{}
	ours := map[int]bool{}
	for _, b := range bound {
		if a, err := netip.ParseAddr(b.Address); err == nil {
			used[a] = true
			ours[blockOf(a)] = true
		}
	}
	busy, taken, err := listening()
	if err != nil {
		return nil, err
	}
	h := fnv.New32a()
	h.Write([]byte(l.Dir))
	block := int(h.Sum32() % blocks)
	out := map[field.NodeName]state.Binding{}
	next, tried := 1, 0
	nodes := draft.Possible()
	for i := range nodes {
		n, given := nodes[i].Name, draft.Given(&nodes[i])
		if b, ok := bound[n]; ok {
			if given != "" && given != b.Address {
				return nil, fmt.Errorf("%s has had the address %s since it was deployed, and the draft gives it %s: an address cannot change under those who know it. "+
					"Deploy without the node first, or give it another name", n, b.Address, given)
			}
			out[n] = b
			continue
		}
		if given != "" {
			a, err := netip.ParseAddr(given)
			if err != nil {
				return nil, fmt.Errorf("%q is no address for %s", given, n)
			}
			if taken[a] {
				return nil, fmt.Errorf("the address %s of %s is in use: something else listens there. Give the node another, or leave it out", given, n)
			}
			out[n] = state.Binding{Address: given, Dir: filepath.Join(l.Dir, string(n))}
			continue
		}
		for {
			b := firstBlock + block
			free := ours[b] || !busy[b]
			a := netip.AddrFrom4([4]byte{127, byte(b >> 8), byte(b), byte(next)})
			if next > perBlock || !free {
				if block, next, tried = (block+1)%blocks, 1, tried+1; tried > blocks {
					return nil, fmt.Errorf("no addresses are left between 127.64.0.0 and 127.127.255.255")
				}
				continue
			}
			next++
			if !used[a] {
				used[a] = true
				out[n] = state.Binding{Address: a.String(), Dir: filepath.Join(l.Dir, string(n))}
				break
			}
		}
	}
	return out, nil
}

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
func (l *Local) Found(ctx context.Context) map[field.NodeName]state.Binding {
	found := map[field.NodeName]state.Binding{}
	note := func(dir string) {
		if name := filepath.Base(dir); filepath.Dir(dir) == l.Dir && field.NamePattern.MatchString(name) {
			found[field.NodeName(name)] = state.Binding{Dir: dir}
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

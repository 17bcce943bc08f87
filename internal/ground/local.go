package ground

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"

	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

// Local makes nodes out of this machine: each has an address of its own in 127.0.0.0/8, a folder and an agent.
type Local struct {
	Party
	Dir    string // nodes have their folders in here
	Binary string // the program whose `agent` command is an agent

	LogsLock string // the lock of who bounds logs while agents are away

	mu     sync.Mutex
	given  map[netip.Addr]field.NodeName // since this process began
	busy   map[int]bool                  // blocks in which somebody listened when it was looked
	looked time.Time

	versions fit.Versions // of programs that were asked

	keeping sync.Once
}

// errNoAgent says that no agent runs on a node.
var errNoAgent = errors.New("its agent does not run")

// errSealed says why no agent is started.
var errSealed = errors.New("its agent does not run, and none is started while the keyring is sealed")

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
	return l.Client(node, end.URL, nil)
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
	// One whose folder was moved is not found by it. What it ran is ended too: nobody could be told to.
	if adrift := host.FindAgents(l.Binary, at.Dir); len(adrift) > 0 {
		if err := errors.Join(l.Abandon(ctx, node, at), host.EndAll(ctx, at.Dir)); err != nil {
			return fmt.Errorf("the agent of %s, whose folder is gone, cannot be ended: %w", node, err)
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

package ground

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"lanternfield/internal/agent"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
)

// Local makes nodes out of this machine: each has an address of its own in 127.0.0.0/8, a folder and an agent.
type Local struct {
	Dir    string // nodes have their folders in here
	Token  string
	Binary string // the program whose `agent` command is an agent
}

// Addresses are taken from 127.64.0.0 to 127.127.255.0, a block of 250 at a time.
const (
	firstBlock = 64 << 8
	blocks     = 64 << 8
	perBlock   = 250
)

// Bind gives nodes addresses out of blocks in which nobody on this machine listens. The first block follows from the
// folder, so that a field keeps its neighbourhood when it is deployed anew.
func (l *Local) Bind(draft *field.Field, bound map[field.NodeName]engine.Binding) (map[field.NodeName]engine.Binding, error) {
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
	out := map[field.NodeName]engine.Binding{}
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
			out[n] = engine.Binding{Address: given, Dir: filepath.Join(l.Dir, string(n))}
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
				out[n] = engine.Binding{Address: a.String(), Dir: filepath.Join(l.Dir, string(n))}
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

// Find reads where the agent answers, and checks that this very process lives.
func (l *Local) Find(_ field.NodeName, at engine.Binding) (*agent.Client, error) {
	end, err := endpoint(at.Dir)
	if err != nil {
		return nil, err
	}
	return agent.NewClient(end.URL, l.Token), nil
}

func endpoint(dir string) (agent.Endpoint, error) {
	var end agent.Endpoint
	data, err := os.ReadFile(filepath.Join(dir, "agent.json"))
	if err != nil || json.Unmarshal(data, &end) != nil {
		return end, errNoAgent
	}
	if !agent.Lives(end.PID, end.StartTime) {
		return end, errNoAgent
	}
	return end, nil
}

// AgentPID gives the process of the agent whose folder that is.
func AgentPID(dir string) (int, error) {
	end, err := endpoint(dir)
	return end.PID, err
}

// startWithin is how long an agent may take to answer after its start.
const startWithin = 15 * time.Second

// Ensure starts the node's agent when it does not run. The agent is detached: it outlives this process.
func (l *Local) Ensure(ctx context.Context, node field.NodeName, at engine.Binding) (*agent.Client, error) {
	if c, err := l.Find(node, at); err == nil {
		return c, nil
	}
	if err := os.MkdirAll(at.Dir, 0o711); err != nil {
		return nil, fmt.Errorf("the folder of %s cannot be made: %w", node, err)
	}
	if err := os.WriteFile(filepath.Join(at.Dir, "token"), []byte(l.Token), 0o600); err != nil {
		return nil, fmt.Errorf("the folder of %s cannot be written: %w", node, err)
	}
	log, err := os.OpenFile(filepath.Join(at.Dir, "agent.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the log of the agent of %s cannot be written: %w", node, err)
	}
	defer log.Close()
	read, write, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	cmd := exec.Command(l.Binary, "agent", "--dir", at.Dir, "--node", string(node), "--address", at.Address, "--ready-fd", "3")
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	cmd.ExtraFiles = []*os.File{write}
	// A controller may itself be run by a member of some field; its agents must not be taken for that member.
	cmd.Env = slices.DeleteFunc(os.Environ(), agent.Marks)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	write.Close()
	if err != nil {
		return nil, fmt.Errorf("the agent of %s cannot be started: %w", node, err)
	}
	go func() { _ = cmd.Wait() }()
	_ = read.SetReadDeadline(time.Now().Add(startWithin))
	stop := context.AfterFunc(ctx, func() { _ = read.SetReadDeadline(time.Now()) })
	defer stop()
	if _, err := bufio.NewReader(read).ReadString('\n'); err != nil {
		if c, err := l.Find(node, at); err == nil { // another one was there first
			return c, nil
		}
		return nil, fmt.Errorf("the agent of %s did not come up; its log is %s", node, log.Name())
	}
	return l.Find(node, at)
}

// Release ends the agent and removes its folder.
func (l *Local) Release(ctx context.Context, node field.NodeName, at engine.Binding) error {
	if end, err := endpoint(at.Dir); err == nil {
		c := agent.NewClient(end.URL, l.Token)
		asking, cancel := context.WithTimeout(ctx, 2*time.Second)
		_ = c.Quit(asking)
		cancel()
		c.Close()
		deadline := time.Now().Add(10 * time.Second)
		for agent.Lives(end.PID, end.StartTime) {
			if err := ctx.Err(); err != nil {
				return err
			}
			if time.Now().After(deadline) {
				if err := agent.Kill(end.PID, end.StartTime); err != nil {
					return fmt.Errorf("the agent of %s (process %d) cannot be ended: %w", node, end.PID, err)
				}
			}
			time.Sleep(2 * time.Millisecond)
		}
	}
	if err := os.RemoveAll(at.Dir); err != nil {
		return fmt.Errorf("the folder of %s cannot be removed: %w", node, err)
	}
	return nil
}

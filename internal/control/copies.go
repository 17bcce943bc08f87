package control

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/identity"
)

// Whoever has lost the state folder finds it again at the nodes: some agents keep a sealed copy of it, as it was when the field had last settled.
const (
	copyHolders = 3
	copyTries   = 2
	copyWait    = 20 * time.Second
	copyPause   = 500 * time.Millisecond
	copyRoom    = 16 << 20 // that a disk must have free besides what making a copy takes
)

// copyStamp is another one whenever a copy of the state is worth having: after agents were ordered anything, and after a change of authorities, secrets
// or what other fields hand over.
func copyStamp(s *state.State) string {
	var b strings.Builder
	fmt.Fprint(&b, s.Log, s.Revision, s.Drafts, s.Rollout.What, s.Rollout.Ended.UnixNano(), s.AuthorityCount, len(s.Authorities), s.LinkCount, s.GrantCount, len(s.Grants))
	for _, name := range slices.Sorted(maps.Keys(s.Secrets)) {
		fmt.Fprint(&b, name, s.Secrets[name].Number)
	}
	sum := sha256.Sum256([]byte(b.String()))
	return hex.EncodeToString(sum[:10])
}

func (f Folder) copiedFile() string { return filepath.Join(f.own(), "copied") }

// copiedStamp is the stamp of the state of which agents were given a copy last.
func (f Folder) copiedStamp() string {
	data, _ := os.ReadFile(f.copiedFile())
	return strings.TrimSpace(string(data))
}

// copyDue tells whether agents are to be given a copy of the state as it is; the state must be settled, and nothing else may hold it.
func (c *Controller) copyDue() bool {
	s := c.state
	if c.sealed != nil || !s.Deployed() || s.Retiring || s.Listening() > 0 || s.Refused() || len(holders(s)) == 0 {
		return false
	}
	stamp := copyStamp(s)
	return c.copied != stamp && (c.copying.digest != stamp || c.copying.tries < copyTries)
}

// copyAnew has agents given a copy, whatever they have.
func (c *Controller) copyAnew() {
	c.mu.Lock()
	c.copied, c.copying = "", told{}
	c.mu.Unlock()
	c.wake()
}

// keepCopies gives agents a copy of the state whenever the field has settled.
func (c *Controller) keepCopies(ctx context.Context) {
	for ctx.Err() == nil {
		changed := c.Changed()
		c.mu.Lock()
		due := engine.Settled(c.state) && c.copyDue()
		c.mu.Unlock()
		if due && c.copyOut(ctx) {
			continue
		}
		again := time.NewTimer(copyPause)
		if !due {
			again.Stop()
		}
		select {
		case <-ctx.Done():
		case <-changed:
		case <-again.C:
		}
		again.Stop()
	}
}

// copyOut makes a copy and gives it to some agents. It tells whether that was done.
func (c *Controller) copyOut(ctx context.Context) bool {
	s := c.current()
	stamp := copyStamp(s)
	given, err := c.giveCopies(ctx, s)
	if ctx.Err() != nil {
		return false
	}
	if err == nil {
		err = identity.WriteSynced(c.folder.copiedFile(), []byte(stamp+"\n"))
	}
	c.mu.Lock()
	if c.copying.digest != stamp {
		c.copying = told{digest: stamp}
	}
	if c.copying.tries++; err == nil {
		c.copied = stamp
	}
	c.mu.Unlock()
	if err != nil {
		slog.Warn("agents cannot be given a copy of the field's state", "error", err)
		return false
	}
	slog.Info("agents have a sealed copy of the field's state", "nodes", given)
	return true
}

func (c *Controller) giveCopies(ctx context.Context, s *state.State) (given []field.NodeName, err error) {
	if info, err := os.Stat(c.folder.events()); err == nil {
		var fs unix.Statfs_t
		if room := 4*info.Size() + copyRoom; unix.Statfs(c.folder.own(), &fs) == nil && int64(fs.Bavail)*fs.Bsize < room {
			return nil, fmt.Errorf("the disk is nearly full: %s are free, and making a copy takes %s", field.Bytes(int64(fs.Bavail)*fs.Bsize), field.Bytes(room))
		}
	}
	dir, err := os.MkdirTemp(c.folder.own(), "backup-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "copy")
	done, err := c.folder.backUpTo(name)
	if err != nil {
		return nil, err
	}
	if done.Bytes > agentapi.CopyMost {
		return nil, fmt.Errorf("with %s it is larger than the %s that agents take; back the field up (`lanternfield backup`)", field.Bytes(done.Bytes), field.Bytes(agentapi.CopyMost))
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, copyWait)
	defer cancel()
	var mu sync.Mutex
	var giving sync.WaitGroup
	var errs []error
	for _, node := range holders(s) {
		giving.Go(func() {
			err := c.giveCopy(ctx, node, s.Nodes[node].Binding(), data)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", node, err))
				return
			}
			given = append(given, node)
		})
	}
	giving.Wait()
	slices.Sort(given)
	if len(given) == 0 {
		return nil, errors.Join(append(errs, errors.New("no agent has taken it"))...)
	}
	return given, nil
}

func (c *Controller) giveCopy(ctx context.Context, node field.NodeName, at state.Binding, data []byte) error {
	agent, err := c.ground.Find(ctx, node, at)
	if err != nil {
		return err
	}
	defer agent.Close()
	return agent.Copy(ctx, data)
}

// holders chooses whose agents keep a copy: as many as are needed, in other zones where there are some.
func holders(s *state.State) []field.NodeName {
	var out []field.NodeName
	seen := map[field.ZoneName]bool{}
	for _, again := range []bool{false, true} {
		for _, n := range state.SortedNodes(s) {
			if len(out) == copyHolders {
				return out
			}
			declared := s.Field.Node(n.Name)
			if declared == nil || !n.There() || n.Released || n.Releasing || n.Unreachable || slices.Contains(out, n.Name) || seen[declared.Zone] && !again {
				continue
			}
			seen[declared.Zone] = true
			out = append(out, n.Name)
		}
	}
	return out
}

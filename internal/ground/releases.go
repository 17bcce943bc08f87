package ground

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/identity"
)

// Releases knows which agents on machines of their own are of the release that is carried.
type Releases struct {
	mu       sync.Mutex
	replaced map[field.NodeName]replacing
}

// replacing is how often an agent with a program of that checksum was to be replaced.
type replacing struct {
	program string
	tries   int
}

// mostReplaced is how often an agent is to be replaced by this process, where that does not come to anything.
const mostReplaced = 5

// Newest tells whether an agent is the one that is carried. One that could not be replaced in some tries is left as it is by this process.
func (r *Releases) Newest(node field.NodeName, s order.Standing) bool {
	programs, err := carried.For(s.Arch)
	if err != nil {
		return true // there is none to replace it with
	}
	if slices.ContainsFunc(programs, func(p carried.Program) bool { return p.Sum == s.Program }) {
		return true
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.replaced[node]
	if now.program != s.Program {
		now = replacing{program: s.Program}
	}
	if now.tries++; now.tries > mostReplaced {
		return true
	}
	if r.replaced == nil {
		r.replaced = map[field.NodeName]replacing{}
	}
	r.replaced[node] = now
	return false
}

// farWithin is how long an agent on a machine of its own that is thought to run is waited for to show who it is.
const farWithin = 1500 * time.Millisecond

// Shows has an agent show who it is.
func Shows(ctx context.Context, c *agentapi.Client) (order.Standing, error) {
	asking, cancel := context.WithTimeout(ctx, farWithin)
	defer cancel()
	return c.Standing(asking)
}

// Spoken refuses an agent that speaks what this program does not, and closes its client.
func Spoken(c *agentapi.Client, s order.Standing) (agentapi.Agent, error) {
	if s.Speaks > order.Speaks {
		c.Close()
		return nil, fmt.Errorf("its agent is of a newer lanternfield (it speaks version %d, and this one %d): go on with that one", s.Speaks, order.Speaks)
	}
	return c, nil
}

// Notes are what is noted of nodes, a file for each, in a folder that may be lost.
type Notes string

func (n Notes) file(node field.NodeName) string {
	return filepath.Join(string(n), string(node)+".json")
}

// Read reads what is noted of a node; it tells whether there is anything.
func (n Notes) Read(node field.NodeName, into any) bool {
	data, err := os.ReadFile(n.file(node))
	return err == nil && json.Unmarshal(data, into) == nil
}

// Write notes something of a node.
func (n Notes) Write(node field.NodeName, what any) error {
	if err := os.MkdirAll(string(n), 0o700); err != nil {
		return err
	}
	data, err := json.Marshal(what)
	if err != nil {
		return err
	}
	return identity.WriteSynced(n.file(node), data)
}

// Nodes are those of which something is noted.
func (n Notes) Nodes() []field.NodeName {
	files, _ := filepath.Glob(n.file("*"))
	var nodes []field.NodeName
	for _, f := range files {
		nodes = append(nodes, field.NodeName(strings.TrimSuffix(filepath.Base(f), ".json")))
	}
	return nodes
}

// Forget forgets it.
func (n Notes) Forget(node field.NodeName) { _ = os.Remove(n.file(node)) }

// AwaitedError says that a node is not there since somebody has to bring it, and nothing is wrong.
type AwaitedError struct{ Why string }

func (e *AwaitedError) Error() string { return e.Why }

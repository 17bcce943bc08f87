package control

import (
	"context"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// Past gives the field as it was at that moment.
func (c *Controller) Past(_ context.Context, at time.Time) (*snapshot.Snapshot, error) {
	return c.folder.past(at)
}

func (f Folder) past(at time.Time) (*snapshot.Snapshot, error) {
	fold, done, err := f.folder(nil)
	if err != nil {
		return nil, err
	}
	defer done()
	then, err := fold.At(at)
	if err != nil {
		return nil, err
	}
	s := snapshot.Of(then, at)
	if s.Field == "" {
		s.Field = fieldName(f)
	}
	return s, nil
}

// How long an agent may take to give lines, and how many bytes of them all together are asked for at first.
const (
	linesWait = 1500 * time.Millisecond
	linesMost = 2 << 20
)

// Lines asks the agents for what their members wrote.
func (c *Controller) Lines(ctx context.Context, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	perNode := map[field.NodeName][]field.MemberName{}
	at := map[field.NodeName]state.Binding{}
	c.mu.Lock()
	for name := range after {
		m := c.state.Members[name]
		if m == nil || m.Phase == state.Gone || m.Phase == state.Planned {
			continue
		}
		if n := c.state.Nodes[m.Node]; n != nil && !n.Released && !n.Unreachable && n.There() {
			perNode[m.Node] = append(perNode[m.Node], name)
			at[m.Node] = n.Binding()
		}
	}
	c.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, linesWait)
	defer cancel()
	lines := map[field.MemberName]agentapi.Log{}
	var mu sync.Mutex
	var asking sync.WaitGroup
	for node, members := range perNode {
		asking.Go(func() {
			client, err := c.ground.Find(ctx, node, at[node])
			if err != nil {
				return
			}
			defer client.Close()
			for _, m := range members {
				log, err := client.Log(ctx, m, after[m], linesMost/len(after))
				if err != nil {
					continue
				}
				mu.Lock()
				lines[m] = *log
				mu.Unlock()
			}
		})
	}
	asking.Wait()
	return lines, nil
}

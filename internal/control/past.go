package control

import (
	"context"
	"sync"
	"time"

	"lanternfield/internal/agentapi"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
	"lanternfield/internal/store"
)

// history keeps the events that were read last, so that walking through time reads each of them once.
type history struct {
	mu     sync.Mutex
	events []state.Event
	last   uint64
	used   time.Time
}

// historyKept is how long events stay in memory after the last look at the past.
const historyKept = 2 * time.Minute

// upTo reads what has been stored since the last look.
func (h *history) upTo(f Folder) ([]state.Event, error) {
	log, err := store.OpenToRead(f.events())
	if err != nil {
		return nil, err
	}
	defer log.Close()
	h.mu.Lock()
	defer h.mu.Unlock()
	err = log.Read(h.last, func(e store.Stored) error {
		h.events, h.last = append(h.events, e.Event), e.Seq
		return nil
	})
	used := time.Now()
	h.used = used
	time.AfterFunc(historyKept, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.used.Equal(used) {
			h.events, h.last = nil, 0
		}
	})
	return h.events[:len(h.events):len(h.events)], err
}

// Past gives the field as it was at that moment.
func (c *Controller) Past(_ context.Context, at time.Time) (*snapshot.Snapshot, error) {
	events, err := c.history.upTo(c.folder)
	if err != nil {
		return nil, err
	}
	s := snapshot.Of(state.Rewind(events, at), at)
	if s.Field == "" {
		s.Field = fieldName(c.folder)
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
		if n := c.state.Nodes[m.Node]; n != nil && !n.Released && !n.Dark {
			perNode[m.Node] = append(perNode[m.Node], name)
			at[m.Node] = state.Binding{Address: n.Address, Dir: n.Dir}
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
			client, err := c.ground.Find(node, at[node])
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

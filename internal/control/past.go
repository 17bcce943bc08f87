package control

import (
	"context"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
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
	c.mu.Lock()
	at := whereLinesAre(c.state, after)
	c.mu.Unlock()
	return linesOf(ctx, c.ground, at, after), nil
}

// LookLines gives what members of a field wrote: through who keeps it, or, where nobody does, from their agents.
func LookLines(ctx context.Context, f Folder, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if lines, err := r.Lines(ctx, after); err == nil {
			return lines, nil
		}
	}
	s, err := readState(f)
	if err != nil {
		return nil, err
	}
	g, err := f.ground()
	if err != nil {
		return nil, err
	}
	return linesOf(ctx, g, whereLinesAre(s, after), after), nil
}

// LookMembers names the members of a deployed field that are meant by words: names of members, roles or nodes; all without any.
func LookMembers(f Folder, what []string) ([]field.MemberName, error) {
	s, err := readState(f)
	if err != nil {
		return nil, err
	}
	return engine.Choose(s, what)
}

// standing is members of one node, and where that is.
type standing struct {
	at      state.Binding
	members []field.MemberName
}

// whereLinesAre finds the nodes of members that have written, or may have.
func whereLinesAre(s *state.State, after map[field.MemberName]int64) map[field.NodeName]standing {
	out := map[field.NodeName]standing{}
	for name := range after {
		m := s.Members[name]
		if m == nil || m.Phase == state.Gone || m.Phase == state.Planned {
			continue
		}
		if n := s.Nodes[m.Node]; n != nil && !n.Released && !n.Unreachable && n.There() {
			out[m.Node] = standing{n.Binding(), append(out[m.Node].members, name)}
		}
	}
	return out
}

// linesOf asks the agents of nodes at the same time. Those that do not answer are left out.
func linesOf(ctx context.Context, g ground.Ground, where map[field.NodeName]standing, after map[field.MemberName]int64) map[field.MemberName]agentapi.Log {
	ctx, cancel := context.WithTimeout(ctx, linesWait)
	defer cancel()
	lines := map[field.MemberName]agentapi.Log{}
	var mu sync.Mutex
	var asking sync.WaitGroup
	for node, there := range where {
		asking.Go(func() {
			client, err := g.Find(ctx, node, there.at)
			if err != nil {
				return
			}
			defer client.Close()
			for _, m := range there.members {
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
	return lines
}

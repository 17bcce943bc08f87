package control

import (
	"context"
	"fmt"
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
	for i := range s.Members {
		s.Members[i].Judge(at)
	}
	s.Judged()
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

// LineReader reads what members of a field write, again and again, without holding the field.
type LineReader struct {
	folder Folder
	state  *state.State
	folded time.Time // when the state was that of the log
}

// stateFor is for how long a reader goes on with what it knows of where members are.
const stateFor = 5 * time.Second

// ReadLines begins to read what members write, and names those that are meant by words: names of members, roles or nodes; all without any.
func ReadLines(f Folder, what []string) (*LineReader, []field.MemberName, error) {
	s, err := readState(f)
	if err != nil {
		return nil, nil, err
	}
	members, err := engine.Choose(s, zonesAsNodes(s, what))
	if near := zoneNear(s, what); err != nil && near != "" {
		err = fmt.Errorf("%w; or did you mean the zone %q?", err, near)
	}
	return &LineReader{f, s, time.Now()}, members, err
}

// zoneNear finds a zone that one of the words is nearly the name of.
func zoneNear(s *state.State, what []string) string {
	if s.Field == nil {
		return ""
	}
	var zones []string
	for _, z := range s.Field.Zones() {
		zones = append(zones, string(z))
	}
	for _, word := range what {
		if near := field.Nearest(word, zones); near != "" && near != word {
			return near
		}
	}
	return ""
}

// zonesAsNodes puts the nodes of zones in their place.
func zonesAsNodes(s *state.State, what []string) []string {
	if s.Field == nil {
		return what
	}
	held := map[field.NodeName]bool{}
	for _, m := range s.Members {
		held[m.Node] = held[m.Node] || m.Phase != state.Gone
	}
	var out []string
	for _, word := range what {
		var nodes []string
		for _, n := range s.Field.Nodes {
			if string(n.Zone) == word && s.Field.Role(field.RoleName(word)) == nil && held[n.Name] {
				nodes = append(nodes, string(n.Name))
			}
		}
		if len(nodes) == 0 {
			nodes = []string{word}
		}
		out = append(out, nodes...)
	}
	return out
}

// Next gives what came after the given places: through who keeps the field, or, where nobody does, from the agents.
func (l *LineReader) Next(ctx context.Context, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	if r, err := dial(ctx, l.folder); err == nil {
		defer r.Close()
		if lines, err := r.Lines(ctx, after); err == nil {
			return lines, nil
		}
	}
	if time.Since(l.folded) > stateFor {
		s, err := readState(l.folder)
		if err != nil {
			return nil, err
		}
		l.state, l.folded = s, time.Now()
	}
	g, err := l.folder.ground(l.state)
	if err != nil {
		return nil, err
	}
	return linesOf(ctx, g, whereLinesAre(l.state, after), after), nil
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

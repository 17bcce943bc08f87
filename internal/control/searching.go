package control

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
)

// SearchAsked says which lines of members are looked for where they were written. The filter's names say whose.
type SearchAsked struct {
	Filter journal.Filter             `json:"filter"`
	Since  time.Time                  `json:"since,omitzero"`
	Until  time.Time                  `json:"until,omitzero"`
	Before map[field.MemberName]int64 `json:"before,omitempty"` // see agentapi.Search; with it, members that are not in it are left out
	On     bool                       `json:"on,omitempty"`     // it goes on: only those in Before are searched
	Most   int                        `json:"most,omitempty"`   // lines of each member
	Within time.Duration              `json:"within,omitempty"` // after that time there is an answer
}

// SearchFound is what came of it.
type SearchFound struct {
	agentapi.Found
	Silent []field.MemberName `json:"silent,omitempty"` // whose agents do not answer
}

// How long an agent may search before it gives what it has, and how much longer it may take to say so.
const (
	searchUsual = 250 * time.Millisecond
	searchLate  = 2 * time.Second
)

// Search looks for lines of members on their nodes, the newest first.
func (c *Controller) Search(ctx context.Context, ask SearchAsked) (*SearchFound, error) {
	c.mu.Lock()
	at, silent := ask.where(c.state)
	c.mu.Unlock()
	return ask.of(ctx, c.ground, at, silent)
}

// Search does the same without holding the field.
func (l *LineReader) Search(ctx context.Context, ask SearchAsked) (*SearchFound, error) {
	if r, err := dial(ctx, l.folder); err == nil {
		defer r.Close()
		if found, err := r.Search(ctx, ask); err == nil {
			return found, nil
		}
	}
	g, err := l.folder.ground(l.state)
	if err != nil {
		return nil, err
	}
	at, silent := ask.where(l.state)
	return ask.of(ctx, g, at, silent)
}

// Names is what the words of a filter are understood by.
func (l *LineReader) Names() journal.Names {
	n := journal.Names{Roles: map[field.RoleName]bool{}, Nodes: map[field.NodeName]bool{}, Zones: map[field.ZoneName]bool{}, Members: map[field.MemberName]bool{}}
	for name, m := range l.state.Members {
		n.Members[name], n.Roles[m.Role], n.Nodes[m.Node] = true, true, true
		if l.state.Field != nil {
			if of := l.state.Field.Node(m.Node); of != nil {
				n.Zones[of.Zone] = true
			}
		}
	}
	return n
}

// where finds the nodes of those whose lines are looked for, and who of them cannot be reached.
func (ask SearchAsked) where(s *state.State) (map[field.NodeName]standing, []field.MemberName) {
	after := map[field.MemberName]int64{}
	for name, m := range s.Members {
		x := journal.Of{Member: name, Role: m.Role, Node: m.Node}
		if s.Field != nil {
			if n := s.Field.Node(m.Node); n != nil {
				x.Zone = n.Zone
			}
		}
		_, goesOn := ask.Before[name]
		if (!ask.On || goesOn) && ask.Filter.Whose(x) {
			after[name] = 0
		}
	}
	at := whereLinesAre(s, after)
	for _, there := range at {
		for _, m := range there.members {
			delete(after, m)
		}
	}
	return at, slices.DeleteFunc(slices.Sorted(maps.Keys(after)), func(name field.MemberName) bool {
		m := s.Members[name]
		return m.Phase == state.Gone || m.Phase == state.Planned
	})
}

// of asks the agents of nodes at the same time.
func (ask SearchAsked) of(ctx context.Context, g ground.Ground, at map[field.NodeName]standing, silent []field.MemberName) (*SearchFound, error) {
	filter, err := ask.Filter.OfLines().Ready()
	if err != nil {
		return nil, err
	}
	if ask.Within <= 0 {
		ask.Within = searchUsual
	}
	ctx, cancel := context.WithTimeout(ctx, ask.Within+searchLate)
	defer cancel()
	out := &SearchFound{Found: agentapi.Found{Lines: map[field.MemberName][]logline.Line{}, Left: map[field.MemberName]int64{}}, Silent: silent}
	var mu sync.Mutex
	var asking sync.WaitGroup
	for node, there := range at {
		asking.Go(func() {
			found, err := searchAt(ctx, g, node, there, agentapi.Search{Members: there.members, Filter: filter, Since: ask.Since, Until: ask.Until, Before: ask.Before, Most: ask.Most, Within: ask.Within})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				out.Silent = append(out.Silent, there.members...)
				return
			}
			maps.Copy(out.Lines, found.Lines)
			maps.Copy(out.Left, found.Left)
			out.Read += found.Read
			out.Rest += found.Rest
		})
	}
	asking.Wait()
	slices.Sort(out.Silent)
	return out, nil
}

func searchAt(ctx context.Context, g ground.Ground, node field.NodeName, there standing, s agentapi.Search) (*agentapi.Found, error) {
	client, err := g.Find(ctx, node, there.at)
	if err != nil {
		return nil, err
	}
	defer client.Close()
	return client.Search(ctx, s)
}

// Package board draws the field: nodes as posts standing in the ground of their zones, roles as rows in the order of
// deployment, members as lanterns where post and role cross.
package board

import (
	"slices"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

// Model is what a board shows: the live field with the draft's unsent changes laid over it.
type Model struct {
	Zones []Zone
	Roles []Role
	Snap  *engine.Snapshot
	// Added and Removed count the draft's unsent members.
	Added, Removed, Changed int
}

// Zone is a zone with its nodes, in the order of the file.
type Zone struct {
	Name  field.ZoneName
	Nodes []engine.NodeView
}

// Role is a row.
type Role struct {
	engine.RoleView
	Draft   int // members that the draft wants
	Members []Member
}

// Member is a lantern.
type Member struct {
	engine.MemberView
	Unsent  bool // only the draft has it
	Removal bool // the draft has it no more
}

// Build lays the draft over the live field. Draft and review may be nil.
func Build(snap *engine.Snapshot, draft *field.Field, review *plan.Review) *Model {
	m := &Model{Snap: snap}
	live := snap
	if draft != nil && (snap.State == engine.StateDraft || snap.State == engine.StateRetired || len(snap.Roles) == 0) {
		live = engine.SnapDraft(draft, snap.At)
		m.Snap = live
		if snap.State == engine.StateRetired {
			live.State, live.Verdict = snap.State, snap.Verdict
		}
	}
	for _, n := range live.Nodes {
		i := slices.IndexFunc(m.Zones, func(z Zone) bool { return z.Name == n.Zone })
		if i < 0 {
			m.Zones = append(m.Zones, Zone{Name: n.Zone})
			i = len(m.Zones) - 1
		}
		m.Zones[i].Nodes = append(m.Zones[i].Nodes, n)
	}
	removed := map[field.MemberName]bool{}
	if review != nil {
		for _, s := range review.Steps {
			switch s.Kind {
			case plan.Take:
				removed[s.Member] = true
				m.Removed++
			case plan.Change:
				m.Changed++
			}
		}
	}
	for _, r := range live.Roles {
		row := Role{RoleView: r, Draft: r.Want}
		for _, member := range live.Members {
			if member.Role == r.Role {
				row.Members = append(row.Members, Member{MemberView: member, Removal: removed[member.Member]})
			}
		}
		m.Roles = append(m.Roles, row)
	}
	m.addUnsent(draft, review)
	return m
}

// addUnsent adds what only the draft has: nodes, roles and members.
func (m *Model) addUnsent(draft *field.Field, review *plan.Review) {
	if draft == nil || review == nil {
		return
	}
	for _, n := range draft.Nodes {
		i := slices.IndexFunc(m.Zones, func(z Zone) bool { return z.Name == n.Zone })
		if i < 0 {
			m.Zones = append(m.Zones, Zone{Name: n.Zone})
			i = len(m.Zones) - 1
		}
		if !slices.ContainsFunc(m.Zones[i].Nodes, func(v engine.NodeView) bool { return v.Node == n.Name }) {
			m.Zones[i].Nodes = append(m.Zones[i].Nodes, engine.NodeView{Node: n.Name, Zone: n.Zone, Offered: n.Size})
		}
	}
	stages := plan.StageOf(draft)
	for _, r := range draft.Roles {
		i := slices.IndexFunc(m.Roles, func(row Role) bool { return row.Role == r.Name })
		if i < 0 {
			m.Roles = append(m.Roles, Role{RoleView: engine.RoleView{Role: r.Name, Kind: r.Kind, Stage: stages[r.Name], Votes: r.Votes, Survives: -1}})
			i = len(m.Roles) - 1
		}
		m.Roles[i].Draft = r.Members
	}
	slices.SortStableFunc(m.Roles, func(a, b Role) int { return a.Stage - b.Stage })
	for _, s := range review.Steps {
		if s.Kind != plan.Start {
			continue
		}
		i := slices.IndexFunc(m.Roles, func(row Role) bool { return row.Role == s.Role })
		if i < 0 || slices.ContainsFunc(m.Roles[i].Members, func(x Member) bool { return x.Member == s.Member }) {
			continue
		}
		m.Added++
		m.Roles[i].Members = append(m.Roles[i].Members, Member{Unsent: true, MemberView: engine.MemberView{
			Member: s.Member, Role: s.Role, Node: s.Node, Zone: s.Zone, Phase: engine.Planned}})
	}
	m.reserve(draft)
}

// reserve counts what unsent members would take of their nodes.
func (m *Model) reserve(draft *field.Field) {
	for _, row := range m.Roles {
		role := draft.Role(row.Role)
		if role == nil {
			continue
		}
		for _, member := range row.Members {
			if !member.Unsent {
				continue
			}
			for z := range m.Zones {
				for n := range m.Zones[z].Nodes {
					if v := &m.Zones[z].Nodes[n]; v.Node == member.Node {
						v.Used.CPU += role.Room.CPU
						v.Used.Memory += role.Room.Memory
						v.Used.Disk += role.Room.Disk
					}
				}
			}
		}
	}
}

// Nodes lists the posts from left to right.
func (m *Model) Nodes() []engine.NodeView {
	var nodes []engine.NodeView
	for _, z := range m.Zones {
		nodes = append(nodes, z.Nodes...)
	}
	return nodes
}

// At gives the lanterns where a post and a role cross.
func (r *Role) At(node field.NodeName) []Member {
	var at []Member
	for _, m := range r.Members {
		if m.Node == node {
			at = append(at, m)
		}
	}
	return at
}

// Cursor is where the person stands: on a role's row and a node's post, both counted from 0, and on which of the
// lanterns there. A Node of -1 means the role itself, a Role of -1 the node itself.
type Cursor struct{ Role, Node, Lantern int }

// Move takes a step and stays on the board.
func (m *Model) Move(c Cursor, dx, dy int) Cursor {
	nodes := m.Nodes()
	if dx != 0 {
		here := m.lanternsAt(c)
		switch {
		case dx > 0 && c.Lantern+1 < here:
			c.Lantern++
			return c
		case dx < 0 && c.Lantern > 0:
			c.Lantern--
			return c
		}
		c.Node = min(max(c.Node+dx, -1), len(nodes)-1)
		c.Lantern = 0
		if dx < 0 {
			c.Lantern = max(0, m.lanternsAt(c)-1)
		}
	}
	if dy != 0 {
		c.Role = min(max(c.Role+dy, -1), len(m.Roles)-1)
		c.Lantern = 0
	}
	return m.Keep(c)
}

// Keep brings a cursor back onto a board that has changed.
func (m *Model) Keep(c Cursor) Cursor {
	c.Role = min(max(c.Role, -1), len(m.Roles)-1)
	c.Node = min(max(c.Node, -1), len(m.Nodes())-1)
	if c.Role == -1 && c.Node == -1 {
		c.Role = min(0, len(m.Roles)-1)
	}
	c.Lantern = min(max(c.Lantern, 0), max(0, m.lanternsAt(c)-1))
	return c
}

func (m *Model) lanternsAt(c Cursor) int {
	nodes := m.Nodes()
	if c.Role < 0 || c.Node < 0 || c.Role >= len(m.Roles) || c.Node >= len(nodes) {
		return 0
	}
	return len(m.Roles[c.Role].At(nodes[c.Node].Node))
}

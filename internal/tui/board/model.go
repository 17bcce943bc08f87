// Package board draws the field: nodes as posts standing in the ground of their zones, roles as rows in the order of
// deployment, members as lanterns where post and role cross.
package board

import (
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/whatif"
)

// Model is what a board shows: the live field with the draft's unsent changes laid over it.
type Model struct {
	Zones []Zone
	Roles []Role
	Snap  *snapshot.Snapshot
	// Added and Removed count the draft's unsent members.
	Added, Removed, Changed int

	supposed bool // a failure is laid over it
	scene    *whatif.Scene
	fault    whatif.Fault // whose loss was asked for last
	loss     *whatif.Loss

	Posts []Post
	fit   fitted // what Posts were made for

	node map[field.NodeName][2]int // where a node stands: its zone, and its place there
	zone map[field.ZoneName]int
}

// Zone is a zone with its nodes, in the order of the file.
type Zone struct {
	Name  field.ZoneName
	Nodes []snapshot.NodeView
}

// Role is a row.
type Role struct {
	snapshot.RoleView
	Draft   int // members that the draft wants
	Members []Member

	lost  *whatif.RoleLoss // what the failure that is supposed would cost it
	waits string           // the gate that keeps members from being started
	at    map[int][]int    // for each post, which of Members hang there
}

// Member is a lantern.
type Member struct {
	*snapshot.MemberView      // of the snapshot; never changed here
	Unsent               bool // only the draft has it
	Removal              bool // the draft has it no more
	Pinned               bool // the draft says by hand where it stands

	Lost      bool // would go dark by the failure that is supposed
	Concerned bool // is what a finding speaks of
	Marked    bool // by the person, for what is done to several at once

	Lately  []string // its last lines, where somebody has asked for them
	Reasons []string // why it stands where it does, likewise
}

// Build lays the draft over the live field. Draft and review may be nil.
func Build(snap *snapshot.Snapshot, draft *field.Field, review *plan.Review) *Model {
	m := &Model{Snap: snap}
	live := snap
	if draft != nil && (snap.State == snapshot.Draft || snap.State == snapshot.Retired || len(snap.Roles) == 0) {
		live = snapshot.OfDraft(draft, snap.At)
		m.Snap = live
		if snap.State == snapshot.Retired {
			live.State, live.Verdict = snap.State, snap.Verdict
		}
	}
	m.zone = map[field.ZoneName]int{}
	m.node = make(map[field.NodeName][2]int, len(live.Nodes))
	perZone := map[field.ZoneName]int{}
	for i := range live.Nodes {
		perZone[live.Nodes[i].Zone]++
	}
	for i := range live.Nodes {
		n := &live.Nodes[i]
		if _, ok := m.zone[n.Zone]; !ok {
			m.zone[n.Zone] = len(m.Zones)
			m.Zones = append(m.Zones, Zone{Name: n.Zone, Nodes: make([]snapshot.NodeView, 0, perZone[n.Zone])})
		}
		m.addNode(*n)
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
	rows := make(map[field.RoleName]int, len(live.Roles))
	for _, r := range live.Roles {
		rows[r.Role] = len(m.Roles)
		m.Roles = append(m.Roles, Role{RoleView: r, Draft: r.Want})
	}
	for i := range m.Roles {
		m.Roles[i].Members = make([]Member, 0, m.Roles[i].Want+2)
	}
	i, ok := 0, false
	for j := range live.Members {
		member := &live.Members[j]
		if !ok || m.Roles[i].Role != member.Role { // those of a role stand together
			i, ok = rows[member.Role]
		}
		if !ok { // the draft that was deployed has its role no more; it is still there
			i, ok = len(m.Roles), true
			rows[member.Role] = i
			m.Roles = append(m.Roles, Role{RoleView: snapshot.RoleView{Role: member.Role, Survives: -1, Halted: true, Stage: 1 << 20}})
		}
		m.Roles[i].Members = append(m.Roles[i].Members, Member{MemberView: member, Removal: removed[member.Member]})
	}
	m.addUnsent(draft, review)
	m.markPins(draft)
	for i := range m.Roles {
		m.Roles[i].waits = m.Roles[i].waiting()
	}
	return m
}

// Scene is whom a failure would find: those that run, or, before anything runs, those of the draft; wired as the field is
// that the board shows.
func (m *Model) Scene() *whatif.Scene {
	if m.scene != nil {
		return m.scene
	}
	draft := m.Snap.State == snapshot.Draft || m.Snap.State == snapshot.Retired
	s := &whatif.Scene{}
	m.scene = s
	for i := range m.Roles {
		r := &m.Roles[i]
		s.Roles = append(s.Roles, whatif.Role{Name: r.Role, Votes: r.Votes, Calls: r.Needs(), Confirms: r.Confirms, Store: r.Store, Floating: r.Floating})
		for j := range r.Members {
			x := &r.Members[j]
			if x.Unsent && !draft {
				continue // it does not run yet
			}
			node, zone := x.Node, x.Zone
			if r.IsOutside() { // the node holds no more than who watches it
				node, zone = "", ""
			}
			s.Members = append(s.Members, whatif.Member{Name: x.Member, Role: x.Role, Node: node, Zone: zone,
				Works: draft || x.Phase == state.Ready, Leads: x.Leads, Votes: len(r.Roster) == 0 || x.Seat == "voter"})
		}
	}
	return s
}

// Loss is what a failure leads to. It is asked for in every frame, mostly for the same failure.
func (m *Model) Loss(f whatif.Fault) *whatif.Loss {
	if m.loss == nil || m.fault != f {
		loss := m.Scene().Fail(f)
		m.fault, m.loss = f, &loss
	}
	return m.loss
}

// Search gives the next thing on the board whose name holds some letters: zones, nodes, roles and members, in this order,
// after the one under the cursor.
func (m *Model) Search(c Cursor, part string) (Cursor, bool) {
	var all []Cursor
	seen := map[string]bool{}
	try := func(name string, at Cursor) {
		if strings.Contains(strings.ToLower(name), part) && !seen[name] {
			seen[name] = true
			all = append(all, m.Keep(at))
		}
	}
	for p := range m.Posts {
		try(string(m.Zones[m.Posts[p].Zone].Name), Cursor{Role: -2, Post: p})
		for _, n := range m.Posts[p].Nodes {
			try(string(n.Node), Cursor{Role: -1, Post: p})
		}
	}
	for i := range m.Roles {
		try(string(m.Roles[i].Role), Cursor{Role: i, Post: -1})
		for j := range m.Roles[i].Members {
			x := &m.Roles[i].Members[j]
			if strings.Contains(strings.ToLower(string(x.Member)), part) {
				try(string(x.Member), m.Find(Place{Role: x.Role, Member: x.Member, Node: x.Node, Zone: x.Zone}, Cursor{}))
			}
		}
	}
	if len(all) == 0 {
		return c, false
	}
	return all[(slices.Index(all, c)+1)%len(all)], true
}

// Suppose lays what a failure would lead to over the board; nil takes it off.
func (m *Model) Suppose(loss *whatif.Loss) {
	if loss == nil && !m.supposed {
		return
	}
	m.supposed = loss != nil
	for i := range m.Roles {
		r := &m.Roles[i]
		r.lost = nil
		if loss != nil {
			if j := slices.IndexFunc(loss.Roles, func(l whatif.RoleLoss) bool { return l.Role == r.Role }); j >= 0 {
				r.lost = &loss.Roles[j]
			}
		}
		for j := range r.Members {
			r.Members[j].Lost = loss != nil && loss.Dark[r.Members[j].Member]
		}
	}
}

// Concern points at the members that a finding speaks of: those named, or else all of the role.
func (m *Model) Concern(role field.RoleName, members []field.MemberName) {
	for i := range m.Roles {
		for j := range m.Roles[i].Members {
			x := &m.Roles[i].Members[j]
			x.Concerned = slices.Contains(members, x.Member) || len(members) == 0 && role != "" && x.Role == role
		}
	}
}

func (m *Model) addNode(n snapshot.NodeView) {
	i, ok := m.zone[n.Zone]
	if !ok {
		m.Zones = append(m.Zones, Zone{Name: n.Zone})
		i = len(m.Zones) - 1
		m.zone[n.Zone] = i
	}
	m.node[n.Node] = [2]int{i, len(m.Zones[i].Nodes)}
	m.Zones[i].Nodes = append(m.Zones[i].Nodes, n)
}

// markPins marks the members that stand where the draft's pins say.
func (m *Model) markPins(draft *field.Field) {
	if draft == nil {
		return
	}
	for i := range m.Roles {
		if len(draft.Place[m.Roles[i].Role]) == 0 {
			continue
		}
		left := map[field.NodeName]int{}
		for _, n := range draft.Place[m.Roles[i].Role] {
			left[n]++
		}
		for j := range m.Roles[i].Members {
			x := &m.Roles[i].Members[j]
			if left[x.Node] > 0 && !x.Removal && !x.Leaving {
				left[x.Node]--
				x.Pinned = true
			}
		}
	}
}

// addUnsent adds what only the draft has: nodes, roles and members.
func (m *Model) addUnsent(draft *field.Field, review *plan.Review) {
	if draft == nil || review == nil {
		return
	}
	sets := draft.Sets()
	for _, n := range draft.Nodes {
		if _, ok := m.node[n.Name]; !ok {
			m.addNode(snapshot.NodeView{Node: n.Name, Zone: n.Zone, Offered: n.Offered(), Found: n.Has() != n.Size, Set: n.Set, OfSet: sets[n.Set], Others: n.Others})
		}
	}
	stages := plan.StageOf(draft)
	for _, r := range draft.Roles {
		i := slices.IndexFunc(m.Roles, func(row Role) bool { return row.Role == r.Name })
		if i < 0 {
			m.Roles = append(m.Roles, Role{RoleView: snapshot.RoleView{Role: r.Name, Kind: r.Kind, Stage: stages[r.Name], Votes: r.Votes, Survives: -1, Calls: r.Called(), Knows: r.Known(), Want: r.Members,
				Relies: r.Relied(), Leased: r.Guarded(), Confirms: draft.Confirms(&r, r.Members), Store: r.LeaseStore(), Floating: draft.FloatingOf(r.Name), Gates: gatesOf(draft, &r)}})
			i = len(m.Roles) - 1
		}
		m.Roles[i].Draft = r.Members
	}
	slices.SortStableFunc(m.Roles, func(a, b Role) int { return a.Stage - b.Stage })
	there := map[field.MemberName]bool{}
	if slices.ContainsFunc(review.Steps, func(s plan.Step) bool { return s.Kind == plan.Start }) {
		for i := range m.Snap.Members {
			there[m.Snap.Members[i].Member] = true
		}
	}
	for _, s := range review.Steps {
		if s.Kind != plan.Start || there[s.Member] {
			continue
		}
		i := slices.IndexFunc(m.Roles, func(row Role) bool { return row.Role == s.Role })
		if i < 0 {
			continue
		}
		m.Added++
		m.Roles[i].Members = append(m.Roles[i].Members, Member{Unsent: true, MemberView: &snapshot.MemberView{
			Member: s.Member, Role: s.Role, Node: s.Node, Zone: s.Zone, Phase: state.Planned}})
	}
	m.reserve(draft)
}

// gatesOf are the gates of a role that only the draft has: nothing is there yet of what they wait for.
func gatesOf(draft *field.Field, r *field.Role) []state.Gate {
	var gates []state.Gate
	needs := draft.Needs(r)
	for _, on := range slices.Sorted(maps.Keys(needs)) {
		gates = append(gates, state.Gate{On: on, Gate: needs[on], Need: 1})
	}
	return gates
}

// reserve counts what unsent members would take of their nodes.
func (m *Model) reserve(draft *field.Field) {
	for _, row := range m.Roles {
		role := draft.Role(row.Role)
		if role == nil {
			continue
		}
		taken := role.Taken()
		for _, member := range row.Members {
			if !member.Unsent {
				continue
			}
			if at, ok := m.node[member.Node]; ok {
				v := &m.Zones[at[0]].Nodes[at[1]]
				v.Used.CPU += taken.CPU
				v.Used.Memory += taken.Memory
				v.Used.Disk += taken.Disk
			}
		}
	}
}

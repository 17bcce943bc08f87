// Package plan finds what leads from the live members to the draft: which members are added, on which nodes, and which
// ones leave.
package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

// Member is a live member: planned or further, and neither gone nor leaving already.
type Member struct {
	place.Member
	Number int // counts within the role; a larger one is newer
	Ready  bool
	Leads  bool
}

// Live is what there is now.
type Live struct {
	Members []Member
	Leaving []place.Member         // still take room
	Highest map[field.RoleName]int // the highest number that a member of the role ever had
	Kept    []Kept                 // by number
	Freeing []field.NodeName       // being given up: they can hold nobody before they are free
}

// Kept is a member that is gone and whose data is still on its node.
type Kept struct {
	place.Member
	Number int
}

// Remove is a member that leaves, with the reason.
type Remove struct {
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
	Why    string
	Moves  bool // it may not stay where it is, and another takes its place
}

// Plan is the difference between live and draft. Adds stand in the order of deployment, Removes in the reverse order.
type Plan struct {
	Adds     []place.Member
	Removes  []Remove
	Unplaced []place.Unplaced
}

// Make compares the live members with the draft. It is deterministic, keeps members where they are unless a pin, a
// missing node or a smaller count says otherwise, and never gives out a number twice.
func Make(f *field.Field, live Live) Plan {
	p := compare(f, live)
	if len(live.Kept) > 0 && len(p.Unplaced) > 0 { // those who come back are in the way
		live.Kept = nil
		p = compare(f, live)
	}
	return p
}

// compare is Make for one choice of who may come back.
func compare(f *field.Field, live Live) Plan {
	m := &making{live: live, field: f, nodes: f.NodesByName(), byRole: map[field.RoleName][]Member{}, kept: map[field.RoleName][]Member{},
		used: map[field.NodeName]field.Size{}}
	standing := slices.Clone(live.Leaving)
	for _, l := range live.Members {
		m.byRole[l.Role] = append(m.byRole[l.Role], l)
		standing = append(standing, l.Member)
	}
	site := place.NewSite(f, standing)
	var wants []place.Want
	for _, stage := range f.Stages() {
		for _, name := range stage {
			wants = append(wants, m.role(f.Role(name), live.Highest[name]))
		}
	}
	m.Adds, m.Unplaced = site.Fill(wants)
	for _, name := range slices.Sorted(maps.Keys(m.byRole)) {
		if f.Role(name) == nil {
			for _, l := range m.byRole[name] {
				m.remove(l, "the draft has no role "+string(name))
			}
		}
	}
	slices.Reverse(m.Removes)
	return m.Plan
}

// making is a plan while it is made.
type making struct {
	Plan
	live   Live
	field  *field.Field
	nodes  map[field.NodeName]*field.Node
	byRole map[field.RoleName][]Member   // live ones
	kept   map[field.RoleName][]Member   // of the roles seen so far
	used   map[field.NodeName]field.Size // by those
}

func (m *making) remove(l Member, why string) {
	m.Removes = append(m.Removes, Remove{Member: l.Name, Role: l.Role, Node: l.Node, Why: why})
}

// move removes a member that may not stay where it is.
func (m *making) move(l Member, why string, args ...any) {
	m.remove(l, fmt.Sprintf(why, args...))
	m.Removes[len(m.Removes)-1].Moves = true
}

// role decides who of a role leaves, and gives who is wanted besides those that stay.
func (m *making) role(role *field.Role, highest int) place.Want {
	keep := m.stay(role)
	pins := m.pins(role)
	pinned, unmet := matchPins(keep, pins[:min(len(pins), role.Members)])
	surplus := len(keep) + len(unmet) - role.Members
	for range surplus {
		if len(keep) == 0 {
			break
		}
		victim := chooseLeaver(role, keep, pinned, m.misfits(role), m.nodes)
		why := fmt.Sprintf("the draft wants %d of %s", role.Members, role.Name)
		if len(unmet) > 0 {
			why = "a pin puts a member elsewhere"
		}
		m.remove(keep[victim], why)
		keep = slices.Delete(keep, victim, victim+1)
	}
	m.kept[role.Name] = keep
	want := m.back(role, role.Members-len(keep), unmet)
	for range role.Members - len(keep) - len(want.Names) {
		highest++
		want.Names = append(want.Names, role.Name.Member(highest))
	}
	return want
}

// back wants those of a role again, at most so many, whose data was kept, each on the node where that is.
func (m *making) back(role *field.Role, most int, pins []field.NodeName) place.Want {
	want := place.Want{Role: role.Name, Pins: pins}
	if !role.Returns() {
		return want
	}
	misfits := m.misfits(role)
	var nodes, rest []field.NodeName
	rest = slices.Clone(pins)
	for _, k := range m.live.Kept {
		n := m.nodes[k.Node]
		if k.Role != role.Name || n == nil || n.Out != "" || misfits[k.Node] || len(want.Names) == most {
			continue
		}
		i := slices.Index(rest, k.Node)
		if i < 0 && len(nodes)+len(rest) >= most {
			continue // pins have taken every place
		}
		if i >= 0 {
			rest = slices.Delete(rest, i, i+1)
		}
		nodes, want.Names = append(nodes, k.Node), append(want.Names, k.Name)
	}
	want.Pins = append(nodes, rest...)
	return want
}

// stay removes those of a role whose node can hold them no more, and gives the others.
func (m *making) stay(role *field.Role) []Member {
	var may map[field.NodeName]bool
	if role.Each.Node {
		may = map[field.NodeName]bool{}
		for _, n := range m.field.May(role) {
			may[n] = true
		}
	}
	hosts := map[field.NodeName]int{}
	misfits, zones := m.misfits(role), map[field.ZoneName]int{}
	_, before := m.kept[role.Each.Beside]
	for _, h := range m.kept[role.Each.Beside] {
		hosts[h.Node]++
	}
	var keep []Member
	for _, l := range m.byRole[role.Name] {
		node := m.nodes[l.Node]
		switch {
		case node == nil && slices.ContainsFunc(m.field.Extras, func(n field.Node) bool { return n.Name == l.Node }):
			m.remove(l, fmt.Sprintf("the draft no longer needs %s", l.Node))
		case node == nil:
			m.remove(l, fmt.Sprintf("the draft has no node %s", l.Node))
		case node.Out != "":
			m.move(l, "%s is taken out", l.Node)
		case may != nil && !may[l.Node]:
			m.remove(l, fmt.Sprintf("%s may not hold %s any more", l.Node, role.Name))
		case before && hosts[l.Node] == 0:
			m.remove(l, fmt.Sprintf("nobody of %s is left on %s", role.Each.Beside, l.Node))
		case !node.Runs(role.Platforms):
			m.move(l, "%s is %s, and %s runs on %s only", l.Node, node.Platform, role.Name, strings.Join(role.Platforms, ", "))
		case misfits[l.Node]:
			m.move(l, "where of %s does not allow %s any more", role.Name, l.Node)
		case m.foe(role, l.Node) != "":
			m.move(l, "%s must be apart from %s, of which %s holds one", role.Name, m.foe(role, l.Node), l.Node)
		case m.alone(role, l.Node) != "":
			m.move(l, "%s must be beside %s, and none of that stays on %s", role.Name, m.alone(role, l.Node), l.Node)
		case role.Each.Zone > 0 && zones[node.Zone] >= role.Each.Zone:
			m.move(l, "%s holds %d of %s already", node.Zone, role.Each.Zone, role.Name)
		case m.lacks(role, node) != "":
			m.move(l, "%s offers too little %s for all that it holds", l.Node, m.lacks(role, node))
		default:
			hosts[l.Node]--
			zones[node.Zone]++
			if role.Each.Beside == "" {
				m.used[l.Node] = m.used[l.Node].Plus(m.room(role, 0))
			}
			keep = append(keep, l)
		}
	}
	return keep
}

// foe is a role that must be apart from this one and of which a member stays on the node.
func (m *making) foe(role *field.Role, node field.NodeName) field.RoleName {
	for i := range m.field.Roles {
		other := &m.field.Roles[i]
		if m.field.Apart(role, other) && slices.ContainsFunc(m.kept[other.Name], func(x Member) bool { return x.Node == node }) {
			return other.Name
		}
	}
	return ""
}

// alone is a role that this one must be beside and of which nobody stays on the node.
func (m *making) alone(role *field.Role, node field.NodeName) field.RoleName {
	for _, name := range role.Beside {
		if kept, seen := m.kept[name]; seen && len(kept) > 0 && !slices.ContainsFunc(kept, func(x Member) bool { return x.Node == node }) {
			return name
		}
	}
	return ""
}

// lacks says of what a node offers too little for one more of a role beside those that stay there; "" where there is room.
// A companion's room is part of its host's.
func (m *making) lacks(role *field.Role, node *field.Node) string {
	if role.Each.Beside != "" {
		return ""
	}
	offered, want := node.Offered(), m.used[node.Name].Plus(m.room(role, 0))
	switch {
	case offered.CPU > 0 && want.CPU > offered.CPU+1e-9:
		return "CPU"
	case offered.Memory > 0 && want.Memory > offered.Memory:
		return "memory"
	case offered.Disk > 0 && want.Disk > offered.Disk:
		return "disk"
	}
	return ""
}

// room is what one member takes, with its companions.
func (m *making) room(role *field.Role, depth int) field.Size {
	size := role.Taken()
	if depth < len(m.field.Roles) {
		for _, c := range m.field.Companions(role.Name) {
			size = size.Plus(m.room(c, depth+1))
		}
	}
	return size
}

// pins are the nodes that must hold a member of the role: as the draft pins them, or each that may where it is to be on
// every node.
func (m *making) pins(role *field.Role) []field.NodeName {
	if role.Each.Node {
		return m.field.May(role)
	}
	return m.field.Place[role.Name]
}

// matchPins pairs members with pins on their nodes, oldest first, and gives the pins that nobody meets.
func matchPins(members []Member, pins []field.NodeName) (pinned map[field.MemberName]bool, unmet []field.NodeName) {
	pinned = map[field.MemberName]bool{}
	for _, pin := range pins {
		i := slices.IndexFunc(members, func(m Member) bool { return m.Node == pin && !pinned[m.Name] })
		if i < 0 {
			unmet = append(unmet, pin)
			continue
		}
		pinned[members[i].Name] = true
	}
	return pinned, unmet
}

// misfits tells which nodes may not hold the role any more, as its where and platforms are now; nil when all may.
func (m *making) misfits(role *field.Role) map[field.NodeName]bool {
	if role.Where == "" && len(role.Platforms) == 0 {
		return nil
	}
	may := m.field.May(role)
	out := make(map[field.NodeName]bool, len(m.nodes)-len(may))
	for name := range m.nodes {
		out[name] = true
	}
	for _, name := range may {
		delete(out, name)
	}
	return out
}

// chooseLeaver gives the index of the member that leaves first: not pinned, on a node that may not hold it any more, not
// ready, in the fullest zone, on a node that is there only while it is wanted, on the fullest node, newest; the leader last of those that nobody has pinned.
func chooseLeaver(role *field.Role, members []Member, pinned map[field.MemberName]bool, misfits map[field.NodeName]bool, nodes map[field.NodeName]*field.Node) int {
	perZone, perNode := map[field.ZoneName]int{}, map[field.NodeName]int{}
	for _, m := range members {
		perZone[nodes[m.Node].Zone]++
		perNode[m.Node]++
	}
	rank := func(m Member) [8]int {
		zone := 0
		if role.Spread == field.SpreadZone {
			zone = -perZone[nodes[m.Node].Zone]
		}
		return [8]int{truth(pinned[m.Name]), truth(m.Leads), truth(!misfits[m.Node]), truth(m.Ready), zone, truth(!nodes[m.Node].Extra), -perNode[m.Node], -m.Number}
	}
	best := 0
	for i := range members {
		a, b := rank(members[i]), rank(members[best])
		if slices.Compare(a[:], b[:]) < 0 {
			best = i
		}
	}
	return best
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

// StepKind says what a step of a review does.
type StepKind string

// What steps do.
const (
	Prepare StepKind = "prepare" // start the agent of a node
	Start   StepKind = "start"   // place a member and start it
	Change  StepKind = "change"  // give a running member another spec
	Take    StepKind = "remove"  // end a member and remove its folder
	Forget  StepKind = "forget"  // delete data that was kept of a member
	Free    StepKind = "free"    // end the agent of a node and remove its folder
)

// Step is one change of a review, in the order in which it will be carried out as far as gates allow.
type Step struct {
	Stage  int              `json:"stage"` // counts from 1; 0 belongs to none
	Kind   StepKind         `json:"kind"`
	Member field.MemberName `json:"member,omitempty"`
	Role   field.RoleName   `json:"role,omitempty"`
	Node   field.NodeName   `json:"node"`
	Zone   field.ZoneName   `json:"zone,omitempty"`
	Text   string           `json:"text"`

	Why   string `json:"why,omitempty"`   // for which the member may not stay where it is
	Moves bool   `json:"moves,omitempty"` // it may not, and another takes its place
	Due   bool   `json:"due,omitempty"`   // it was ordered before, and is not done yet
}

// GateStep is what a role waits for before its members start.
type GateStep struct {
	Role field.RoleName `json:"role"`
	On   field.RoleName `json:"on"`
	Gate field.Gate     `json:"gate"`
}

// Review is the exact list of changes from live to draft.
type Review struct {
	Field    string           `json:"field"`
	Steps    []Step           `json:"steps"`
	Gates    []GateStep       `json:"gates,omitempty"`
	Unplaced []place.Unplaced `json:"unplaced,omitempty"`
	Pending  []Pending        `json:"pending,omitempty"` // by role
	Missing  []string         `json:"missing,omitempty"` // what nodes lack to carry it out
	Quick    bool             `json:"quick,omitempty"`   // it lists who comes and goes only; see Preview
}

// Pending is what members of a role were not started with, and take at their next start only.
type Pending struct {
	Role    field.RoleName     `json:"role"`
	Members []field.MemberName `json:"members"`
	What    string             `json:"what"` // e.g. the command line
}

// String words it with what can be done: "3 members of relays …".
func (p Pending) String() string {
	if len(p.Members) == 1 {
		return fmt.Sprintf("%s waits for a restart to take %s", p.Members[0], p.What)
	}
	return fmt.Sprintf("%d members of %s wait for a restart to take %s", len(p.Members), p.Role, p.What)
}

// key is what must be the same of a step for it to be the same step. What merely is not done yet is none of it: members come
// and go meanwhile.
func (s Step) key() string {
	if s.Due {
		return ""
	}
	key := fmt.Sprint(s.Kind, " ", s.Stage, " ", s.Member, " ", s.Node)
	if s.Kind == Change {
		key += " " + s.Text
	}
	return key
}

// Changed compares a review that was seen with one that was made now: which steps are there no more, and which are new.
func Changed(seen, now *Review) (gone, come []Step) {
	count := map[string]int{}
	for _, s := range now.Steps {
		count[s.key()]++
	}
	for _, s := range seen.Steps {
		if k := s.key(); k != "" {
			if count[k]--; count[k] < 0 {
				gone = append(gone, s)
			}
		}
	}
	clear(count)
	for _, s := range seen.Steps {
		count[s.key()]++
	}
	for _, s := range now.Steps {
		if k := s.key(); k != "" {
			if count[k]--; count[k] < 0 {
				come = append(come, s)
			}
		}
	}
	return gone, come
}

// Empty tells whether there is nothing to do.
func (r *Review) Empty() bool { return len(r.Steps) == 0 && len(r.Unplaced) == 0 }

// New tells whether the draft asks for anything that was not asked for before.
func (r *Review) New() bool {
	return len(r.Unplaced) > 0 || slices.ContainsFunc(r.Steps, func(s Step) bool { return !s.Due })
}

// Parts divides the steps into those that stand below one title.
func (r *Review) Parts() [][]Step {
	var parts [][]Step
	class := func(s Step) int {
		switch {
		case s.Kind == Prepare:
			return -1
		case s.Kind == Forget || s.Kind == Free:
			return -2
		}
		return s.Stage
	}
	from := 0
	for i := range r.Steps {
		if i+1 == len(r.Steps) || class(r.Steps[i]) != class(r.Steps[i+1]) {
			parts = append(parts, r.Steps[from:i+1])
			from = i + 1
		}
	}
	return parts
}

// Title words a part of the review, and what its roles wait for.
func (r *Review) Title(part []Step) string {
	of := part[0]
	switch {
	case of.Kind == Prepare:
		return "First, the nodes"
	case of.Kind == Forget || of.Kind == Free:
		return "At the end"
	case of.Stage == 0:
		return "No longer in the draft"
	}
	roles := map[field.RoleName]bool{}
	for _, s := range part {
		roles[s.Role] = true
	}
	var waits []string
	for _, g := range r.Gates {
		if roles[g.Role] {
			waits = append(waits, fmt.Sprintf("%s waits for %s: %s", g.Role, g.On, g.Gate))
		}
	}
	return strings.Join(append([]string{fmt.Sprintf("Stage %d", of.Stage)}, waits...), ", ")
}

// Gates lists what the roles of a field wait for, in the order of deployment.
func Gates(f *field.Field) []GateStep {
	var gates []GateStep
	for _, stage := range f.Stages() {
		for _, name := range stage {
			needs := f.Needs(f.Role(name))
			for _, on := range slices.Sorted(maps.Keys(needs)) {
				gates = append(gates, GateStep{Role: name, On: on, Gate: needs[on]})
			}
		}
	}
	return gates
}

// StageOf gives the stage of each role, counted from 1.
func StageOf(f *field.Field) map[field.RoleName]int {
	stages := map[field.RoleName]int{}
	for i, roles := range f.Stages() {
		for _, r := range roles {
			stages[r] = i + 1
		}
	}
	return stages
}

// SortSteps puts steps in the order of carrying out: stage by stage, additions and changes before removals.
func SortSteps(steps []Step) {
	kind := map[StepKind]int{Prepare: 0, Start: 1, Change: 2, Take: 3, Forget: 4, Free: 5}
	slices.SortStableFunc(steps, func(a, b Step) int {
		if late := max(kind[a.Kind], kind[b.Kind]); (a.Kind == Take) != (b.Kind == Take) || late > kind[Take] {
			return cmp.Compare(kind[a.Kind], kind[b.Kind])
		}
		if a.Kind == Take {
			return cmp.Compare(b.Stage, a.Stage)
		}
		return cmp.Or(cmp.Compare(a.Stage, b.Stage), cmp.Compare(kind[a.Kind], kind[b.Kind]))
	})
}

// Preview lists who would come and who would go, and nothing else: quick enough to be looked at while choosing.
func Preview(f *field.Field, live Live) *Review {
	if f.Cycle() != nil {
		return &Review{Field: f.Name, Quick: true}
	}
	p := Make(f, live)
	r := &Review{Field: f.Name, Quick: true, Unplaced: p.Unplaced}
	nodes := f.NodesByName()
	for _, a := range p.Adds {
		r.Steps = append(r.Steps, Step{Kind: Start, Member: a.Name, Role: a.Role, Node: a.Node, Zone: nodes[a.Node].Zone})
	}
	for _, x := range p.Removes {
		r.Steps = append(r.Steps, Step{Kind: Take, Member: x.Member, Role: x.Role, Node: x.Node})
	}
	return r
}

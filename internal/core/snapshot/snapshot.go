// Package snapshot is a field at one moment, for people and programs: what is shown, and nothing that anything is decided by. The verdict
// and its words are in verdict.go, what members wait for in waiting.go.
package snapshot

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// Condition is how the field as a whole is.
type Condition string

// The states of a field.
const (
	Draft      Condition = "draft"
	Deploying  Condition = "deploying"
	Converging Condition = "converging"
	Converged  Condition = "converged"
	Degraded   Condition = "degraded"
	Down       Condition = "down"
	Stopped    Condition = "stopped"
	Retired    Condition = "retired"
)

// Conditions lists them all, for messages.
var Conditions = []Condition{Draft, Deploying, Converging, Converged, Degraded, Down, Stopped, Retired}

// Snapshot is a field at one moment, for people and programs. It shares nothing with the state it was taken from. Its
// JSON is what `status --json` prints.
type Snapshot struct {
	Field    string       `json:"field"`
	State    Condition    `json:"state"`
	Verdict  string       `json:"verdict"`
	At       time.Time    `json:"at"`
	Term     uint64       `json:"term"`
	Rollout  RolloutView  `json:"rollout,omitzero"` // what goes on, or went on last: a rollout or a task
	Tasks    []TaskView   `json:"tasks,omitempty"`  // that go on
	Roles    []RoleView   `json:"roles"`
	Members  []MemberView `json:"members"`
	Nodes    []NodeView   `json:"nodes"`
	Problems []string     `json:"problems,omitempty"`
	Kept     []KeptView   `json:"kept,omitempty"`   // by role and number
	Keeper   *KeeperView  `json:"keeper,omitempty"` // who keeps the field; nil where nobody does
	Due      bool         `json:"due,omitempty"`    // nobody keeps it, and something is to be done that nobody does
}

// KeeperView is the process that keeps a field.
type KeeperView struct {
	PID      int       `json:"pid"`
	Command  string    `json:"command"`
	Since    time.Time `json:"since"`
	Stays    bool      `json:"stays,omitempty"`    // also when all is settled
	Attached []string  `json:"attached,omitempty"` // screens and commands
}

// KeptView is the data of a member that is gone, still on its node.
type KeptView struct {
	Member field.MemberName `json:"member"`
	Role   field.RoleName   `json:"role"`
	Number int              `json:"number"`
	Node   field.NodeName   `json:"node"`
	Bytes  field.Bytes      `json:"bytes"`
	Since  time.Time        `json:"since"`
}

// KeptNames lists the members of whom data is kept.
func (snap *Snapshot) KeptNames() string {
	names := make([]field.MemberName, len(snap.Kept))
	for i, k := range snap.Kept {
		names[i] = k.Member
	}
	return wording.Members(names)
}

// RolloutView is a rollout, or a task: the stopping, starting or restarting of members that a person asked for.
type RolloutView struct {
	Number int       `json:"number,omitempty"` // of the rollout; a task has none here
	What   string    `json:"what,omitempty"`
	By     string    `json:"by,omitempty"`
	Active bool      `json:"active"`
	Began  time.Time `json:"began,omitzero"`
	Ended  time.Time `json:"ended,omitzero"`
	Paused bool      `json:"paused,omitempty"`

	Failed  string             `json:"failed,omitempty"`  // why it stopped half-way
	Outcome state.Outcome      `json:"outcome,omitempty"` // once it has ended
	Target  string             `json:"target,omitempty"`  // the draft that it carries out, by its digest
	From    string             `json:"from,omitempty"`    // the draft that was deployed before
	Members []field.MemberName `json:"members,omitempty"` // whom a task is about; everybody when empty

	LastTook time.Duration `json:"last_took_ns,omitempty"` // how long the newest one of the same kind took that came to its end
}

// TaskView is a task that goes on.
type TaskView struct {
	Number  int                `json:"number"`
	What    string             `json:"what"`
	By      string             `json:"by,omitempty"`
	Members []field.MemberName `json:"members"`
	Began   time.Time          `json:"began"`
}

// ViewOf gives a rollout as it is shown.
func ViewOf(r state.Rollout) RolloutView {
	return RolloutView{Number: r.Number, What: r.What, By: r.By, Active: r.Active(), Began: r.Began, Ended: r.Ended, Paused: r.Paused, Failed: r.Failed,
		Outcome: r.Outcome, Target: r.Target, From: r.From}
}

// newest gives what goes on, the newest task before the rollout; where nothing goes on, what ended last.
func newest(s *state.State) RolloutView {
	v := ViewOf(s.Rollout)
	for _, t := range s.Tasks {
		if t.Active() || !v.Active && t.Ended.After(v.Ended) {
			paused := s.Rollout.Active() && s.Rollout.Paused
			v = RolloutView{What: t.What, By: t.By, Active: t.Active(), Began: t.Began, Ended: t.Ended, Members: t.Members, Paused: paused}
			if !t.Active() {
				v.Outcome = state.Completed
			}
		}
	}
	v.LastTook = s.Lasted[v.What]
	return v
}

// RoleView is one role. Voters, VotesNeeded and Leader are there for roles whose members vote; Survives is -1 when the
// role cannot do its work.
type RoleView struct {
	Role        field.RoleName      `json:"role"`
	Kind        field.Kind          `json:"kind"`
	Stage       int                 `json:"stage"`
	Want        int                 `json:"want"`
	Ready       int                 `json:"ready"`
	Votes       bool                `json:"votes,omitempty"`
	Voters      int                 `json:"voters,omitempty"`
	VotesReady  int                 `json:"votes_ready,omitempty"`
	VotesNeeded int                 `json:"votes_needed,omitempty"`
	Survives    int                 `json:"survives"`
	Leader      field.MemberName    `json:"leader,omitempty"`
	Led         bool                `json:"led,omitempty"` // its program tells who leads
	LeaderSince time.Time           `json:"leader_since,omitzero"`
	Rivals      []field.MemberName  `json:"rivals,omitempty"`        // that say that they lead too, and no term decides against them
	Unsure      string              `json:"leader_unsure,omitempty"` // why it is not known whether the leader still leads
	Unread      string              `json:"roster_unread,omitempty"` // why the cluster's own list cannot be read
	Founding    bool                `json:"founding,omitempty"`      // steps of founding its cluster are still to be done
	LeaderTerm  uint64              `json:"leader_term,omitempty"`
	Roster      []order.RosterEntry `json:"roster,omitempty"`
	Strangers   []string            `json:"strangers,omitempty"` // on the cluster's own list and none of ours
	Change      string              `json:"change,omitempty"`    // of its membership, under way
	Gates       []state.Gate        `json:"gates,omitempty"`
	Halted      bool                `json:"halted,omitempty"`  // all its members are stopped on purpose
	Highest     int                 `json:"highest,omitempty"` // the highest number that a member of it ever had
	Calls       []field.RoleName    `json:"calls,omitempty"`   // without whom it cannot do its work
	Outside     []string            `json:"outside,omitempty"` // the addresses of something that is not ours, and only watched
	Authority   string              `json:"authority,omitempty"`
	Knows       []field.RoleName    `json:"knows,omitempty"`  // of whom it is told without waiting for them
	Keeps       bool                `json:"keeps,omitempty"`  // the data of its members outlives them
	Worked      bool                `json:"worked,omitempty"` // has had its quorum, or a ready member, since it was founded
}

// MemberView is one member. Writes tells whether a write sent to it can succeed now.
type MemberView struct {
	Member      field.MemberName `json:"member"`
	Role        field.RoleName   `json:"role"`
	Number      int              `json:"number"` // within the role; a larger one is newer
	Node        field.NodeName   `json:"node"`
	Zone        field.ZoneName   `json:"zone"`
	Phase       state.Phase      `json:"phase"`
	Writes      bool             `json:"writes"`
	Leads       bool             `json:"leads,omitempty"`
	Leaving     bool             `json:"leaving,omitempty"`
	Halted      bool             `json:"halted,omitempty"`      // stopped on purpose
	Seat        string           `json:"seat,omitempty"`        // voter or learner, where members vote
	ID          string           `json:"id,omitempty"`          // under which the cluster itself lists it
	Trouble     string           `json:"trouble,omitempty"`     // why it could not be let in, promoted or let go
	Left        bool             `json:"left,omitempty"`        // is no member of its cluster any more
	Pending     string           `json:"pending,omitempty"`     // what it takes at its next start only
	RestartDue  bool             `json:"restart_due,omitempty"` // it is to be restarted
	Unfit       string           `json:"unfit,omitempty"`       // why what was ordered last was not carried out: it runs as before
	TakenOff    bool             `json:"taken_off,omitempty"`   // somebody else has taken it off its cluster's list
	Address     string           `json:"address"`
	Ports       map[string]int   `json:"ports,omitempty"`
	PID         int              `json:"pid,omitempty"`
	Incarnation int              `json:"incarnation,omitempty"`
	Memory      field.Bytes      `json:"memory,omitempty"`  // that its processes have for themselves; measured now and then
	Ceiling     field.Bytes      `json:"ceiling,omitempty"` // of memory
	Since       time.Time        `json:"since"`
	WaitsFor    string           `json:"waits_for,omitempty"`
	LastTook    time.Duration    `json:"last_took_ns,omitempty"` // what this phase took the role's newest member that came through it
	Why         string           `json:"why,omitempty"`
	Attempt     int              `json:"attempt,omitempty"`
	RetryAt     time.Time        `json:"retry_at,omitzero"`
	LastExit    string           `json:"last_exit,omitempty"`
	LastExitAt  time.Time        `json:"last_exit_at,omitzero"`
	LastLines   []string         `json:"last_lines,omitempty"`
	Log         string           `json:"log,omitempty"`
	Probe       ProbeView        `json:"probe"`
}

// ProbeView is the newest answer to the ready probe. The latency comes from the series and may be missing.
type ProbeView struct {
	OK        bool      `json:"ok"`
	LatencyMS float64   `json:"latency_ms"`
	Error     string    `json:"error"`
	LastGood  time.Time `json:"last_good,omitzero"` // when it was asked what it answered well last
}

// NodeView is one node, with what is kept free for members on it.
type NodeView struct {
	Node        field.NodeName `json:"node"`
	Zone        field.ZoneName `json:"zone"`
	Address     string         `json:"address,omitempty"`
	Unreachable bool           `json:"dark,omitempty"`
	Freeing     bool           `json:"freeing,omitempty"` // it is being given up
	Why         string         `json:"why,omitempty"`
	Used        field.Size     `json:"used,omitzero"`
	Offered     field.Size     `json:"offered,omitzero"`

	Set   string         `json:"set,omitempty"` // that it comes from, where it is made as members want it
	OfSet field.SetCount `json:"of_set,omitzero"`

	Others *field.Others `json:"others,omitempty"` // what other fields keep of it
}

// Snap takes a snapshot of the state.
func Of(s *state.State, at time.Time) *Snapshot {
	snap := &Snapshot{At: at, Term: s.Term, Roles: []RoleView{}, Members: []MemberView{}, Nodes: []NodeView{}}
	if s.Field == nil {
		snap.State, snap.Verdict = Draft, "Not deployed yet."
		return snap
	}
	snap.Field = s.Field.Name
	snap.Rollout = newest(s)
	for _, t := range s.Tasks {
		if t.Active() {
			snap.Tasks = append(snap.Tasks, TaskView{Number: t.Number, What: t.What, By: t.By, Members: t.Members, Began: t.Began})
		}
	}
	if s.Retired {
		snap.State, snap.Verdict = Retired, "Retired: nothing is left of it."
		return snap
	}
	groups := s.ByRole()
	stages := plan.StageOf(s.Field)
	for _, stage := range s.Field.Stages() {
		for _, name := range stage {
			role := s.Field.Role(name)
			view := roleView(s, role, groups, stages[name])
			snap.Roles = append(snap.Roles, view)
			for _, m := range groups[name] {
				snap.Members = append(snap.Members, memberView(s, m, &view, groups[name]))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		if s.Field.Role(name) != nil {
			continue
		}
		// A role that the draft has no more.
		for _, m := range groups[name] {
			snap.Members = append(snap.Members, memberView(s, m, &RoleView{Role: name}, groups[name]))
		}
	}
	for _, m := range s.Members {
		if m.Phase == state.Gone && m.Kept {
			snap.Kept = append(snap.Kept, KeptView{Member: m.Name, Role: m.Role, Number: m.Number, Node: m.Node, Bytes: field.Bytes(m.Bytes), Since: m.Since})
		}
	}
	slices.SortFunc(snap.Kept, func(a, b KeptView) int { return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number)) })
	snap.Nodes = nodeViews(s, snap.Members)
	snap.State = judge(s, snap)
	snap.Verdict = sentence(s, snap)
	return snap
}

func roleView(s *state.State, role *field.Role, groups map[field.RoleName][]*state.Member, stage int) RoleView {
	members := groups[role.Name]
	v := RoleView{Role: role.Name, Kind: role.Kind, Stage: stage, Want: role.Members, Votes: role.Votes, Halted: len(members) > 0,
		Led: role.Program != nil && role.Program.Leader != nil, Founding: s.Founding(role), Calls: role.Called(), Knows: role.Known(), Keeps: role.Keeps()}
	if role.External != nil {
		v.Outside, v.Authority = role.External.Addresses, role.External.Authority
	}
	joined, ready := 0, 0
	for _, m := range members {
		if s.IsReady(m) {
			ready++
		}
		if !m.ReadyAt.IsZero() {
			joined++
		}
		v.Halted = v.Halted && m.Halted
	}
	needs := s.Field.Needs(role)
	for _, on := range slices.Sorted(maps.Keys(needs)) {
		if target := s.Field.Role(on); target != nil {
			v.Gates = append(v.Gates, s.Gate(target, needs[on], groups[on]))
		}
	}
	r := s.Roles[role.Name]
	if r != nil {
		v.Leader, v.LeaderTerm, v.Highest = r.Leader, r.LeaderTerm, r.Highest
		v.Roster = slices.Clone(r.Roster)
		v.Rivals, v.Unread = s.Rivals(r), r.RosterWhy
		if !r.LeaderSince.IsZero() {
			v.LeaderSince = r.LeaderSince
		}
		for _, c := range r.Claims {
			if c.Member == r.Leader {
				v.Unsure = c.Unsure
			}
		}
	}
	if role.Votes {
		v.Voters, v.VotesReady = s.Votes(role, members)
		v.VotesNeeded = quorum.Needed(v.Voters)
		v.Worked = joined >= v.VotesNeeded
	} else {
		v.Worked = joined > 0
	}
	v.Ready = min(ready, role.Members) // who leaves burns until another does in its place
	v.Survives = s.Survives(role, members, ready)
	v.Change = changing(s, role, members)
	for _, e := range s.Strangers(role.Name, members) {
		v.Strangers = append(v.Strangers, state.EntryNames([]order.RosterEntry{e}))
	}
	return v
}

func memberView(s *state.State, m *state.Member, role *RoleView, peers []*state.Member) MemberView {
	v := MemberView{Member: m.Name, Role: m.Role, Number: m.Number, Node: m.Node, Phase: s.PhaseOf(m), Leaving: m.Leaving, Halted: m.Halted,
		Leads: role.Leader == m.Name || slices.Contains(role.Rivals, m.Name), Ports: maps.Clone(s.Ports(m)), PID: m.PID, Incarnation: m.Incarnation, Since: m.Since,
		Why: m.Why, Attempt: m.Attempt, RetryAt: m.RetryAt, Probe: ProbeView{OK: s.IsReady(m), Error: m.ProbeError}}
	v.Writes = v.Phase == state.Ready && (!role.Led || role.Leader != "" && (role.Votes || v.Leads)) && (!role.Votes || role.Survives >= 0)
	v.RestartDue, v.Unfit = m.RestartDue, m.Unfit
	if pending := m.Pending(); len(pending) > 0 {
		v.Pending = wording.Changed(order.Named(pending))
	}
	if n := s.Field.Node(m.Node); n != nil {
		v.Zone = n.Zone
	}
	if n := s.Nodes[m.Node]; n != nil {
		v.Address = n.Address
		v.Log = render.LogFile(n.Dir, m.Name)
		if v.Phase == state.Unknown {
			v.Why, v.Since = n.UnreachableWhy, n.Since
		}
	}
	if m.Ordered.Spec != nil {
		v.Ceiling = m.Ordered.Spec.Ceiling.Memory
	}
	if m.LastExit != nil {
		v.LastExit, v.LastExitAt, v.LastLines = m.LastExit.Text, m.LastExit.At, slices.Clone(m.LastExit.Lines)
	}
	if m.Refused != "" {
		v.Why = "its agent cannot take the order: " + m.Refused
	}
	if r := s.Field.Role(m.Role); r != nil && r.Votes {
		v.Seat = map[membership.Seat]string{membership.Voter: "voter", membership.Learner: "learner"}[s.Seat(r, m)]
	}
	if e := s.Entry(m); e != nil {
		v.ID = e.ID
	}
	v.Trouble, v.Left, v.TakenOff = m.Trouble, m.Left, s.TakenOff(m)
	if m.Trouble != "" {
		v.Why = m.Trouble
	}
	if m.Unfit != "" {
		v.Why = "it runs as before: " + m.Unfit
	}
	v.WaitsFor = waitsFor(s, m, role, peers)
	if r := s.Roles[m.Role]; r != nil {
		switch v.Phase {
		case state.Planned:
			v.LastTook = r.Waited
		case state.Starting:
			v.LastTook = r.Warmed
		}
	}
	return v
}

func nodeViews(s *state.State, members []MemberView) []NodeView {
	var views []NodeView
	used := map[field.NodeName]field.Size{}
	for _, m := range members {
		if role := s.Field.Role(m.Role); role != nil {
			u := used[m.Node]
			taken := role.Taken()
			u.CPU += taken.CPU
			u.Memory += taken.Memory
			u.Disk += taken.Disk
			used[m.Node] = u
		}
	}
	sets := s.Field.Sets()
	add := func(n field.Node) {
		name := n.Name
		v := NodeView{Node: name, Zone: n.Zone, Used: used[name], Offered: n.Offered(), Set: n.Set, OfSet: sets[n.Set], Others: n.Others}
		if n := s.Nodes[name]; n != nil {
			v.Address, v.Unreachable, v.Why, v.Freeing = n.Address, n.Unreachable, n.UnreachableWhy, n.Releasing && !n.Released
		}
		views = append(views, v)
	}
	for _, n := range s.Field.Nodes {
		add(n)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Nodes)) {
		if s.Field.Node(name) == nil && !s.Nodes[name].Released {
			add(field.Node{Name: name})
		}
	}
	return views
}

// Live is what package plan needs to know of a deployed field, as far as a snapshot tells.
func (snap *Snapshot) Live() plan.Live {
	l := plan.Live{Highest: map[field.RoleName]int{}}
	if snap.State == Draft || snap.State == Retired {
		return l
	}
	for _, r := range snap.Roles {
		l.Highest[r.Role] = r.Highest
	}
	for _, n := range snap.Nodes {
		if n.Freeing {
			l.Freeing = append(l.Freeing, n.Node)
		}
	}
	slices.Sort(l.Freeing)
	for _, k := range snap.Kept {
		l.Kept = append(l.Kept, plan.Kept{Member: place.Member{Name: k.Member, Role: k.Role, Node: k.Node}, Number: k.Number})
	}
	for _, m := range snap.Members {
		at := place.Member{Name: m.Member, Role: m.Role, Node: m.Node, Ports: m.Ports}
		if m.Leaving {
			l.Leaving = append(l.Leaving, at)
			continue
		}
		l.Members = append(l.Members, plan.Member{Member: at, Number: m.Number, Ready: m.Phase == state.Ready, Leads: m.Leads})
	}
	slices.SortStableFunc(l.Members, func(a, b plan.Member) int { return a.Number - b.Number })
	return l
}

// OfDraft is a field that has not been deployed.
func OfDraft(f *field.Field, at time.Time) *Snapshot {
	s := state.NewState()
	s.Field = f
	snap := Of(s, at)
	snap.State = Draft
	_, want := snap.Lit()
	snap.Verdict = fmt.Sprintf("Not deployed yet: the draft wants %s.", wording.Counted(want, "member"))
	return snap
}

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
	"lanternfield/internal/core/pace"
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
	Change   uint64       `json:"change,omitempty"` // rises whenever anything but measures has changed since the keeper began; 0 where nobody keeps the field
	Rollout  RolloutView  `json:"rollout,omitzero"` // what goes on, or went on last: a rollout or a task
	Proofs   []ProofView  `json:"proofs,omitempty"`
	Tasks    []TaskView   `json:"tasks,omitempty"` // that go on
	Roles    []RoleView   `json:"roles"`
	Members  []MemberView `json:"members"`
	Nodes    []NodeView   `json:"nodes"`
	Problems []string     `json:"problems,omitempty"`

	Questions []Question  `json:"questions,omitempty"` // that wait for a person
	Kept      []KeptView  `json:"kept,omitempty"`      // by role and number
	Keeper    *KeeperView `json:"keeper,omitempty"`    // who keeps the field; nil where nobody does
	Due       bool        `json:"due,omitempty"`       // nobody keeps it, and something is to be done that nobody does

	Notices []state.Notice `json:"notices,omitempty"` // of which a person is told, and that are so

	said string // the verdict without who is slow or stuck, what is noticed, and what is well
}

// KeptNames lists the members of whom data is kept.
func (snap *Snapshot) KeptNames() string {
	names := make([]field.MemberName, len(snap.Kept))
	for i, k := range snap.Kept {
		names[i] = k.Member
	}
	return wording.Members(names)
}

// ViewOf gives a rollout as it is shown.
func ViewOf(r state.Rollout) RolloutView {
	return RolloutView{Number: r.Number, What: r.What, By: r.By, Active: r.Active(), Began: r.Began, Ended: r.Ended, Paused: r.Paused, Failed: r.Failed,
		Outcome: r.Outcome, Target: r.Target, From: r.From}
}

// newest gives what goes on, the newest task before the rollout; where nothing goes on, what ended last.
func newest(s *state.State) RolloutView {
	v := ViewOf(s.Rollout)
	if s.Rollout.Outcome == state.Completed {
		if before := s.Comparable(); before != nil {
			v.Before = before.Ended.Sub(before.Began)
		}
	}
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
	stages, declared := plan.StageOf(s.Field), s.Field.NodesByName()
	for _, stage := range s.Field.Stages() {
		for _, name := range stage {
			role := s.Field.Role(name)
			view := roleView(s, role, groups, stages[name])
			snap.Roles = append(snap.Roles, view)
			peers := peersOf(s, name, groups[name], declared)
			for _, m := range groups[name] {
				snap.Members = append(snap.Members, memberView(s, m, &view, peers))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		if s.Field.Role(name) != nil {
			continue
		}
		// A role that the draft has no more.
		peers := peersOf(s, name, groups[name], declared)
		for _, m := range groups[name] {
			snap.Members = append(snap.Members, memberView(s, m, &RoleView{Role: name}, peers))
		}
	}
	for _, m := range s.Members {
		if m.Phase == state.Gone && m.Kept {
			snap.Kept = append(snap.Kept, KeptView{Member: m.Name, Role: m.Role, Number: m.Number, Node: m.Node, Bytes: field.Bytes(m.Bytes), Since: m.Since})
		}
	}
	slices.SortFunc(snap.Kept, func(a, b KeptView) int { return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number)) })
	snap.Nodes = nodeViews(s, snap.Members, declared)
	snap.Proofs = proofViews(s)
	snap.Questions = questions(s)
	snap.Notices = s.OpenNotices()
	snap.Problems = append(append(endings(s, at), lostLinks(s)...), unfiltered(s)...)
	snap.State = judge(s, snap)
	snap.said = sentence(s, snap)
	snap.Judged()
	return snap
}

func roleView(s *state.State, role *field.Role, groups map[field.RoleName][]*state.Member, stage int) RoleView {
	members := groups[role.Name]
	v := RoleView{Role: role.Name, Kind: role.Kind, Stage: stage, Want: role.Members, Votes: role.Votes, Leased: role.Guarded(), Confirms: s.Field.Confirms(role, role.Members), Store: role.LeaseStore(), Halted: len(members) > 0,
		Led: role.Program != nil && role.Program.Leader != nil, Founding: s.Founding(role), Calls: role.Called(), Knows: role.Known(), Keeps: role.Keeps()}
	v.Floating = s.Field.FloatingOf(role.Name)
	if v.Leased {
		v.Relies = role.Relied()
	}
	if role.External != nil {
		v.Outside, v.Authority = role.External.Addresses, role.External.Authority
	}
	v.Link, v.HandedTo = linkView(s, role), handedTo(s, role.Name)
	if has := s.Has(role); has != nil {
		v.Outside = has.Content.At()
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

func memberView(s *state.State, m *state.Member, role *RoleView, peers *peers) MemberView {
	v := MemberView{Member: m.Name, Role: m.Role, Number: m.Number, Node: m.Node, Phase: s.PhaseOf(m), Leaving: m.Leaving, Halted: m.Halted,
		Leads: role.Leader == m.Name || slices.Contains(role.Rivals, m.Name), Ports: maps.Clone(s.Ports(m)), PID: m.PID, Incarnation: m.Incarnation, Since: m.Since, Version: m.Version,
		Why: m.Why, Attempt: m.Attempt, RetryAt: m.RetryAt, Probe: ProbeView{OK: s.IsReady(m), Error: m.ProbeError}}
	if v.Leads {
		v.Floating = s.Field.FloatingOf(m.Role)
	}
	v.Writes = v.Phase == state.Ready && (!role.Led || role.Leader != "" && (role.Votes || v.Leads)) && (!role.Votes && !role.Leased || role.Survives >= 0)
	v.RestartDue, v.Unfit = m.RestartDue, m.Unfit
	if pending := m.Pending(); len(pending) > 0 {
		v.Pending = wording.Changed(order.Named(pending))
	}
	if n := peers.declared[m.Node]; n != nil {
		v.Zone = n.Zone
	}
	if n := s.Nodes[m.Node]; n != nil && n.There() {
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
	if r := s.RoleOf(m.Role); r.Cold && len(r.Answers) == 0 {
		v.Trouble = "" // the data of the others is still being read; then it is asked what to do
	}
	if v.Trouble != "" {
		v.Why = v.Trouble
	}
	if m.Unfit != "" {
		v.Why = "it runs as before: " + m.Unfit
	}
	v.WaitsFor, v.WaitsOn = waitsFor(s, m, role, peers), waitsOn(s, m, peers)
	if took := s.Took[m.Role][v.Phase]; len(took) > 0 {
		v.LastTook = took[len(took)-1]
		v.Usual = pace.Of(took)
	} else {
		if role := s.Field.Role(m.Role); v.Phase == state.Starting && role != nil && role.Program != nil {
			v.Usual = v.Usual.Or(role.Program.Takes.Or(0))
		}
	}
	return v
}

func nodeViews(s *state.State, members []MemberView, declared map[field.NodeName]*field.Node) []NodeView {
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
		v := NodeView{Node: name, Zone: n.Zone, Used: used[name], Offered: n.Offered(), Found: n.Has() != n.Size, Set: n.Set, OfSet: sets[n.Set], Others: n.Others}
		if n := s.Nodes[name]; n != nil {
			v.Address, v.Unreachable, v.Why, v.Freeing = n.Address, n.Unreachable, n.UnreachableWhy, n.Releasing && !n.Released
			v.Ground, v.ID, v.Asked = n.Kind, n.ID, n.Asked && !n.There() && !n.Released
			v.Awaited = v.Asked && n.Comes()
			if v.Asked {
				v.Why = n.AskedWhy
			}
		}
		views = append(views, v)
	}
	for _, n := range s.Field.Nodes {
		add(n)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Nodes)) {
		if declared[name] == nil && !s.Nodes[name].Released {
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

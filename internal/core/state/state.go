// Package state is a field as its events tell it. Facts are all that is ever stored; Apply folds one into the state and decides nothing, so
// that resuming, looking at the past and showing a rollout need nothing else. What a state says of a cluster (who votes, who leads, which
// gates are open, what templates see) is found here too; what should happen next is the business of package engine.
package state

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"slices"
	"sync/atomic"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
)

// Binding is the address and the agent's folder that the ground chose for a node.
type Binding struct{ Address, Dir string }

// Refused tells whether an agent does not obey this log.
func (s *State) Refused() bool {
	for _, n := range s.Nodes {
		if n.Refuses && !n.Released {
			return true
		}
	}
	return false
}

// OutOfReach tells whether a member's node cannot be reached.
func (s *State) OutOfReach(name field.MemberName) bool {
	m := s.Members[name]
	return m != nil && s.Nodes[m.Node] != nil && s.Nodes[m.Node].Unreachable
}

// Phase is where a member stands in its life.
type Phase string

// The phases of a member.
const (
	Planned  Phase = "planned"
	Placing  Phase = "placing"
	Starting Phase = "starting"
	Joining  Phase = "joining"
	Ready    Phase = "ready"
	Unready  Phase = "unready"
	Draining Phase = "draining"
	Stopping Phase = "stopping"
	Stopped  Phase = "stopped"
	Gone     Phase = "gone"
	Failed   Phase = "failed"
	Unknown  Phase = "unknown"
)

// State is a field as its events tell it. It is changed by Apply alone.
type State struct {
	Log      string            `json:",omitzero"` // the identity of the log
	Marks    map[uint64]string `json:",omitzero"` // of the terms
	Term     uint64            `json:",omitzero"` // rises with every controller
	Revision uint64            `json:",omitzero"` // the highest revision of any order
	Base     uint64            `json:",omitzero"` // what that was when this term began
	Field    *field.Field      `json:",omitzero"`
	Retiring bool              `json:",omitzero"`
	Retired  bool              `json:",omitzero"`
	// Recovered says that a person has gone on with a log that lacked something: agents may hold members that it does not know.
	Recovered bool                         `json:",omitzero"`
	Rollout   Rollout                      `json:",omitzero"`
	Rollouts  []Rollout                    `json:",omitzero"` // that have ended, oldest first
	Tasks     []Task                       `json:",omitzero"` // that go on, and the last that have ended
	TaskCount int                          `json:",omitzero"`
	Stalled   string                       `json:",omitzero"` // why the newest deploy stopped half-way; what it had not begun is not begun before the next one
	Lasted    map[string]time.Duration     `json:",omitzero"` // how long the newest rollout of each kind took that came to its end
	Nodes     map[field.NodeName]*Node     `json:",omitzero"`
	Roles     map[field.RoleName]*Role     `json:",omitzero"`
	Members   map[field.MemberName]*Member `json:",omitzero"` // those that are there, and those of whom data is kept
	Former    map[field.MemberName]*Member `json:",omitzero"` // those that have gone last
	// FormerCount is how many have gone since the field was deployed.
	FormerCount int `json:",omitzero"`

	Condensed time.Time `json:",omitzero"` // what had happened up to then is not kept in detail

	Planned PlanMemo `json:",omitzero"`

	// Resolved is where package resolve keeps what it has made of this state; shared by all its clones.
	Resolved *atomic.Value `json:"-"`

	// shape rises whenever what templates see may have changed.
	Shape int `json:",omitzero"`
	// drafts counts what was deployed; judged says up to which of them a member's spec was last found to be as it is by the draft.
	Drafts int                      `json:",omitzero"`
	Judged map[field.MemberName]int `json:",omitzero"`
	// census rises whenever who is there, or where, may have to change.
	Census int `json:",omitzero"`
	// rendered remembers at which shape a member's spec was last found unchanged. A memo: losing it costs time only.
	Rendered map[field.MemberName]int `json:",omitzero"`
}

// Rollout is the carrying out of a draft, of a restart that a changed configuration asks for, or of a retire. There is one at a time; those
// before it are in Rollouts.
type Rollout struct {
	Number int       `json:",omitzero"` // counts the field's rollouts, from 1
	What   string    `json:",omitzero"` // deploy, restart or retire
	By     string    `json:",omitzero"` // who asked for it
	Began  time.Time `json:",omitzero"`
	Ended  time.Time `json:",omitzero"` // zero while it goes on
	Target string    `json:",omitzero"` // the draft that it carries out, by its digest; see Digest
	From   string    `json:",omitzero"` // the draft that was deployed before

	Paused  bool    `json:",omitzero"` // nothing new is begun; what has begun goes on
	Failed  string  `json:",omitzero"` // why it stopped half-way
	Outcome Outcome `json:",omitzero"`
}

// Outcome is what became of a rollout.
type Outcome string

// The outcomes of a rollout. While it goes on it has none.
const (
	Completed Outcome = "completed"
	Failing   Outcome = "stopped half-way"
	Replaced  Outcome = "replaced by the next"
)

// Held tells whether the rollout is paused.
func (r Rollout) Held() bool { return r.Paused }

// Active tells whether the rollout goes on.
func (r Rollout) Active() bool { return !r.Began.IsZero() && r.Ended.IsZero() }

// Task is the stopping, starting or restarting of members that a person asked for. It goes on beside a rollout, and beside other tasks.
type Task struct {
	Number  int                `json:",omitzero"`
	What    string             `json:",omitzero"` // stop, start or restart
	By      string             `json:",omitzero"`
	Members []field.MemberName `json:",omitzero"`
	Began   time.Time          `json:",omitzero"`
	Ended   time.Time          `json:",omitzero"` // zero while it goes on
}

// Active tells whether the task goes on.
func (t Task) Active() bool { return t.Ended.IsZero() }

// UnderWay tells whether a rollout or a task goes on.
func (s *State) UnderWay() bool {
	return s.Rollout.Active() || slices.ContainsFunc(s.Tasks, Task.Active)
}

// What is remembered of rollouts and tasks that have ended; the log has all of them.
const (
	mostRollouts = 100
	mostTasks    = 8
)

// beginRollout makes a rollout the newest one.
func (s *State) beginRollout(next Rollout) {
	if before := s.Rollout; before.Number > 0 {
		if before.Active() {
			before.Ended, before.Outcome = next.Began, Replaced
		}
		s.Rollouts = append(slices.Clone(s.Rollouts), before)
		s.Rollouts = s.Rollouts[max(0, len(s.Rollouts)-mostRollouts):]
	}
	next.Number = s.Rollout.Number + 1
	s.Rollout = next
}

// beginTask notes what a person asks for of some members.
func (s *State) beginTask(what, by string, members []field.MemberName, at time.Time) {
	s.TaskCount++
	s.Tasks = append(slices.Clone(s.Tasks), Task{Number: s.TaskCount, What: what, By: by, Members: members, Began: at})
	for i := 0; len(s.Tasks) > mostTasks && i < len(s.Tasks); {
		if s.Tasks[i].Active() {
			i++
			continue
		}
		s.Tasks = slices.Delete(s.Tasks, i, i+1)
	}
}

// endTask ends a task; of a log of an older version, where tasks have no numbers, the newest of its kind.
func (s *State) endTask(number int, what string, at time.Time) (ended bool) {
	tasks := slices.Clone(s.Tasks)
	for i := len(tasks) - 1; i >= 0; i-- {
		if t := &tasks[i]; t.Active() && (t.Number == number || number == 0 && t.What == what) {
			t.Ended, s.Tasks = at, tasks
			for _, name := range t.Members {
				if m := s.Members[name]; m != nil {
					m.Asked = false
				}
			}
			return true
		}
	}
	return false
}

// Digest names a draft by its content.
func Digest(f *field.Field) string {
	if f == nil {
		return ""
	}
	data, err := json.Marshal(f)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:12])
}

// Node is a node that has been bound: it has an address and an agent's folder.
type Node struct {
	Name           field.NodeName `json:",omitzero"`
	Address        string         `json:",omitzero"`
	Dir            string         `json:",omitzero"`
	Forced         bool           `json:",omitzero"` // a person has taken the field over with a log that lacks what its agent was told
	Agent          string         `json:",omitzero"` // the life of the agent whose reports Heard counts
	Heard          uint64         `json:",omitzero"` // the number of the last report taken in
	Unheard        bool           `json:",omitzero"` // this controller has not heard it yet, so what is known of it may be out of date
	Unreachable    bool           `json:",omitzero"` // cannot be reached
	UnreachableWhy string         `json:",omitzero"`
	Refuses        bool           `json:",omitzero"` // its agent answers, and does not obey this log
	Since          time.Time      `json:",omitzero"`
	Releasing      bool           `json:",omitzero"`
	Released       bool           `json:",omitzero"`

	Strays map[field.MemberName]Stray `json:",omitzero"` // what its agent runs and the log does not know, after a person has taken the field over
}

// Role is what is known of a role as a cluster.
type Role struct {
	Name        field.RoleName      `json:",omitzero"`
	Founded     bool                `json:",omitzero"` // never becomes false again: a cluster is founded once
	Founders    []field.MemberName  `json:",omitzero"`
	Highest     int                 `json:",omitzero"` // the highest number ever given; see plan.Live
	Leader      field.MemberName    `json:",omitzero"`
	Claims      []Claim             `json:",omitzero"` // of all members that say that they lead, oldest first
	LeaderTerm  uint64              `json:",omitzero"`
	LeaderSince time.Time           `json:",omitzero"`
	Roster      []order.RosterEntry `json:",omitzero"` // nil until the cluster has told

	RosterAt   time.Time          `json:",omitzero"` // when its members said so
	RosterWhy  string             `json:",omitzero"` // why it cannot be read, while it cannot
	Op         *order.Operation   `json:",omitzero"` // the step of a procedure that is under way; one at a time
	Retried    string             `json:",omitzero"` // why it had to be tried again
	Waits      membership.Wait    `json:",omitzero"` // what the next change of membership waits for
	FoundDue   int                `json:",omitzero"` // steps of the founding procedure, as it was when the cluster was founded
	FoundSteps int                `json:",omitzero"` // steps of the founding procedure that are done
	Cold       bool               `json:",omitzero"` // nobody of it ran, and who begins is being found out, or begins
	Begins     field.MemberName   `json:",omitzero"` // who begins then, once that is known
	Without    []field.MemberName `json:",omitzero"` // whose data a person has given up for that
	HandedOver field.MemberName   `json:",omitzero"` // has handed over, and the cluster has not shown it yet

	Waited time.Duration `json:",omitzero"` // how long its newest member was planned before it was let run
	Warmed time.Duration `json:",omitzero"` // how long its newest member took from its start to being ready
}

// Member is one member in its life.
type Member struct {
	place.Member
	Number   int              `json:",omitzero"`
	Founding bool             `json:",omitzero"`
	Via      field.MemberName `json:",omitzero"` // who led when it was admitted
	Phase    Phase            `json:",omitzero"`
	Since    time.Time        `json:",omitzero"` // of Phase
	Why      string           `json:",omitzero"` // what failed, while it does

	Leaving    bool     `json:",omitzero"` // on its way out for good
	Halted     bool     `json:",omitzero"` // stopped on purpose, to come back
	RestartDue bool     `json:",omitzero"`
	RestartWhy string   `json:",omitzero"` // what for
	Asked      bool     `json:",omitzero"` // a person asked for its start, also while a rollout is paused
	Joined     bool     `json:",omitzero"` // has been ready once, or founded its cluster
	WasReady   bool     `json:",omitzero"` // has been ready once
	Began      bool     `json:",omitzero"` // has begun, and was not started again since
	Begins     bool     `json:",omitzero"` // of a cluster of which nobody ran, it is started first
	Rank       *float64 `json:",omitzero"` // how advanced its data is, as it was read for a cold start
	Admitted   bool     `json:",omitzero"` // may be started: founded its cluster, or has been let in
	Listed     bool     `json:",omitzero"` // has been on its cluster's own list
	Lived      bool     `json:",omitzero"` // worked when it began to leave
	Left       bool     `json:",omitzero"` // is no member of its cluster any more

	JoinDue   int                     `json:",omitzero"` // steps of joining, as they were when it was admitted
	Captured  map[string]string       `json:",omitzero"` // what its procedures took out of answers
	Steps     map[order.Procedure]int `json:",omitzero"` // steps done of each procedure
	Unsettled order.Procedure         `json:",omitzero"` // a step of it was tried, and what came of that is not known
	LastAsked field.MemberName        `json:",omitzero"` // whose agent may still be trying it
	Trouble   string                  `json:",omitzero"` // why its newest operation came to nothing
	Tries     int                     `json:",omitzero"` // operations in a row that came to nothing
	Stuck     bool                    `json:",omitzero"` // only a person may try again

	Ordered order.Order `json:",omitzero"` // the newest order
	Taken   uint64      `json:",omitzero"` // the newest revision that its agent has on disk
	Applied uint64      `json:",omitzero"` // the newest revision that it was started with, or of which its agent has said what came of it
	Running *order.Spec `json:",omitzero"` // what it runs with, as far as that is known
	Unfit   string      `json:",omitzero"` // why the newest order was not carried out: it runs as before
	Undone  bool        `json:",omitzero"` // the newest order was not carried out

	Awaits []string `json:",omitzero"` // what of it a changed draft has it take at its next start only

	Was     *order.Spec   `json:",omitzero"` // what it ran with before the newest order
	Specs   []OrderedSpec `json:",omitzero"` // what was ordered since, and at, its start
	Refused string        `json:",omitzero"` // why the agent did not take the newest order

	Keeps bool  `json:",omitzero"` // its data shall outlive it
	Kept  bool  `json:",omitzero"` // it is gone, or about to return, and its data is still on the node
	Bytes int64 `json:",omitzero"` // how much that is

	Incarnation int       `json:",omitzero"` // counts processes
	PID         int       `json:",omitzero"`
	StartedAt   time.Time `json:",omitzero"`
	ReadyAt     time.Time `json:",omitzero"`
	Attempt     int       `json:",omitzero"` // failures in a row
	RetryAt     time.Time `json:",omitzero"`
	LastExit    *ExitNote `json:",omitzero"`
	ProbeError  string    `json:",omitzero"`
}

// ExitNote keeps how a member last ended without having been asked to.
type ExitNote struct {
	At    time.Time `json:",omitzero"`
	Text  string    `json:",omitzero"`
	Lines []string  `json:",omitzero"`
}

// OrderedSpec is a spec with the revision of its order.
type OrderedSpec struct {
	Revision uint64      `json:",omitzero"`
	Spec     *order.Spec `json:",omitzero"`
}

// mostOrdered is how many specs are remembered of a member, its running one included.
const mostOrdered = 8

// remember keeps a spec that was ordered: the member may be started with it later.
func (m *Member) remember(o order.Order) {
	if o.Spec == nil || o.Want != order.Run {
		return
	}
	next := append(slices.Clone(m.Specs), OrderedSpec{o.Revision, o.Spec})
	if len(next) > mostOrdered {
		next = slices.Delete(next, 1, 2)
	}
	m.Specs = next
}

// startedWith notes with which order's spec the member was started; 0 stands for the newest.
func (m *Member) startedWith(revision uint64) {
	m.Running, m.Applied = m.Ordered.Spec, max(m.Applied, revision)
	if revision == m.Ordered.Revision {
		m.Unfit, m.Undone = "", false
	}
	if i := slices.IndexFunc(m.Specs, func(o OrderedSpec) bool { return o.Revision == revision }); i >= 0 {
		m.Running, m.Specs = m.Specs[i].Spec, slices.Clone(m.Specs[i:])
	}
}

// Runs is what the member runs with; what it would be started with when it does not run.
func (m *Member) Runs() *order.Spec {
	if m.Running != nil {
		return m.Running
	}
	return m.Ordered.Spec
}

// Pending lists what of a changed draft the member was not started with, and takes at its next start only.
func (m *Member) Pending() []order.Difference {
	if m.PID == 0 || m.Halted || m.Leaving || m.Undone {
		return nil
	}
	return slices.DeleteFunc(order.Pending(m.Running, m.Ordered.Spec), func(d order.Difference) bool { return !slices.Contains(m.Awaits, d.What) })
}

// NewState is the state before any event.
func NewState() *State {
	s := &State{Resolved: &atomic.Value{}}
	s.reset()
	return s
}

func (s *State) reset() {
	s.Nodes = map[field.NodeName]*Node{}
	s.Roles = map[field.RoleName]*Role{}
	s.Members, s.Former = map[field.MemberName]*Member{}, map[field.MemberName]*Member{}
	s.Rendered = map[field.MemberName]int{}
	s.Judged = map[field.MemberName]int{}
	s.Retiring, s.Retired, s.FormerCount = false, false, 0
}

// Deployed tells whether there is anything of the field in the world.
func (s *State) Deployed() bool { return s.Field != nil && !s.Retired }

// Listening counts the nodes that a new controller has still to hear before it may believe what is stored.
func (s *State) Listening() int {
	n := 0
	for _, node := range s.Nodes {
		if node.Unheard && !node.Releasing && !node.Released {
			n++
		}
	}
	return n
}

// RoleOf is what is known of a role as a cluster. Of one that no event has told of, that is nothing.
func (s *State) RoleOf(name field.RoleName) *Role {
	if r := s.Roles[name]; r != nil {
		return r
	}
	return &Role{Name: name}
}

// ensureRole is RoleOf for who folds an event: it makes room for a role that is told of for the first time.
func (s *State) ensureRole(name field.RoleName) *Role {
	r := s.RoleOf(name)
	s.Roles[name] = r
	return r
}

// MembersOf lists the members of a role that are not gone, oldest first.
func (s *State) MembersOf(role field.RoleName) []*Member {
	var members []*Member
	for _, m := range s.Members {
		if m.Role == role && m.Phase != Gone {
			members = append(members, m)
		}
	}
	slices.SortFunc(members, func(a, b *Member) int { return a.Number - b.Number })
	return members
}

// ByRole groups the members that are not gone, oldest first. One pass serves all roles.
func (s *State) ByRole() map[field.RoleName][]*Member {
	groups := map[field.RoleName][]*Member{}
	for _, m := range s.Members {
		if m.Phase != Gone {
			groups[m.Role] = append(groups[m.Role], m)
		}
	}
	for _, g := range groups {
		slices.SortFunc(g, func(a, b *Member) int { return a.Number - b.Number })
	}
	return groups
}

// PlanMemo remembers at which census the comparison of members and draft last found nothing to do. Losing it costs time only.
type PlanMemo struct {
	Census   int  `json:",omitzero"`
	Valid    bool `json:",omitzero"`
	Unplaced bool `json:",omitzero"`
}

// PhaseOf is the member's phase as far as it can be known: a node that cannot be reached makes it unknown, and a member
// that answers but is missing from its cluster's roster is still joining.
func (s *State) PhaseOf(m *Member) Phase {
	if n := s.Nodes[m.Node]; n != nil && n.Unreachable {
		switch m.Phase {
		case Starting, Joining, Ready, Unready, Failed, Draining, Stopping:
			return Unknown
		}
	}
	if m.Phase == Ready && !m.Leaving && (s.missingFromRoster(m) || s.Learns(m) || s.joins(m)) {
		return Joining
	}
	return m.Phase
}

// Learns tells whether a member is a learner that shall vote.
func (s *State) Learns(m *Member) bool {
	role := s.Field.Role(m.Role)
	return role != nil && role.Votes && Procedural(role) && s.Seat(role, m) == membership.Learner
}

// joins tells whether steps of joining that come after its start are still to be done, where no roster says more.
func (s *State) joins(m *Member) bool {
	r, role := s.Roles[m.Role], s.Field.Role(m.Role)
	return r != nil && r.Roster == nil && role != nil && role.Program != nil && !m.Founding && m.Admitted &&
		m.Steps[order.Join] < min(m.JoinDue, len(role.Program.Join))
}

func (s *State) missingFromRoster(m *Member) bool {
	r := s.Roles[m.Role]
	return r != nil && r.Roster != nil && s.Entry(m) == nil
}

// IsReady tells whether the member does its work now.
func (s *State) IsReady(m *Member) bool { return s.PhaseOf(m) == Ready }

// Member finds a member, also one that is gone; nil where there never was one.
func (s *State) Member(name field.MemberName) *Member {
	if m := s.Members[name]; m != nil {
		return m
	}
	return s.Former[name]
}

// retireMember puts a member among the former ones once it is gone and nothing is kept of it.
func (s *State) retireMember(m *Member) {
	if m.Phase == Gone && !m.Kept && s.Members[m.Name] == m {
		delete(s.Members, m.Name)
		s.Former[m.Name] = m
		s.FormerCount++
		if len(s.Former) > mostFormer+mostFormer/4 {
			s.forgetFormer()
		}
	}
}

// mostFormer is how many former members are remembered beside those that others were told of; the log has all of them.
const mostFormer = 400

// forgetFormer forgets the former members that have been gone for longest. Founders, and those by whom present members were admitted, stay:
// templates see them.
func (s *State) forgetFormer() {
	needed := map[field.MemberName]bool{}
	for _, r := range s.Roles {
		for _, f := range r.Founders {
			needed[f] = true
		}
		if r.Op != nil {
			needed[r.Op.Asked], needed[r.Op.Member] = true, true
		}
	}
	for _, m := range s.Members {
		needed[m.Via], needed[m.LastAsked] = true, true
	}
	var oldest []*Member
	for name, m := range s.Former {
		if !needed[name] {
			oldest = append(oldest, m)
		}
	}
	slices.SortFunc(oldest, func(a, b *Member) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Name, b.Name)) })
	for _, m := range oldest[:max(0, len(oldest)-mostFormer)] {
		delete(s.Former, m.Name)
	}
}

// EveryMember lists the members that are there, and the former ones that are remembered, by role and number.
func EveryMember(s *State) []*Member {
	members := slices.AppendSeq(slices.Collect(maps.Values(s.Members)), maps.Values(s.Former))
	slices.SortFunc(members, func(a, b *Member) int {
		return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number))
	})
	return members
}

// SortedMembers lists the members that are there, and those of whom data is kept, by role and number.
func SortedMembers(s *State) []*Member {
	members := slices.Collect(maps.Values(s.Members))
	slices.SortFunc(members, func(a, b *Member) int {
		return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number))
	})
	return members
}

// SortedNodes lists all nodes that were bound, by name.
func SortedNodes(s *State) []*Node {
	nodes := slices.Collect(maps.Values(s.Nodes))
	slices.SortFunc(nodes, func(a, b *Node) int { return cmp.Compare(a.Name, b.Name) })
	return nodes
}

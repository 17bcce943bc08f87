// Package state is a field as its events tell it. Facts are all that is ever stored; Apply folds one into the state and decides nothing, so
// that resuming, looking at the past and showing a rollout need nothing else. What a state says of a cluster (who votes, who leads, which
// gates are open, what templates see) is found here too; what should happen next is the business of package engine.
package state

import (
	"cmp"
	"maps"
	"slices"
	"sync/atomic"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/trust"
)

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
	Recovered bool      `json:",omitzero"`
	Rollout   Rollout   `json:",omitzero"`
	Rollouts  []Rollout `json:",omitzero"` // that have ended, oldest first
	Tasks     []Task    `json:",omitzero"` // that go on, and the last that have ended
	TaskCount int       `json:",omitzero"`

	Authorities    []trust.Authority `json:",omitzero"` // of members' certificates, those that count, the newest last: it issues them
	AuthorityCount int               `json:",omitzero"` // how many there ever were

	Secrets map[string]Secret `json:",omitzero"` // of which something was said, by name; replaced as a whole

	Links      map[field.RoleName]Link `json:",omitzero"` // roles of other fields, by the role that stands for each here; replaced as a whole
	LinkCount  int                     `json:",omitzero"` // how often anything was handed over
	Grants     map[string]Grant        `json:",omitzero"` // what other fields have of roles of this one; replaced as a whole
	GrantCount int                     `json:",omitzero"` // how many certificates they were ever given

	Invitations map[string]Invitation `json:",omitzero"` // by which machines may join, by ID; replaced as a whole

	Counting Counting `json:",omitzero"` // which certificates count between controllers and agents

	Ledger map[field.NodeName]Account `json:",omitzero"` // what was done on machines and not undone; replaced as a whole

	Proofs     map[ProofKey]*Proof `json:",omitzero"` // of roles; replaced as a whole
	ProofCount int                 `json:",omitzero"`

	Notices     []Notice `json:",omitzero"` // that are open, and those that are over of which somebody is still to be told; replaced as a whole
	NoticeCount int      `json:",omitzero"`

	Stalled string                       `json:",omitzero"`  // why the newest deploy stopped half-way; what it had not begun is not begun before the next one
	Good    *field.Field                 `json:",omitzero"`  // the newest draft that was carried out to its end; nil where none was
	Took    Took                         `json:",omitempty"` // how long members took; it outlives a retire
	Lasted  map[string]time.Duration     `json:",omitzero"`  // how long the newest rollout of each kind took that came to its end
	Nodes   map[field.NodeName]*Node     `json:",omitzero"`
	Roles   map[field.RoleName]*Role     `json:",omitzero"`
	Members map[field.MemberName]*Member `json:",omitzero"` // those that are there, and those of whom data is kept
	Former  map[field.MemberName]*Member `json:",omitzero"` // those that have gone last
	// FormerCount is how many have gone since the field was deployed.
	FormerCount int `json:",omitzero"`

	Condensed time.Time `json:",omitzero"` // what had happened up to then is not kept in detail

	Planned PlanMemo `json:",omitzero"`

	// Resolved is where package resolve keeps what it has made of this state; shared by all its clones.
	Resolved *atomic.Value `json:"-"`

	// shape rises whenever what templates see may have changed.
	Shape int `json:",omitzero"`
	// Reactive says that templates see who works and who leads.
	Reactive bool `json:",omitzero"`
	// drafts counts what was deployed; judged says up to which of them a member's spec was last found to be as it is by the draft.
	Drafts int                      `json:",omitzero"`
	Judged map[field.MemberName]int `json:",omitzero"`
	// census rises whenever who is there, or where, may have to change.
	Census int `json:",omitzero"`
	// drawn remembers what members' specs came to at a shape: while one after the other is given a change, nobody's is rendered again. A memo, and each
	// state's own.
	drawn map[field.MemberName]drawnSpec
	// rendered remembers at which shape a member's spec was last found unchanged. A memo: losing it costs time only.
	Rendered map[field.MemberName]int `json:",omitzero"`
}

// Node is a node that a ground was asked for. Once it is there it has an address and an agent's folder.
type Node struct {
	Name      field.NodeName    `json:",omitzero"`
	Kind      string            `json:",omitzero"` // of the ground
	ID        string            `json:",omitzero"` // the provider's own name for it
	Address   string            `json:",omitzero"` // empty until it is there
	Addresses map[string]string `json:",omitzero"` // on the other networks
	Dir       string            `json:",omitzero"`
	Ground    field.Ground      `json:",omitzero"` // how it was declared to be reached when it was given
	Asked     bool              `json:",omitzero"` // its ground has been asked for it, or for more addresses of it, and has not given them
	AskedWhy  string            `json:",omitzero"` // why it could not, last time
	Awaited   bool              `json:",omitzero"` // it is somebody else who has to bring it

	Forced         bool      `json:",omitzero"` // a person has taken the field over with a log that lacks what its agent was told
	Agent          string    `json:",omitzero"` // the life of the agent whose reports Heard counts
	Heard          uint64    `json:",omitzero"` // the number of the last report taken in
	Unheard        bool      `json:",omitzero"` // this controller has not heard it yet, so what is known of it may be out of date
	Unreachable    bool      `json:",omitzero"` // cannot be reached
	UnreachableWhy string    `json:",omitzero"`
	Refuses        bool      `json:",omitzero"` // its agent answers, and does not obey this log
	Since          time.Time `json:",omitzero"`
	Bound          int       `json:",omitzero"` // how often it was asked for: one that was freed and taken back is another
	Releasing      bool      `json:",omitzero"`
	Released       bool      `json:",omitzero"`
	Lost           bool      `json:",omitzero"` // it was released since a person says that it is gone for good

	Rules    string `json:",omitzero"` // the digest of the rules of its packet filter that count; empty where nothing is restricted
	RulesWhy string `json:",omitzero"` // why those that should count do not

	Strays map[field.MemberName]Stray `json:",omitzero"` // what its agent runs and the log does not know, after a person has taken the field over
}

// Silent is why a node is unreachable of which nothing else is known; behind it stands what else is.
const Silent = "its agent does not answer"

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
	Answers    []Answer           `json:",omitzero"` // that a person can give, where waiting alone does not end it
	FoundDue   int                `json:",omitzero"` // steps of the founding procedure, as it was when the cluster was founded
	FoundSteps int                `json:",omitzero"` // steps of the founding procedure that are done
	Cold       bool               `json:",omitzero"` // nobody of it ran, and who begins is being found out, or begins
	Begins     field.MemberName   `json:",omitzero"` // who begins then, once that is known
	Without    []field.MemberName `json:",omitzero"` // whose data a person has given up for that
	HandedOver field.MemberName   `json:",omitzero"` // has handed over, and the cluster has not shown it yet

	Client trust.Issue `json:",omitzero"` // of the certificate that its clients show

	Outside      *trust.Outside `json:",omitzero"` // that its members show to those who reach them by its names; replaced as a whole
	OutsideCount int            `json:",omitzero"` // how many there ever were

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
	s.Retiring, s.Retired, s.FormerCount, s.Good = false, false, 0, nil
	for name, x := range s.Secrets { // whoever would have to take it is gone
		if len(x.Due) > 0 {
			x.Before, x.BeforeGiven, x.Due = 0, false, nil
			s.putSecret(name, x)
		}
	}
}

// drawnSpec is a spec as it was rendered at a shape.
type drawnSpec struct {
	shape int
	spec  *order.Spec
	waits bool // it was found to wait for its turn to be given that
}

// WaitsForTurn tells whether a member was found to wait for its turn to be given its spec, and nothing has changed since; Wait notes that it does.
func (s *State) WaitsForTurn(name field.MemberName) bool {
	d := s.drawn[name]
	return d.waits && d.shape == s.Shape
}

// Wait notes that a member waits for its turn to be given the spec that was drawn.
func (s *State) Wait(name field.MemberName) {
	if d, known := s.drawn[name]; known {
		d.waits = true
		s.drawn[name] = d
	}
}

// Drawn gives a member's spec at the present shape, making it where it is not known. What is made is nil where it cannot be.
func (s *State) Drawn(name field.MemberName, render func() *order.Spec) *order.Spec {
	if d, known := s.drawn[name]; known && d.shape == s.Shape {
		return d.spec
	}
	spec := render()
	if spec == nil {
		return nil
	}
	if s.drawn == nil {
		s.drawn = map[field.MemberName]drawnSpec{}
	}
	s.drawn[name] = drawnSpec{shape: s.Shape, spec: spec}
	return spec
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

// SortedNodes lists all nodes that were bound, by name.
func SortedNodes(s *State) []*Node {
	nodes := slices.Collect(maps.Values(s.Nodes))
	slices.SortFunc(nodes, func(a, b *Node) int { return cmp.Compare(a.Name, b.Name) })
	return nodes
}

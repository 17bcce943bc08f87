package state

import (
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/trust"
)

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
	RestartFit bool     `json:",omitzero"` // was ready when its restart was asked for
	Asked      bool     `json:",omitzero"` // a person asked for its start, also while a rollout is paused
	Joined     bool     `json:",omitzero"` // has been ready once, or founded its cluster
	WasReady   bool     `json:",omitzero"` // has been ready once
	Version    string   `json:",omitzero"` // of the program that runs, as that tells it
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

	Issue trust.Issue `json:",omitzero"` // of its certificate; its number is 0 before the first

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

	Incarnation int         `json:",omitzero"` // counts processes
	PID         int         `json:",omitzero"`
	StartedAt   time.Time   `json:",omitzero"`
	ReadyAt     time.Time   `json:",omitzero"`
	MovedBy     int         `json:",omitzero"` // the number of the rollout that gave it an order last
	ComesSince  time.Time   `json:",omitzero"` // since when it was ordered to run and has not been lit
	JoinsSince  time.Time   `json:",omitzero"` // since when it answers, and is not on its cluster's list yet
	Attempt     int         `json:",omitzero"` // failures in a row
	RetryAt     time.Time   `json:",omitzero"`
	LastExit    *ExitNote   `json:",omitzero"`
	Exits       []time.Time `json:",omitzero"` // when it ended without having been asked to, oldest first
	ProbeError  string      `json:",omitzero"`
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

// Awaited tells whether an agent has still to take the member's newest order.
func (m *Member) Awaited() bool { return m != nil && m.Phase != Gone && m.Ordered.Revision > m.Taken }

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

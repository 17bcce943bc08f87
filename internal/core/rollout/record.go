// Package rollout is what is carried out, over time: a row a member with its phases, gates that stood in the way, what waited for what, and how much
// longer it may take. A Recorder folds it from the field's events; nothing of it is decided here.
package rollout

import (
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
)

// Record is a rollout or a task from its beginning to its end, or as far as it has come.
type Record struct {
	Number  int           `json:"number,omitempty"` // of the rollout
	Task    int           `json:"task,omitempty"`   // of the task, where it is one
	What    string        `json:"what"`             // deploy, retire, stop, start or restart
	By      string        `json:"by,omitempty"`
	Began   time.Time     `json:"began"`
	Ended   time.Time     `json:"ended,omitzero"` // zero while it goes on
	Failed  string        `json:"failed,omitempty"`
	Outcome state.Outcome `json:"outcome,omitempty"`
	At      time.Time     `json:"at"` // until when it is told

	Rows   []Row   `json:"rows"`  // of those that it moved, in the order of deployment
	Gates  []Gate  `json:"gates"` // that stood in the way of a role
	Pauses []Span  `json:"pauses,omitempty"`
	Still  int     `json:"still"`           // members that it left alone
	Chain  []Link  `json:"chain,omitempty"` // what decides how long it takes, from its root to who is done last
	Before *Before `json:"before,omitempty"`

	Expected *pace.Estimate `json:"expected,omitempty"` // how much longer; nil once it has ended
}

// Active tells whether it goes on.
func (r *Record) Active() bool { return r.Ended.IsZero() }

// End is where it ends, or has come to.
func (r *Record) End() time.Time {
	if r.Active() {
		return r.At
	}
	return r.Ended
}

// Row finds the row of a member; nil where it was left alone.
func (r *Record) Row(name field.MemberName) *Row {
	for i := range r.Rows {
		if r.Rows[i].Member == name {
			return &r.Rows[i]
		}
	}
	return nil
}

// Before is how long the newest one took of the same kind, and with as many members, that had come to its end by then.
type Before struct {
	Number int           `json:"number,omitempty"`
	Took   time.Duration `json:"took_ns"`
}

// Action is what becomes of a member.
type Action string

// The actions.
const (
	Comes    Action = "comes"    // it is placed and started
	Changes  Action = "changes"  // it takes another configuration, with a restart or without
	Leaves   Action = "leaves"   // it ends for good
	Stops    Action = "stops"    // it ends, to come back
	Starts   Action = "starts"   // it comes back
	Restarts Action = "restarts" // it ends and comes back
	Flaps    Action = "flaps"    // nothing was asked of it: it went dark, or came back
)

// Row is what a member came through.
type Row struct {
	Member   field.MemberName `json:"member"`
	Role     field.RoleName   `json:"role"`
	Node     field.NodeName   `json:"node"`
	Zone     field.ZoneName   `json:"zone,omitempty"`
	Stage    int              `json:"stage"`
	Number   int              `json:"-"`
	Action   Action           `json:"action"`
	Segments []Segment        `json:"segments"`        // one after the other; the last one goes on
	Begun    time.Time        `json:"begun,omitzero"`  // when it was its turn
	Done     time.Time        `json:"done,omitzero"`   // when it had come to where it was to come; zero before
	After    *Cause           `json:"after,omitempty"` // what it waited for last before it was its turn

	Expected *Expected       `json:"expected,omitempty"` // while it is not done
	Pace     *pace.Judgement `json:"pace,omitempty"`     // how it goes, while it is in a phase that it comes through by itself
}

// Now is the segment in which it is.
func (r *Row) Now() *Segment { return &r.Segments[len(r.Segments)-1] }

// Segment is a phase of a member, for a time.
type Segment struct {
	Phase state.Phase `json:"phase"`
	From  time.Time   `json:"from"`
	To    time.Time   `json:"to,omitzero"`    // zero while it goes on
	Due   bool        `json:"due,omitempty"`  // it works, and waits for its turn
	Why   string      `json:"why,omitempty"`  // what failed
	Usual pace.Usual  `json:"usual,omitzero"` // what it had taken before, where it is one that is come through
}

// Until is where the segment ends, or has come to.
func (s Segment) Until(now time.Time) time.Time {
	if s.To.IsZero() {
		return now
	}
	return s.To
}

// Gate is a gate that stood in the way of a role.
type Gate struct {
	Role   field.RoleName   `json:"role"`
	Since  time.Time        `json:"since"`
	Opened time.Time        `json:"opened,omitzero"` // zero while it is closed
	By     field.MemberName `json:"by,omitempty"`    // whose step opened it
	Gate   state.Gate       `json:"gate"`            // as it was last
}

// Open tells whether it has opened.
func (g *Gate) Open() bool { return !g.Opened.IsZero() }

// Cause is what a member waited for last.
type Cause struct {
	Kind   CauseKind        `json:"kind"`
	Role   field.RoleName   `json:"role,omitempty"`   // on which the gate was
	Member field.MemberName `json:"member,omitempty"` // whose step let it go on
	Node   field.NodeName   `json:"node,omitempty"`
	At     time.Time        `json:"at"`
}

// CauseKind says what it was.
type CauseKind string

// The kinds of causes.
const (
	AGate CauseKind = "gate" // it opened
	APeer CauseKind = "peer" // it had its turn before
	ANode CauseKind = "node" // it was there
)

// Span is a time from one moment to another; To is zero while it goes on.
type Span struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to,omitzero"`
}

// Link is a part of the chain that decides how long it takes: a member, and what it had waited for.
type Link struct {
	Member field.MemberName `json:"member"`
	After  *Cause           `json:"after,omitempty"` // nil for the root
}

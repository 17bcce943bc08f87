package snapshot

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// KeeperView is the process that keeps a field.
type KeeperView struct {
	PID      int       `json:"pid"`
	Command  string    `json:"command"`
	Since    time.Time `json:"since"`
	Stays    bool      `json:"stays,omitempty"`    // also when all is settled
	Attached []string  `json:"attached,omitempty"` // screens and commands
	Sealed   string    `json:"sealed,omitempty"`   // why it only watches: the keyring is not open
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

	Before   time.Duration `json:"before_ns,omitempty"`    // once it has come to its end: how long the newest one took before it of the same kind, with as many members to move
	LastTook time.Duration `json:"last_took_ns,omitempty"` // how long the newest one of the same kind took that came to its end
}

// Compared says how long it took beside the time before; empty where nothing can be compared.
func (v RolloutView) Compared() string { return pace.Compared(v.Ended.Sub(v.Began), v.Before) }

// TaskView is a task that goes on.
type TaskView struct {
	Number  int                `json:"number"`
	What    string             `json:"what"`
	By      string             `json:"by,omitempty"`
	Members []field.MemberName `json:"members"`
	Began   time.Time          `json:"began"`
}

// ProofView is a proof of a role, as it was done last.
type ProofView struct {
	Role    field.RoleName     `json:"role"`
	Name    string             `json:"name"`
	About   string             `json:"about,omitempty"`
	Running bool               `json:"running,omitempty"` // it is being done now
	Number  int                `json:"number,omitempty"`  // of the run that has ended last; rises within the field
	At      time.Time          `json:"at,omitzero"`       // when that had ended; zero where it was never done
	By      string             `json:"by,omitempty"`      // who asked for it
	OK      bool               `json:"ok"`
	Why     string             `json:"why,omitempty"` // why not
	TookMS  float64            `json:"took_ms,omitempty"`
	Steps   []state.StepResult `json:"steps,omitempty"`
}

// Failed tells whether it was done and did not hold.
func (p ProofView) Failed() bool { return !p.At.IsZero() && !p.OK }

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
	Leased      bool                `json:"leased,omitempty"`      // a lease says who leads
	Floating    string              `json:"floating,omitempty"`    // an address that one member has at a time: it leads
	Confirms    int                 `json:"confirms,omitempty"`    // how many others confirm each write then
	Store       field.RoleName      `json:"lease_store,omitempty"` // where the lease is kept
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
	Relies      []field.RoleName    `json:"relies,omitempty"`  // of those it calls, where one of them is only the store of its lease
	Outside     []string            `json:"outside,omitempty"` // the addresses of something that is not ours, and only watched
	Authority   string              `json:"authority,omitempty"`
	Link        *LinkView           `json:"link,omitempty"`      // it stands for a role of another field
	HandedTo    []HandedView        `json:"handed_to,omitempty"` // other fields that are handed it over
	Knows       []field.RoleName    `json:"knows,omitempty"`     // of whom it is told without waiting for them
	Keeps       bool                `json:"keeps,omitempty"`     // the data of its members outlives them
	Worked      bool                `json:"worked,omitempty"`    // has had its quorum, or a ready member, since it was founded
}

// LinkView is a role of another field, by the role that stands for it.
type LinkView struct {
	Field string         `json:"field"`
	Role  field.RoleName `json:"role"`
	Since time.Time      `json:"since,omitzero"` // it has been handed over; zero where it never was
	Until time.Time      `json:"until,omitzero"` // of the certificate that is shown there
	Why   string         `json:"why,omitempty"`  // why it is not handed over, or no more
}

// HandedView is another field that a role is handed over to.
type HandedView struct {
	Field string         `json:"field"`
	As    field.RoleName `json:"as"`
	Since time.Time      `json:"since"`
	Until time.Time      `json:"until,omitzero"` // of the certificate that it shows
}

// IsOutside tells whether the role is not the field's own, and only watched.
func (r RoleView) IsOutside() bool { return len(r.Outside) > 0 || r.Link != nil }

// Needs lists without whom the role cannot do its work.
func (r RoleView) Needs() []field.RoleName {
	if r.Leased {
		return r.Relies
	}
	return r.Calls
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
	Floating    string           `json:"floating,omitempty"` // the address by which it leads, which one member of its role has at a time
	Leaving     bool             `json:"leaving,omitempty"`
	Halted      bool             `json:"halted,omitempty"`      // stopped on purpose
	Seat        string           `json:"seat,omitempty"`        // voter or learner, where members vote
	ID          string           `json:"id,omitempty"`          // under which the cluster itself lists it
	Trouble     string           `json:"trouble,omitempty"`     // why it could not be let in, promoted or let go
	Left        bool             `json:"left,omitempty"`        // is no member of its cluster any more
	Pending     string           `json:"pending,omitempty"`     // what it takes at its next start only
	RestartDue  bool             `json:"restart_due,omitempty"` // it is to be restarted
	Version     string           `json:"version,omitempty"`     // of the program that runs, as that tells it
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
	WaitsOn     field.MemberName `json:"waits_on,omitempty"`     // whose turn comes before, where that is what it waits for
	LastTook    time.Duration    `json:"last_took_ns,omitempty"` // what this phase took the role's newest member that came through it
	Usual       pace.Usual       `json:"usual,omitzero"`         // what this phase took members of the role before
	Pace        *pace.Judgement  `json:"pace,omitempty"`         // whether it is slow, or stuck, in this phase; nil where that is not known or it waits for others
	Why         string           `json:"why,omitempty"`
	Attempt     int              `json:"attempt,omitempty"`
	RetryAt     time.Time        `json:"retry_at,omitzero"`
	LastExit    string           `json:"last_exit,omitempty"`
	LastExitAt  time.Time        `json:"last_exit_at,omitzero"`
	LastLines   []string         `json:"last_lines,omitempty"`
	Log         string           `json:"log,omitempty"`
	Probe       ProbeView        `json:"probe"`
	Gauge       *field.Reading   `json:"gauge,omitempty"` // how far it has come, or is behind; read now and then
	Signs       Signs            `json:"signs,omitzero"`
}

// Signs show that a member is at work. They are looked at now and then, and zero where they are not known.
type Signs struct {
	Wrote  time.Time `json:"wrote,omitzero"`  // when its log grew last
	Worked time.Time `json:"worked,omitzero"` // when it used the processor last
}

// Far says how far the member has come, while it starts, or how far it is behind; empty where that is not worth saying.
func (m MemberView) Far(now time.Time) string {
	if m.Gauge == nil || m.Phase == state.Ready && (!m.Gauge.Lag || m.Gauge.Value <= 0) {
		return ""
	}
	return m.Gauge.Words(now)
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
	Ground      string         `json:"ground,omitempty"`  // the kind of ground that it comes from
	ID          string         `json:"id,omitempty"`      // its provider's own name for it
	Asked       bool           `json:"asked,omitempty"`   // its ground has been asked for it and has not given it
	Awaited     bool           `json:"awaited,omitempty"` // it is for somebody to bring its machine
	Unreachable bool           `json:"dark,omitempty"`
	Freeing     bool           `json:"freeing,omitempty"` // it is being given up
	Why         string         `json:"why,omitempty"`
	Used        field.Size     `json:"used,omitzero"`
	Offered     field.Size     `json:"offered,omitzero"`
	Found       bool           `json:"found,omitempty"` // what it offers was found there, and is not said in the file, or not all of it

	Set   string         `json:"set,omitempty"` // that it comes from, where it is made as members want it
	OfSet field.SetCount `json:"of_set,omitzero"`

	Others *field.Others `json:"others,omitempty"` // what other fields keep of it
}

// Question is what only a person can decide. Nothing of the role is begun before somebody has answered.
type Question struct {
	Role    field.RoleName `json:"role"`
	Text    string         `json:"text"`          // what the role waits for
	Why     []string       `json:"why,omitempty"` // that is so
	Answers []Choice       `json:"answers"`
}

// Choice is an answer: a request to start members of the role, and what it costs.
type Choice struct {
	Start   []field.MemberName `json:"start,omitempty"` // all of the role where nobody is named
	Without []field.MemberName `json:"without,omitempty"`
	Word    string             `json:"word"`
	Costs   string             `json:"costs,omitempty"`
}

// Names are the members, or the role, that the answer has started.
func (q Question) Names(c Choice) []string {
	if len(c.Start) == 0 {
		return []string{string(q.Role)}
	}
	var names []string
	for _, m := range c.Start {
		names = append(names, string(m))
	}
	return names
}

// questions are what the field waits for a person to decide.
func questions(s *state.State) []Question {
	var all []Question
	for _, name := range slices.Sorted(maps.Keys(s.Roles)) {
		r := s.Roles[name]
		if len(r.Answers) == 0 || s.Retiring {
			continue
		}
		q := Question{Role: name, Text: fmt.Sprintf("%s waits for %s", name, r.Waits.For)}
		for _, a := range r.Answers {
			c := Choice{Start: a.Start, Without: a.Without, Word: "start " + wording.Members(a.Start) + " too"}
			if len(a.Without) > 0 {
				c.Word = "begin without " + wording.Members(a.Without)
				for _, name := range a.Without {
					if m := s.Members[name]; m != nil && m.Trouble != "" && !slices.Contains(q.Why, m.Trouble) {
						q.Why = append(q.Why, m.Trouble)
					}
				}
				c.Costs = fmt.Sprintf("what only %s %s is lost", wording.Members(a.Without), wording.Plural(len(a.Without), "has", "have"))
			}
			q.Answers = append(q.Answers, c)
		}
		all = append(all, q)
	}
	return all
}

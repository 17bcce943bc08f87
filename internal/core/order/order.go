// Package order holds what passes between a controller and the agents: orders down, numbered reports up.
package order

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
)

// Want is what an agent shall bring a member to.
type Want string

// What can be wanted of a member.
const (
	Run  Want = "run"
	Stop Want = "stop" // ended; data kept
	Gone Want = "gone" // ended; its folder removed
)

// Order tells an agent what one member shall be. Term and Revision let the agent refuse what is out of date: it keeps
// the highest of both on disk before it acts. Repeating an order is harmless.
type Order struct {
	Term     uint64           `json:"term"`
	Revision uint64           `json:"revision"`
	Member   field.MemberName `json:"member"`
	Want     Want             `json:"want"`
	Round    int              `json:"round,omitempty"` // raised to have a running member restarted
	Spec     *Spec            `json:"spec,omitempty"`  // nil where nothing is to run
	// Final says that the member is on its way out: when its process ends, it is not started again.
	NoRestart bool `json:"final,omitempty"`
	// Keep says that the data of a member that goes is put aside on its node.
	Keep bool `json:"keep,omitempty"`
	// Lag is how long the agent waits before the first start. Voters that start in lockstep stand for election in
	// lockstep, split the votes, and wait out a whole election time-out.
	StartDelay time.Duration `json:"lag,omitempty"`
}

// Spec is everything that an agent must know to run a member: all templates are rendered, all ports are numbers.
type Spec struct {
	// Ref stands for a whole spec, by its hash, where specs are stored once (see package eventlog). Everything else is empty then.
	Ref string `json:"ref,omitempty"`

	Role     field.RoleName     `json:"role,omitempty"`
	Version  string             `json:"version,omitempty"`
	Votes    bool               `json:"votes,omitempty"` // its members vote, so that one without its data must not come back
	Address  string             `json:"address,omitempty"`
	Ceiling  field.Size         `json:"ceiling,omitzero"`  // what it may take; the agent ends it when it takes more memory
	Guarded  bool               `json:"guarded,omitempty"` // a guard runs it, and holds the role's lease while it leads
	Command  []string           `json:"command,omitempty"`
	LookIn   []string           `json:"look_in,omitempty"`
	User     string             `json:"user,omitempty"`
	IfRoot   bool               `json:"if_root,omitempty"` // User holds only where the agent is root
	Ports    map[string]Port    `json:"ports,omitempty"`
	Env      map[string]string  `json:"env,omitempty"`
	Files    []File             `json:"files,omitempty"` // sorted by path
	OnChange field.OnChange     `json:"on_change,omitempty"`
	Validate []string           `json:"validate,omitempty"`
	Reload   *field.Reload      `json:"reload,omitempty"`
	Apply    []field.Probe      `json:"apply,omitempty"` // calls by which a running member takes a change
	Stop     field.Stop         `json:"stop,omitzero"`
	Restart  field.Restart      `json:"restart,omitzero"`
	Limits   field.Limits       `json:"limits,omitzero"`
	Tells    *field.VersionOf   `json:"tells,omitempty"` // how the program is asked for its version
	Kernel   map[string]int     `json:"kernel,omitempty"`
	Vacant   []field.Vacancy    `json:"vacant,omitempty"`
	FreeDisk field.Bytes        `json:"free_disk,omitempty"`
	Ready    *field.Probe       `json:"ready,omitempty"`
	Alive    *field.Probe       `json:"alive,omitempty"`
	Progress *field.Gauge       `json:"progress,omitempty"`
	Lag      *field.Gauge       `json:"lag,omitempty"`
	Metrics  *Metrics           `json:"metrics,omitempty"` // what is read of the measures that it tells
	Logs     *field.Logs        `json:"logs,omitempty"`    // where its lines go, besides the file
	TLS      *TLS               `json:"tls,omitempty"`
	Leader   *field.LeaderProbe `json:"leader,omitempty"`
	Floating *Floating          `json:"floating,omitempty"`
	Roster   *field.RosterProbe `json:"roster,omitempty"`
}

// Metrics is where a member tells measures of itself, and which of them are read.
type Metrics struct {
	Port  string   `json:"port"`
	Path  string   `json:"path"`
	Names []string `json:"names"` // in their order
}

// Floating is an address that one member of a role has at a time. With the member's own TLS the store of its lease is asked, where that has none of its own.
type Floating struct {
	Address  string         `json:"address"`
	Key      string         `json:"key"` // of the lease, in its store
	For      field.Duration `json:"for"`
	URLs     []string       `json:"urls"` // of the store
	User     string         `json:"user,omitempty"`
	Password string         `json:"password,omitempty"`
	File     string         `json:"file,omitempty"` // on the node, with whom is believed of the store
	TLS      *TLS           `json:"tls,omitempty"`
}

// TLS is with what a member's agent speaks TLS with it and with others, as PEM.
type TLS struct {
	Authority   string `json:"authority"`             // whom it believes
	Certificate string `json:"certificate,omitempty"` // what it shows
	Key         string `json:"key,omitempty"`
}

// Port is a port that has been given its number.
type Port struct {
	Number  int    `json:"number"`
	Address string `json:"address,omitempty"` // where it is not on the member's main one
	Scheme  string `json:"scheme,omitempty"`

	By field.Answerer `json:"by,omitempty"` // who listens there

	TLS     bool          `json:"tls,omitempty"`    // TLS is spoken there
	Upgrade field.Upgrade `json:"upgrade,omitzero"` // how it begins
}

// File is a rendered config file; Path is below the member's folder.
type File struct {
	Path     string         `json:"path"`
	Mode     uint32         `json:"mode"`
	Content  string         `json:"content"`
	OnChange field.OnChange `json:"on_change,omitempty"`
	Once     bool           `json:"once,omitempty"` // written where it is missing, and the program's own from then on
}

// Procedure names a way in which membership changes.
type Procedure string

// The procedures of a program.
const (
	Found    Procedure = "found"
	Join     Procedure = "join"
	Promote  Procedure = "promote"
	Leave    Procedure = "leave"
	HandOver Procedure = "hand_over"

	ChangeSecret Procedure = "change_secret"

	Rank Procedure = "cold_start" // reads how advanced the data of a stopped member is
)

// Operation is one step of a procedure, to be carried out once. It has an identity, so that repeating the message does
// not repeat the call; what came of it is reported and kept like everything else.
//
// A call may fail without telling whether it has had its effect. Then, and always when Again is set, the agent first
// asks the cluster, by DoneWhen, whether it has happened already, and calls only if it has not. Without a DoneWhen a
// call of unknown outcome is never repeated.
type Operation struct {
	ID          uint64           `json:"id"` // rises within a field
	Term        uint64           `json:"term"`
	Member      field.MemberName `json:"member"` // whom it is about
	Asked       field.MemberName `json:"asked"`  // whose ports are called, by the agent of its node
	Procedure   Procedure        `json:"procedure"`
	Secret      string           `json:"secret,omitempty"` // that is changed, by its name
	Number      int              `json:"number,omitempty"` // which it becomes
	Step        int              `json:"step"`             // its place in the procedure
	Last        bool             `json:"last,omitempty"`   // no step of the procedure comes after it
	VerifyFirst bool             `json:"again,omitempty"`  // it may have been tried before
	VerifyOnly  bool             `json:"settle,omitempty"` // only find out whether it has happened; call nothing
	Delay       time.Duration    `json:"lag,omitempty"`    // how long to wait before it
	Do          field.Step       `json:"do"`
	Spec        *Spec            `json:"spec"` // how Asked is reached
}

// ReportKind says what a report is about.
type ReportKind string

// The kinds of report.
const (
	Taken       ReportKind = "taken"        // an order is on the agent's disk
	Started     ReportKind = "started"      // a process runs
	Adopted     ReportKind = "adopted"      // a process of an earlier agent was found running
	StartFailed ReportKind = "start-failed" // no process could be started
	Ready       ReportKind = "ready"
	Unready     ReportKind = "unready"
	Exited      ReportKind = "exited" // ended without having been asked to
	Stopped     ReportKind = "stopped"
	Removed     ReportKind = "removed"  // ended, and its folder is gone
	Reloaded    ReportKind = "reloaded" // a running member has taken changed files, or, with Why, has not
	Checked     ReportKind = "checked"  // changed files that wait for the next start have been found valid
	Leading     ReportKind = "leading"  // leads, or has stopped leading
	RosterRead  ReportKind = "roster"
	Done        ReportKind = "done"    // an operation has had its effect
	Undone      ReportKind = "undone"  // an operation has had none, and is not tried any more
	Unclear     ReportKind = "unclear" // whether an operation has had its effect cannot be found out
	Retried     ReportKind = "retried" // an operation was refused and is tried again; Why says what the answer was
	Begun       ReportKind = "begun"   // a life of the agent begins
	VersionRead ReportKind = "version" // a program that runs has told its version
	Visited     ReportKind = "visited" // somebody did something at a member; Why says what
	Dropped     ReportKind = "dropped" // nobody came for so long that older reports were dropped; Attempt counts them
)

// Report is one observation of an agent. Reports of one life of an agent are numbered without holes from 1 on, and kept until they are
// acknowledged, by its successors too. Each life begins with an account of all that the agent holds.
type Report struct {
	Life        string           `json:"life,omitempty"`
	Seq         uint64           `json:"seq"`
	At          time.Time        `json:"at"`
	Member      field.MemberName `json:"member"`
	Kind        ReportKind       `json:"kind"`
	Revision    uint64           `json:"revision,omitempty"`
	Incarnation int              `json:"incarnation,omitempty"` // counts the processes of the member
	Round       int              `json:"round,omitempty"`       // of the order that a process was started with, when it is found running
	PID         int              `json:"pid,omitempty"`
	Exit        *Exit            `json:"exit,omitempty"`
	Why         string           `json:"why,omitempty"`
	Lines       []string         `json:"lines,omitempty"` // the last lines that the member wrote
	RetryIn     time.Duration    `json:"retry_in,omitempty"`
	Attempt     int              `json:"attempt,omitempty"` // failures in a row
	Forced      bool             `json:"forced,omitempty"`  // had to be killed
	Leads       bool             `json:"leads,omitempty"`
	Unknown     bool             `json:"unknown,omitempty"` // whether it leads could not be found out
	Term        uint64           `json:"term,omitempty"`
	Roster      []RosterEntry    `json:"roster,omitempty"`

	Kept      bool              `json:"kept,omitempty"`  // the data of a removed member was put aside
	Bytes     int64             `json:"bytes,omitempty"` // how much that is
	Operation uint64            `json:"operation,omitempty"`
	Captured  map[string]string `json:"captured,omitempty"`

	By      string `json:"by,omitempty"`      // who visited a member
	Version string `json:"version,omitempty"` // of the program

	Held     []Holding `json:"held,omitempty"`     // all that the agent was ordered and has on its disk, where its life begins
	Rebooted bool      `json:"rebooted,omitempty"` // the machine was started anew since the life before
}

// Holding is a member that an agent has an order for.
type Holding struct {
	Member   field.MemberName `json:"member"`
	Revision uint64           `json:"revision"` // of the newest order; 0 where it cannot be read
	Want     Want             `json:"want,omitempty"`
}

// Standing is who an agent is, and how far it has come.
type Standing struct {
	Agent    string `json:"agent"`
	Life     string `json:"life"`
	Log      string `json:"log,omitempty"` // the log whose controllers it has obeyed
	Term     uint64 `json:"term"`          // of the newest of them
	Revision uint64 `json:"revision"`      // the highest of any order or operation that it has taken
	Acked    uint64 `json:"acked"`         // the number up to which the reports of this life were acknowledged

	Speaks  int    `json:"speaks,omitempty"`  // which version of what passes between agents and controllers; 0 for those before it was counted
	Program string `json:"program,omitempty"` // SHA-256 of its program in hex, where it is one that is brought to hosts
	Arch    string `json:"arch,omitempty"`    // of the machine, as Go names it
	Rules   string `json:"rules,omitempty"`   // the digest of the rules of its packet filter that were confirmed
	Told    int64  `json:"told,omitempty"`    // the number of what it was told last of whose word counts
}

// Speaks is the version of what passes between agents and controllers. It rises when a controller could not do without what an older agent lacks, or
// the other way round.
const Speaks = 1

// Claim is what a controller says of its log before an agent obeys it. An agent obeys no log that lacks what it was told before.
type Claim struct {
	Log      string `json:"log"`
	Term     uint64 `json:"term"`
	Mark     string `json:"mark"`            // of this term; nobody knows it who has not read it in the log
	Known    string `json:"known,omitempty"` // the mark of the term in which the agent was spoken to last
	Revision uint64 `json:"revision"`        // the highest in the log
	Base     uint64 `json:"base"`            // the highest in it when this term began
	Life     string `json:"life,omitempty"`  // whose reports Heard counts
	Heard    uint64 `json:"heard"`
	Force    bool   `json:"force,omitempty"` // a person has taken the field over with a log that lacks something
}

// Lacks says what a log lacks by its claim of what an agent was told, or has told, as far as its standing shows; nothing where it
// lacks nothing. The agent alone knows the mark.
func (c Claim) Lacks(of Standing) string {
	highest := c.Revision
	if c.Term > of.Term { // what it has ordered since it began says nothing of what it has read
		highest = c.Base
	}
	switch {
	case of.Log != "" && c.Log != of.Log:
		return "its agent was told what to run by another log than this one"
	case c.Term < of.Term:
		return fmt.Sprintf("this log is at term %d, and its agent has obeyed a controller of term %d", c.Term, of.Term)
	case highest < of.Revision:
		return fmt.Sprintf("this log ends at order %d, and its agent has taken order %d", highest, of.Revision)
	case c.Life == of.Life && c.Heard < of.Acked:
		return fmt.Sprintf("this log has heard %d reports of its agent, of which %d were acknowledged", c.Heard, of.Acked)
	}
	return ""
}

// Lookup asks an agent whether a member could be started on its node: whether its program and its user are there.
type Lookup struct {
	Member  field.MemberName `json:"member"`
	Program string           `json:"program"`
	LookIn  []string         `json:"look_in,omitempty"`
	User    string           `json:"user,omitempty"`
	IfRoot  bool             `json:"if_root,omitempty"` // User holds only where the agent is root
	Limits  field.Limits     `json:"limits,omitzero"`
	Version string           `json:"version,omitempty"` // that the role wants
	Tells   *field.VersionOf `json:"tells,omitempty"`
	Kernel  map[string]int   `json:"kernel,omitempty"`

	Packages []string `json:"packages,omitempty"` // that the program comes in
}

// Question is put to a member once, by the agent of its node.
type Question struct {
	field.Call
	Expect  string            `json:"expect,omitempty"`
	Capture map[string]string `json:"capture,omitempty"` // expressions over the answer
	Timeout time.Duration     `json:"timeout"`
	At      *Place            `json:"at,omitempty"` // where http and tcp are asked, where that is not the member itself
}

// Place is where another member is asked.
type Place struct {
	Address string          `json:"address"`
	Ports   map[string]Port `json:"ports,omitempty"`
	TLS     *TLS            `json:"tls,omitempty"` // whom to believe, and what to show
}

// Said is what came of a question.
type Said struct {
	OK       bool              `json:"ok"`
	Why      string            `json:"why,omitempty"`    // why not: what was asked, what came, and what was expected
	Silent   bool              `json:"silent,omitempty"` // nobody listens there
	Captured map[string]string `json:"captured,omitempty"`
}

// Exit is how a process ended. Known is false when another agent had started it, since only a parent is told.
type Exit struct {
	Known  bool   `json:"known"`
	Code   int    `json:"code,omitempty"`
	Signal string `json:"signal,omitempty"`
	Why    string `json:"why,omitempty"` // its agent ended it, and for what
}

// RosterEntry is one member of a cluster as the cluster itself reports it.
type RosterEntry struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Voter bool   `json:"voter"`
}

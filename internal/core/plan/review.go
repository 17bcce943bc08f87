package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/place"
)

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
	Comes bool   `json:"comes,omitempty"` // somebody has to bring the node: it is waited for

	Restarts bool          `json:"restarts,omitempty"` // it ends and is started again for it
	Takes    time.Duration `json:"takes_ns,omitempty"` // how long it may take from its turn on; 0 where that is not known
	Lasts    bool          `json:"lasts,omitempty"`    // data is gone for good with it

	Files []Altered `json:"files,omitempty"` // what differs of what its member is run with, where that was asked for
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
	Pending  []Pending        `json:"pending,omitempty"`  // by role
	Notices  []Notice         `json:"notices,omitempty"`  // what clients notice meanwhile
	Lasting  []string         `json:"lasting,omitempty"`  // what cannot be undone
	Missing  []string         `json:"missing,omitempty"`  // what nodes lack to carry it out
	Expected *pace.Estimate   `json:"expected,omitempty"` // how long all of it may take; nil where that was not worked out
	Quick    bool             `json:"quick,omitempty"`    // it lists who comes and goes only; see Preview
}

// Says words the step, with how long it may take, where that is known.
func (s Step) Says() string {
	if s.Takes > 0 {
		return fmt.Sprintf("%s, about %s", s.Text, field.Brief(s.Takes))
	}
	return s.Text
}

// Altering tells whether what a member is run with differs after the step.
func (s Step) Altering() bool {
	return s.Member != "" && (s.Kind == Change || s.Kind == Start)
}

// Altered is a text that a member is run with, such as a file, and the lines in which it will differ.
type Altered struct {
	Name  string `json:"name"`
	Lines []Line `json:"lines"`
}

// Line is a line of such a text.
type Line struct {
	Mark string `json:"mark"` // "-" goes, "+" comes, " " stays, "…" stands for lines that stay
	Text string `json:"text,omitempty"`
}

// Notice is what clients of a role notice while a review is carried out.
type Notice struct {
	Role  field.RoleName     `json:"role"`
	Text  string             `json:"text"`
	Each  []field.MemberName `json:"each,omitempty"`  // of whom that holds, one at a time
	Stops bool               `json:"stops,omitempty"` // something does not do its work meanwhile
}

// Notice words what clients notice, with how long it may last.
func (r *Review) Notice(n Notice) string {
	var longest time.Duration
	for _, s := range r.Steps {
		if s.Kind == Change && s.Restarts && slices.Contains(n.Each, s.Member) {
			longest = max(longest, s.Takes)
		}
	}
	switch {
	case longest == 0:
		return n.Text
	case len(n.Each) == 1:
		return fmt.Sprintf("%s (about %s)", n.Text, field.Brief(longest))
	}
	return fmt.Sprintf("%s (about %s each)", n.Text, field.Brief(longest))
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

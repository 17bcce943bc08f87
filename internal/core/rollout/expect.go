package rollout

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
)

// Expected is when the turn of a member may come, and when it may be done, by the medians of what was seen.
type Expected struct {
	Begin time.Time `json:"begin"`
	End   time.Time `json:"end"`
	Known bool      `json:"known"`           // all that it is to come through was seen before, and so was all that comes before its turn
	After *Cause    `json:"after,omitempty"` // what its turn waits for
}

// How often a rollout is played through to find the spread, and with how many members that is done less often.
const (
	plays     = 200
	manyJobs  = 500
	fewPlays  = 24
	placeable = 300 * time.Millisecond // to place a member or to end it, where that was never seen: agents do that at once
)

// job is what is still to be done to a member.
type job struct {
	row    int
	role   field.RoleName
	phases []state.Phase // to come through, the present one first where it has begun
	spent  time.Duration // in the first of them
	begun  bool
	votes  bool // it counts for a quorum when it is done
}

// outlook is what is still to be done in a rollout.
type outlook struct {
	s       *state.State
	record  *Record
	jobs    []job
	byRole  map[field.RoleName][]int // jobs by which a role gets members, in their order
	changes []int                    // jobs by which members change, one after the other
	leaves  map[field.RoleName][]int
	ready   map[field.RoleName]int // members that count for gates already
	took    state.Took
	unknown map[field.RoleName]bool
	awaits  []string
}

// Expect works out how much longer a record's rollout may take, and when the turn of each member may come, given the state as it was when it was
// recorded. Nothing is expected of one that has ended; of members that are stuck, what comes after that.
func (r *Record) Expect(s *state.State, stuck ...field.MemberName) {
	if !r.Active() {
		return
	}
	o := look(s, r, stuck)
	r.Expected = &pace.Estimate{Awaits: o.awaits}
	ends := make([]time.Duration, len(o.jobs))
	begins := make([]time.Duration, len(o.jobs))
	after := make([]*Cause, len(o.jobs))
	o.play(nil, begins, ends, after)
	for i, j := range o.jobs {
		r.Rows[j.row].Expected = &Expected{Begin: r.At.Add(begins[i]), End: r.At.Add(ends[i]), After: after[i], Known: o.known(j)}
	}
	r.spread()
	n := plays
	if len(o.jobs) > manyJobs {
		n = fewPlays
	}
	totals := make([]time.Duration, n)
	random := rand.New(rand.NewPCG(1, 2)) // the same each time, so that what is shown does not tremble
	for i := range totals {
		o.play(random, begins, ends, after)
		for _, e := range ends {
			totals[i] = max(totals[i], e)
		}
	}
	slices.Sort(totals)
	if slices.ContainsFunc(o.jobs, o.known) { // else there is nothing that could be said
		r.Expected.Left, r.Expected.Low, r.Expected.High = totals[n/2], totals[n/10], totals[n-1-n/10]
	}
	r.Expected.Unknown = slices.Sorted(maps.Keys(o.unknown))
	r.Chain = chain(r)
}

// spread has nothing be known of whoever waits for somebody of whom nothing is known.
func (r *Record) spread() {
	by := map[field.MemberName]*Expected{}
	for i := range r.Rows {
		by[r.Rows[i].Member] = r.Rows[i].Expected
	}
	for changed := true; changed; {
		changed = false
		for _, e := range by {
			if e == nil || !e.Known || e.After == nil {
				continue
			}
			if before := by[e.After.Member]; before != nil && !before.Known {
				e.Known, changed = false, true
			}
		}
	}
}

// look lists what is still to be done.
func look(s *state.State, r *Record, stuck []field.MemberName) *outlook {
	o := &outlook{s: s, record: r, byRole: map[field.RoleName][]int{}, leaves: map[field.RoleName][]int{}, ready: map[field.RoleName]int{},
		took: s.Took, unknown: map[field.RoleName]bool{}}
	for _, m := range s.Members {
		if s.IsReady(m) && !m.Halted && !m.Leaving {
			o.ready[m.Role]++
		}
	}
	for i := range r.Rows {
		row := &r.Rows[i]
		m := s.Member(row.Member)
		if m == nil || !row.Done.IsZero() || row.Action == Flaps {
			continue
		}
		j := job{row: i, role: row.Role, phases: o.phases(m, row), votes: true}
		if now := row.Now(); len(j.phases) > 0 && now.Phase == j.phases[0] && !now.Due {
			j.begun, j.spent = true, max(0, r.At.Sub(now.From))
		}
		if j.begun && slices.Contains(stuck, row.Member) {
			j.phases, j.spent = j.phases[1:], 0
		}
		o.jobs = append(o.jobs, j)
		at := len(o.jobs) - 1
		switch row.Action {
		case Comes, Starts:
			o.byRole[row.Role] = append(o.byRole[row.Role], at)
		case Changes, Restarts:
			o.changes = append(o.changes, at)
		default:
			o.leaves[row.Role] = append(o.leaves[row.Role], at)
		}
	}
	o.outside()
	return o
}

// outside finds what has to come first of which nobody can say when: somebody's word, a machine, another field.
func (o *outlook) outside() {
	say := func(text string) {
		if !slices.Contains(o.awaits, text) {
			o.awaits = append(o.awaits, text)
		}
	}
	if o.s.Rollout.Paused {
		say("it goes on, which is paused")
	}
	for _, j := range o.jobs {
		m := o.s.Member(o.record.Rows[j.row].Member)
		n := o.s.Nodes[m.Node]
		switch {
		case n != nil && n.Awaited:
			say(fmt.Sprintf("a machine has joined as %s", n.Name))
		case n != nil && n.Unreachable:
			say(fmt.Sprintf("%s answers", n.Name))
		case m.Stuck:
			say(fmt.Sprintf("somebody has %s tried again", m.Name))
		case m.Phase == state.Failed:
			say(fmt.Sprintf("%s runs", m.Name))
		case len(o.s.RoleOf(m.Role).Answers) > 0:
			say(fmt.Sprintf("somebody has said how %s is to begin", m.Role))
		}
	}
}

// phases are those that a member is still to come through.
func (o *outlook) phases(m *state.Member, row *Row) []state.Phase {
	role := (*field.Role)(nil)
	if o.s.Field != nil {
		role = o.s.Field.Role(m.Role)
	}
	up := []state.Phase{state.Placing, state.Starting}
	if len(o.took[m.Role][state.Joining]) > 0 || role != nil && role.Program != nil && role.Program.Roster != nil && !m.Founding {
		up = append(up, state.Joining)
	}
	down := []state.Phase{state.Stopping}
	all := up
	switch row.Action {
	case Leaves:
		if role != nil && state.Procedural(role) {
			down = []state.Phase{state.Draining, state.Stopping}
		}
		all = down
	case Stops:
		all = down
	case Changes, Restarts:
		all = []state.Phase{state.Stopping, state.Starting}
	}
	if i := slices.Index(all, row.Now().Phase); i >= 0 && !row.Now().Due {
		return all[i:]
	}
	return all
}

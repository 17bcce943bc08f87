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
// recorded. Nothing is expected of one that has ended.
func (r *Record) Expect(s *state.State) {
	if !r.Active() {
		return
	}
	o := look(s, r)
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
func look(s *state.State, r *Record) *outlook {
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

// play plays what is left through once: with durations drawn from those that were seen, or, without random, with their medians. It fills in when
// each job begins and ends, from now on, and what it waits for.
func (o *outlook) play(random *rand.Rand, begins, ends []time.Duration, after []*Cause) {
	finished := map[field.RoleName][]int{} // jobs by which it gets members, as they end
	run := func(at int, begin time.Duration, why *Cause) {
		j := o.jobs[at]
		if j.begun {
			begin, why = 0, nil
		}
		begins[at], after[at] = begin, why
		ends[at] = begin + o.lasts(j, random)
	}
	var stages [][]field.RoleName
	if o.s.Field != nil && o.s.Field.Cycle() == nil {
		stages = o.s.Field.Stages()
	}
	for _, stage := range stages {
		for _, name := range stage {
			role := o.s.Field.Role(name)
			jobs := o.byRole[name]
			if len(jobs) == 0 {
				continue
			}
			open, why := o.opens(role, finished, ends)
			turn := one(o.s, role)
			at, behind := open, why
			for i, x := range jobs {
				run(x, at, behind)
				if turn == afterEach || turn == afterFirst && i == 0 && !o.joined(role) {
					if ends[x] > at {
						at, behind = ends[x], o.peer(x)
					}
				}
			}
			slices.SortStableFunc(jobs, func(a, b int) int { return int(ends[a] - ends[b]) })
			finished[name] = slices.Clone(jobs)
			slices.Sort(jobs) // in their own order again
		}
	}
	at, behind := time.Duration(0), (*Cause)(nil)
	for _, x := range o.changes {
		run(x, at, behind)
		if ends[x] > at {
			at, behind = ends[x], o.peer(x)
		}
	}
	if o.s.Retiring {
		o.retire(stages, run, ends)
		return
	}
	for name, jobs := range o.leaves {
		at, behind := time.Duration(0), (*Cause)(nil)
		if all := finished[name]; len(all) > 0 { // who replaces them comes first
			at, behind = ends[all[len(all)-1]], o.peer(all[len(all)-1])
		}
		role := (*field.Role)(nil)
		if o.s.Field != nil {
			role = o.s.Field.Role(name)
		}
		for _, x := range jobs {
			run(x, at, behind)
			if role != nil && role.StopsOneByOne() && ends[x] > at {
				at, behind = ends[x], o.peer(x)
			}
		}
	}
}

// retire plays how all end: in the reverse order of deployment, a role's members as it stops them.
func (o *outlook) retire(stages [][]field.RoleName, run func(int, time.Duration, *Cause), ends []time.Duration) {
	begin, behind := time.Duration(0), (*Cause)(nil)
	stages = append(slices.Clone(stages), nil)
	for name := range o.leaves {
		if o.s.Field == nil || o.s.Field.Role(name) == nil {
			stages[len(stages)-1] = append(stages[len(stages)-1], name)
		}
	}
	for _, stage := range slices.Backward(stages) {
		done, last := begin, behind
		for _, name := range stage {
			at, why := begin, behind
			for _, x := range o.leaves[name] {
				run(x, at, why)
				if ends[x] > done {
					done, last = ends[x], o.peer(x)
				}
				if role := o.s.Field.Role(name); role != nil && role.StopsOneByOne() && ends[x] > at {
					at, why = ends[x], o.peer(x)
				}
			}
		}
		begin, behind = done, last
	}
}

func (o *outlook) peer(at int) *Cause {
	row := &o.record.Rows[o.jobs[at].row]
	return &Cause{Kind: APeer, Member: row.Member, Role: row.Role}
}

// joined tells whether a role has anybody already.
func (o *outlook) joined(role *field.Role) bool { return o.ready[role.Name] > 0 }

// turns says who of a role waits for whom.
type turns int

const (
	together   turns = iota
	afterFirst       // the first one alone, then all others
	afterEach        // one after the other
)

// one tells how the members of a role come.
func one(s *state.State, role *field.Role) turns {
	founded := s.RoleOf(role.Name).Founded
	switch {
	case state.Procedural(role) && (founded || role.Start != field.Together):
		return afterEach
	case role.Start == field.Together:
		return together
	case role.Start == field.SeedFirst:
		return afterFirst
	}
	return afterEach
}

// opens finds when all gates of a role are open, and which opens last.
func (o *outlook) opens(role *field.Role, finished map[field.RoleName][]int, ends []time.Duration) (time.Duration, *Cause) {
	at, why := time.Duration(0), (*Cause)(nil)
	needs := o.s.Field.Needs(role)
	for _, on := range slices.Sorted(maps.Keys(needs)) {
		gate := needs[on]
		target := o.s.Field.Role(on)
		if target == nil {
			continue
		}
		g := o.s.Gate(target, gate, o.s.MembersOf(on))
		if g.Open {
			continue
		}
		missing := g.Need - g.Have
		if missing < 1 {
			missing = 1
		}
		coming := finished[on]
		if len(coming) == 0 {
			continue // nobody comes: it is for those that run
		}
		by := coming[min(missing, len(coming))-1]
		if ends[by] > at || why == nil {
			at, why = max(at, ends[by]), &Cause{Kind: AGate, Role: on, Member: o.record.Rows[o.jobs[by].row].Member}
		}
	}
	return at, why
}

// lasts is how long a job takes from its turn on, or from now on where that has come.
func (o *outlook) lasts(j job, random *rand.Rand) time.Duration {
	total := time.Duration(0)
	for i, phase := range j.phases {
		spent := time.Duration(0)
		if i == 0 {
			spent = j.spent
		}
		total += o.draw(j.role, phase, spent, random)
	}
	return total
}

// known tells whether how long a job takes was seen before, or is said by its kit.
func (o *outlook) known(j job) bool {
	return !slices.ContainsFunc(j.phases, func(phase state.Phase) bool { return len(o.took[j.role][phase]) == 0 && o.said(j.role, phase) == 0 })
}

// draw gives how much longer a phase takes that has lasted for a while: one of the durations that were seen and are longer, or the middle one of
// them. Where all were shorter, it is expected to take as long again as it took beyond the longest.
func (o *outlook) draw(role field.RoleName, phase state.Phase, spent time.Duration, random *rand.Rand) time.Duration {
	seen := o.took[role][phase]
	if len(seen) == 0 {
		said := o.said(role, phase)
		if said == 0 {
			o.unknown[role] = true
		}
		return max(0, said-spent)
	}
	var longer []time.Duration
	for _, d := range seen {
		if d > spent {
			longer = append(longer, d)
		}
	}
	if len(longer) == 0 {
		return max(0, spent-slices.Max(seen))
	}
	if random != nil {
		return longer[random.IntN(len(longer))] - spent
	}
	return pace.Of(longer).Median - spent
}

// said is how long a phase takes where it was never seen: as its kit says, and for what agents do themselves, at once.
func (o *outlook) said(role field.RoleName, phase state.Phase) time.Duration {
	switch phase {
	case state.Placing, state.Stopping, state.Draining:
		return placeable
	}
	if o.s.Field == nil {
		return 0
	}
	if r := o.s.Field.Role(role); r != nil && r.Program != nil && phase == state.Starting {
		return r.Program.Takes.Or(0)
	}
	if phase == state.Joining && len(o.took[role][state.Starting]) > 0 {
		return placeable
	}
	return 0
}

package rollout

import (
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
)

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

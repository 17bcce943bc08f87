package whatif

import (
	"cmp"
	"slices"

	"lanternfield/internal/core/field"
)

// WorstFailures lists the failures of one node or zone, and of two together, that would stop something, the worst first and at
// most so many of each. A pair is listed only where it stops more than its two do one by one.
//
// Pairs are not tried out, of which there are millions in a large field: a role stops when its losses exceed its reserve,
// so only those that hold enough of it between them can be a pair. What is found is the same.
func (s *Scene) WorstFailures(most int) (singles, doubles []Case) {
	w := s.weigh()
	type found struct {
		units []int
		hurts int
	}
	var ones, twos []found
	alone := make([]map[int]bool, len(w.units)) // the roles that each stops; true for those that stop by themselves
	for u := range w.units {
		stops := w.stopped(u)
		if len(stops) == 0 {
			continue
		}
		alone[u] = stops
		ones = append(ones, found{[]int{u}, w.hurts(stops)})
	}
	seen := map[[2]int]bool{}
	try := func(a, b int) {
		if a > b {
			a, b = b, a
		}
		if a == b || seen[[2]int{a, b}] || w.nested(a, b) {
			return
		}
		seen[[2]int{a, b}] = true
		stops := w.stopped(a, b)
		for r := range stops {
			_, byA := alone[a][r]
			_, byB := alone[b][r]
			if !byA && !byB {
				twos = append(twos, found{[]int{a, b}, w.hurts(stops)})
				return
			}
		}
	}
	for r := range s.Roles {
		if w.reserve[r] < 0 {
			continue // it does not work as it is
		}
		for i, a := range w.holders[r] { // the most first
			for _, b := range w.holders[r][i+1:] {
				if w.held[r][a]+w.held[r][b] <= w.reserve[r] {
					break
				}
				if w.held[r][a] <= w.reserve[r] && w.held[r][b] <= w.reserve[r] {
					try(a, b)
				}
			}
		}
	}
	list := func(all []found) []Case {
		slices.SortFunc(all, func(a, b found) int { return cmp.Or(cmp.Compare(b.hurts, a.hurts), slices.Compare(a.units, b.units)) })
		var cases []Case
		for _, f := range all[:min(most, len(all))] {
			var faults []Fault
			for _, u := range f.units {
				faults = append(faults, w.units[u])
			}
			cases = append(cases, Case{faults, s.Fail(faults...)})
		}
		return cases
	}
	return list(ones), list(twos)
}

// weighing is what failures are found from: for each role how many of it each node and zone holds.
type weighing struct {
	*Scene
	index   map[field.RoleName]int
	units   []Fault // zones, then nodes
	zoneOf  []int   // of each unit; -1 for a zone
	counts  []count
	now     []bool        // which do not work as it is, by themselves or through others
	reserve []int         // losses that the role bears; negative where it does not work as it is
	held    []map[int]int // by role and unit: working members, or votes
	holders [][]int       // by role: who holds some, the most first
}

func (s *Scene) weigh() *weighing {
	w := &weighing{Scene: s, index: s.index(), counts: make([]count, len(s.Roles)), reserve: make([]int, len(s.Roles)),
		held: make([]map[int]int, len(s.Roles)), holders: make([][]int, len(s.Roles))}
	zones, nodes := map[field.ZoneName]int{}, map[field.NodeName]int{}
	var byZone []Fault
	for _, m := range s.Members {
		if _, known := zones[m.Zone]; !known && (m.Zone != "" || m.Node != "") {
			zones[m.Zone] = len(byZone)
			byZone = append(byZone, Fault{Zone: m.Zone})
		}
	}
	if len(byZone) < 2 { // the loss of the only zone is the loss of everything
		byZone, zones = nil, map[field.ZoneName]int{}
	}
	w.units, w.zoneOf = byZone, make([]int, len(byZone))
	for i := range w.zoneOf {
		w.zoneOf[i] = -1
	}
	for r := range s.Roles {
		w.held[r] = map[int]int{}
	}
	for i := range s.Members {
		m := &s.Members[i]
		if m.Node == "" { // outside: no node of ours takes it along
			if r, ok := w.index[m.Role]; ok {
				w.counts[r].all++
				if m.Works {
					w.counts[r].works++
				}
			}
			continue
		}
		u, known := nodes[m.Node]
		if !known {
			u = len(w.units)
			nodes[m.Node] = u
			w.units = append(w.units, Fault{Node: m.Node})
			zone, ok := zones[m.Zone]
			if !ok {
				zone = -1
			}
			w.zoneOf = append(w.zoneOf, zone)
		}
		r, ok := w.index[m.Role]
		if !ok || s.Roles[r].Votes && !m.Votes {
			continue
		}
		w.counts[r].all++
		if m.Works {
			w.counts[r].works++
			w.held[r][u]++
			if z := w.zoneOf[u]; z >= 0 {
				w.held[r][z]++
			}
		}
	}
	w.now = s.asItIs(w.index, w.counts)
	for r := range s.Roles {
		w.reserve[r] = w.counts[r].works - w.counts[r].needed(&s.Roles[r])
		for u := range w.held[r] {
			w.holders[r] = append(w.holders[r], u)
		}
		slices.SortFunc(w.holders[r], func(a, b int) int { return cmp.Or(cmp.Compare(w.held[r][b], w.held[r][a]), cmp.Compare(a, b)) })
	}
	return w
}

// nested tells that one of the two is in the other.
func (w *weighing) nested(a, b int) bool { return w.zoneOf[b] == a || w.zoneOf[a] == b }

// stopped gives the roles that would stop, which do their work now; true for those that stop by themselves.
func (w *weighing) stopped(units ...int) map[int]bool {
	any := false
	stopped := make([]bool, len(w.Roles))
	for r := range w.Roles {
		lost := 0
		for _, u := range units {
			lost += w.held[r][u]
		}
		if w.counts[r].all > 0 && lost > w.reserve[r] {
			stopped[r] = true
			any = any || w.reserve[r] >= 0
		}
	}
	if !any {
		return nil
	}
	direct := slices.Clone(stopped)
	w.follow(w.index, w.counts, stopped, func(int, field.RoleName) {})
	out := map[int]bool{}
	for r, s := range stopped {
		if s && !w.now[r] {
			out[r] = direct[r]
		}
	}
	return out
}

// hurts is how bad it is that roles stop; direct ones, and of them voting ones, weigh most.
func (w *weighing) hurts(stops map[int]bool) int {
	sum := 0
	for r, direct := range stops {
		switch {
		case direct && w.Roles[r].Votes:
			sum += 1000
		case direct:
			sum += 300
		default:
			sum += 100
		}
	}
	return sum
}

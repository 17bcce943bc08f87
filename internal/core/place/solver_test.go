package place

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

// complaints checks a layout against the words of the field, from scratch and without anything of the solver.
func complaints(f *field.Field, members []Member) []string {
	var out []string
	say := func(text string, args ...any) { out = append(out, fmt.Sprintf(text, args...)) }
	byNode := map[field.NodeName][]Member{}
	seen := map[field.MemberName]bool{}
	for _, m := range members {
		if seen[m.Name] {
			say("%s is placed twice", m.Name)
		}
		seen[m.Name] = true
		byNode[m.Node] = append(byNode[m.Node], m)
	}
	perZone := map[string]int{}
	for i := range f.Nodes {
		n := &f.Nodes[i]
		var cpu float64
		var memory, disk field.Bytes
		ports := map[int]field.MemberName{}
		count := map[field.RoleName]int{}
		for _, m := range byNode[n.Name] {
			count[m.Role]++
		}
		for _, m := range byNode[n.Name] {
			r := f.Role(m.Role)
			perZone[string(m.Role)+" in "+string(n.Zone)]++
			cpu += r.Room.CPU
			memory += r.Room.Memory
			disk += r.Room.Disk
			if r.Data != nil {
				disk += r.Data.Size
			}
			if n.Out != "" {
				say("%s is on %s, which is taken out", m.Name, n.Name)
			}
			if fits, err := field.NewMatcher().Fits(r.Where, n); err != nil || !fits {
				say("%s is on %s, against its where", m.Name, n.Name)
			}
			if len(r.Platforms) > 0 && n.Platform != "" && !slices.Contains(r.Platforms, n.Platform) {
				say("%s cannot run on %s", m.Name, n.Name)
			}
			for _, b := range r.Beside {
				if count[b] == 0 {
					say("%s stands without %s on %s", m.Name, b, n.Name)
				}
			}
			for _, a := range r.Apart {
				if count[a] > 0 {
					say("%s stands with %s on %s", m.Name, a, n.Name)
				}
			}
			if r.Each.Beside != "" && count[m.Role] > count[r.Each.Beside] {
				say("%d of %s accompany %d of %s on %s", count[m.Role], m.Role, count[r.Each.Beside], r.Each.Beside, n.Name)
			}
			if r.Each.Node && count[m.Role] > 1 {
				say("%s stands twice on %s", m.Role, n.Name)
			}
			for name, port := range m.Ports {
				if by, taken := ports[port]; taken {
					say("%s and %s both have port %d of %s", by, m.Name, port, n.Name)
				}
				ports[port] = m.Name
				p := r.Program.Ports[name]
				if port != p.Port && (port < p.From || port > p.To) {
					say("%s has port %d for %s", m.Name, port, name)
				}
			}
		}
		over := func(what string, used, size, reserved float64) {
			if size > 0 && used > size-reserved+1e-6 {
				say("%s: %g of %g %s", n.Name, used, size-reserved, what)
			}
		}
		over("cores", cpu, n.Size.CPU, n.Reserved.CPU)
		over("memory", float64(memory), float64(n.Size.Memory), float64(n.Reserved.Memory))
		over("disk", float64(disk), float64(n.Size.Disk), float64(n.Reserved.Disk))
	}
	for _, r := range f.Roles {
		for key, n := range perZone {
			if r.Each.Zone > 0 && strings.HasPrefix(key, string(r.Name)+" in ") && n > r.Each.Zone {
				say("%d of %s, at most %d", n, key, r.Each.Zone)
			}
		}
	}
	return out
}

func wantsOf(f *field.Field) []Want {
	var wants []Want
	for _, r := range f.Roles {
		w := Want{Role: r.Name, Pins: f.Place[r.Name]}
		if r.Each.Node {
			w.Pins = f.May(&r)
		}
		for i := range r.Members {
			w.Names = append(w.Names, r.Name.Member(i+1))
		}
		wants = append(wants, w)
	}
	return wants
}

// anyField makes a field of any shape: zones of unequal size, nodes half full or taken out, roles that must or must not
// share nodes.
func anyField(rng *rand.Rand, nodes, roles, members int) *field.Field {
	pick := func(of ...int) int { return of[rng.IntN(len(of))] }
	f := &field.Field{Place: map[field.RoleName][]field.NodeName{}}
	zones := 1 + rng.IntN(3)
	for i := range nodes {
		n := field.Node{Name: field.NodeName(fmt.Sprint("n", i)), Zone: field.ZoneName(fmt.Sprint("z", rng.IntN(zones)*rng.IntN(2))),
			Size:   field.Size{CPU: float64(pick(0, 1, 2, 4)), Memory: field.Bytes(pick(0, 1, 2, 4)) << 30, Disk: field.Bytes(pick(0, 4, 10)) << 30},
			Labels: map[string]string{"disk": []string{"nvme", "spinning"}[rng.IntN(2)]}}
		n.Platform = []string{"", "linux/amd64", "linux/arm64"}[rng.IntN(3)]
		if rng.IntN(8) == 0 {
			n.Out = "true"
		}
		if n.Size.Memory > 0 && rng.IntN(3) == 0 {
			n.Reserved.Memory = n.Size.Memory / 2
		}
		f.Nodes = append(f.Nodes, n)
	}
	for i := range roles {
		r := field.Role{Name: field.RoleName(fmt.Sprint("r", i)), Members: 1 + rng.IntN(members)}
		r.Spread = []field.Spread{field.SpreadZone, field.SpreadNode, field.SpreadNone}[rng.IntN(3)]
		r.Room = field.Size{CPU: float64(pick(0, 0, 1, 2)) / 2, Memory: field.Bytes(pick(0, 0, 1, 2)) << 29, Disk: field.Bytes(pick(0, 0, 2)) << 30}
		if rng.IntN(4) == 0 {
			r.Where = []string{`labels.disk == "nvme"`, `zone != "z0"`, `name != "n1"`, `arch != "arm64"`}[rng.IntN(4)]
		}
		if rng.IntN(5) == 0 {
			r.Platforms = []string{"linux/amd64"}
		}
		if rng.IntN(5) == 0 {
			r.Data = &field.Data{Size: 1 << 30}
		}
		if i > 0 {
			other := field.RoleName(fmt.Sprint("r", rng.IntN(i)))
			switch rng.IntN(6) {
			case 0:
				r.Apart = append(r.Apart, other)
			case 1:
				r.Beside = append(r.Beside, other)
			case 2:
				r.Each.Beside = other
			}
		}
		switch {
		case r.Each == field.Each{} && rng.IntN(8) == 0:
			r.Each.Node = true
		case r.Each == field.Each{} && rng.IntN(8) == 0:
			r.Each.Zone = 1 + rng.IntN(2)
		case r.Each == field.Each{} && rng.IntN(4) == 0:
			f.Place[r.Name] = append(f.Place[r.Name], f.Nodes[rng.IntN(nodes)].Name)
		}
		switch rng.IntN(4) {
		case 0:
			r.Program = &field.Program{Ports: map[string]field.Port{"main": {Port: 80 + rng.IntN(2)}}}
		case 1:
			r.Program = &field.Program{Ports: map[string]field.Port{"main": {From: 80, To: 82}}}
		}
		f.Roles = append(f.Roles, r)
	}
	field.FillDefaults(f)
	return f
}

// brute tries everything: whether all fit, and the least imbalance over zones that then can be had.
func brute(f *field.Field) (fits bool, least int) {
	least = 1 << 30
	type one struct {
		role *field.Role
		pin  field.NodeName
		name field.MemberName
	}
	var all []one
	for _, w := range wantsOf(f) {
		for i, name := range w.Names {
			o := one{role: f.Role(w.Role), name: name}
			if i < len(w.Pins) {
				o.pin = w.Pins[i]
			}
			all = append(all, o)
		}
	}
	members := make([]Member, 0, len(all))
	portsFit := func() bool { // a range holds as many as it is long, less those that have one of its numbers for good
		for _, n := range f.Nodes {
			used, ranged := map[int]bool{}, 0
			for _, m := range members {
				if r := f.Role(m.Role); m.Node == n.Name && r.Program != nil {
					switch p := r.Program.Ports["main"]; {
					case p.Fixed() && used[p.Port]:
						return false
					case p.Fixed():
						used[p.Port] = true
					default:
						ranged++
					}
				}
			}
			if free := 3 - len(used); ranged > free {
				return false
			}
		}
		return true
	}
	var try func(i int)
	try = func(i int) {
		if i == len(all) {
			if !portsFit() || len(complaints(f, members)) > 0 {
				return
			}
			fits = true
			least = min(least, zoneImbalance(f, members))
			return
		}
		for j := range f.Nodes {
			if all[i].pin != "" && all[i].pin != f.Nodes[j].Name {
				continue
			}
			members = append(members, Member{Name: all[i].name, Role: all[i].role.Name, Node: f.Nodes[j].Name})
			if i == len(all)-1 || plainlyFits(f, members) {
				try(i + 1)
			}
			members = members[:len(members)-1]
		}
	}
	try(0)
	return fits, least
}

// plainlyFits cuts the tree where a node holds too much already.
func plainlyFits(f *field.Field, members []Member) bool {
	last := members[len(members)-1]
	n := f.Node(last.Node)
	var use field.Size
	for _, m := range members {
		if m.Node == last.Node {
			r := f.Role(m.Role)
			use.CPU += r.Room.CPU
			use.Memory += r.Room.Memory
		}
	}
	return n.Out == "" && (n.Size.CPU == 0 || use.CPU <= n.Size.CPU) && (n.Size.Memory == 0 || use.Memory <= n.Size.Memory-n.Reserved.Memory)
}

func zoneImbalance(f *field.Field, members []Member) int {
	counts := map[field.RoleName]map[field.ZoneName]int{}
	for _, m := range members {
		if counts[m.Role] == nil {
			counts[m.Role] = map[field.ZoneName]int{}
		}
		counts[m.Role][f.Node(m.Node).Zone]++
	}
	sum := 0
	for role, zones := range counts {
		if f.Role(role).Spread == field.SpreadZone && f.Role(role).Each.Beside == "" { // companions stand where their hosts do
			for _, c := range zones {
				sum += c * c
			}
		}
	}
	return sum
}

func TestTheSolverFindsALayoutWheneverThereIsOne(t *testing.T) {
	fields, worse := 0, 0
	for seed := uint64(1); fields < 400; seed++ {
		rng := rand.New(rand.NewPCG(seed, 1))
		f := anyField(rng, 2+rng.IntN(3), 1+rng.IntN(3), 3)
		total := 0
		for _, r := range f.Roles {
			total += r.Members
		}
		if total > 7 {
			continue
		}
		fields++
		fits, least := brute(f)
		placed, not := NewSite(f, nil).Fill(wantsOf(f))
		if wrong := complaints(f, placed); len(wrong) > 0 {
			t.Fatalf("seed %d: %v", seed, wrong)
		}
		if (len(not) == 0) != fits {
			t.Errorf("seed %d: trying everything says that they fit: %v; the solver left %d of %d", seed, fits, len(not), total)
			continue
		}
		if fits && zoneImbalance(f, placed) > least {
			worse++
			t.Logf("seed %d: imbalance %d, and %d can be had", seed, zoneImbalance(f, placed), least)
		}
	}
	if worse > 0 {
		t.Errorf("%d of %d layouts are spread worse over zones than they could be", worse, fields)
	}
}

func TestLargeFieldsOfAllShapesAreLaidOutSoundly(t *testing.T) {
	for seed := uint64(1); seed <= 60; seed++ {
		rng := rand.New(rand.NewPCG(seed, 2))
		f := anyField(rng, 20+rng.IntN(200), 2+rng.IntN(8), 60)
		placed, not := NewSite(f, nil).Fill(wantsOf(f))
		again, _ := NewSite(f, nil).Fill(wantsOf(f))
		if wrong := complaints(f, placed); len(wrong) > 0 {
			t.Fatalf("seed %d: %v", seed, wrong)
		}
		for i := range placed {
			if placed[i].Node != again[i].Node {
				t.Fatalf("seed %d: %s stands on %s, and the second time on %s", seed, placed[i].Name, placed[i].Node, again[i].Node)
			}
		}
		for _, u := range not {
			if u.Why == "" {
				t.Errorf("seed %d: nothing is said of %s", seed, u.Member)
			}
		}
	}
}

// TestFieldsThatAreNearlyFullAreLaidOut makes large fields that have a layout, because they are made from one, with nine
// tenths of their CPU taken: it takes chains of moves to seat the last ones.
func TestFieldsThatAreNearlyFullAreLaidOut(t *testing.T) {
	chained := 0
	for seed := range uint64(16) {
		f := packed(rand.New(rand.NewPCG(seed, 3)), 100+100*int(seed%2), 12, 0.9)
		s := NewSite(f, nil)
		greedy := &filling{Site: s}
		for i, w := range wantsOf(f) {
			greedy.groups = append(greedy.groups, &group{roleSite: s.roles[w.Role], names: w.Names, at: make([]int, len(w.Names)), order: i})
		}
		greedy.turn = greedy.inTurn(greedy.groups)
		if greedy.greedy(); greedy.missing() > 0 {
			chained++
		}
		placed, not := NewSite(f, nil).Fill(wantsOf(f))
		if wrong := complaints(f, placed); len(wrong) > 0 {
			t.Fatalf("seed %d: %v", seed, wrong)
		}
		if len(not) > 0 {
			t.Errorf("seed %d: %d of %d members were not seated, such as %s: %s", seed, len(not), len(placed)+len(not), not[0].Member, not[0].Why)
		}
	}
	if chained < 4 {
		t.Errorf("greed alone is enough for all but %d of these fields", chained)
	}
}

// packed makes a field out of a layout: members of random roles are put on random nodes until that much of the CPU is taken.
func packed(r *rand.Rand, nodes, roles int, fill float64) *field.Field {
	f := &field.Field{}
	total := 0.0
	for i := range nodes {
		k := 1 << r.IntN(3)
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("n-%d", i)), Zone: field.ZoneName(fmt.Sprintf("z-%d", i%3)),
			Size: field.Size{CPU: float64(4 * k), Memory: field.Bytes(16*k) << 30}, Labels: map[string]string{"disk": []string{"nvme", "spinning"}[r.IntN(2)]}})
		total += float64(4 * k)
	}
	for k := range roles {
		role := field.Role{Name: field.RoleName(fmt.Sprintf("r-%d", k)), Spread: []field.Spread{field.SpreadNone, field.SpreadZone, field.SpreadNode}[r.IntN(3)],
			Program: &field.Program{}, Room: field.Size{CPU: float64(1+r.IntN(12)) / 4, Memory: field.Bytes(1+r.IntN(16)) << 29}}
		if r.IntN(3) == 0 {
			role.Where = `labels.disk == "nvme"`
		}
		f.Roles = append(f.Roles, role)
	}
	free := make([]field.Size, nodes)
	for i := range free {
		free[i] = f.Nodes[i].Size
	}
	for used, tries := 0.0, 0; used < fill*total && tries < 200*nodes; tries++ {
		role, n := &f.Roles[r.IntN(roles)], r.IntN(nodes)
		if free[n].CPU < role.Room.CPU || free[n].Memory < role.Room.Memory || role.Where != "" && f.Nodes[n].Labels["disk"] != "nvme" {
			continue
		}
		free[n].CPU -= role.Room.CPU
		free[n].Memory -= role.Room.Memory
		used += role.Room.CPU
		role.Members++
	}
	field.FillDefaults(f)
	return f
}

package whatif

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// ferries is a store of three, a queue of two in two zones, crews that call both, a lookout that only knows them.
func ferries() (*field.Field, []Member) {
	f := &field.Field{Roles: []field.Role{
		{Name: "store", Votes: true},
		{Name: "queue", After: map[field.RoleName]field.Gate{"store": "quorum"}},
		{Name: "crews", Calls: map[string]field.RoleName{"s": "store", "q": "queue"}},
		{Name: "pier", Calls: map[string]field.RoleName{"c": "crews"}},
		{Name: "lookout", Knows: map[string]field.RoleName{"s": "store"}},
		{Name: "none"},
	}}
	for i := range 6 {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("n%d", i+1)), Zone: field.ZoneName(fmt.Sprintf("z%d", i/2+1))})
	}
	var members []Member
	put := func(role field.RoleName, nodes ...int) {
		for i, n := range nodes {
			members = append(members, Member{Name: role.Member(i + 1), Role: role, Node: f.Nodes[n-1].Name, Zone: f.Nodes[n-1].Zone, Works: true, Votes: true})
		}
	}
	put("store", 1, 3, 5)
	put("queue", 1, 2)
	put("crews", 3, 4, 5)
	put("pier", 6)
	put("lookout", 2)
	return f, members
}

func TestWhatAFaultLeadsTo(t *testing.T) {
	for _, test := range []struct {
		faults []Fault
		want   string
	}{
		{[]Fault{{Member: "crews-1"}}, "1 lantern would go dark · crews goes on with 2 of 3"},
		{[]Fault{{Node: "n3"}}, "2 lanterns would go dark · store would hold 2 of 3 votes: writes go on; one more loss stops them · crews goes on with 2 of 3"},
		{[]Fault{{Zone: "z1"}}, "4 lanterns would go dark · queue would have nobody left to do its work · lookout would have nobody left to do its work · crews could not do its work without queue · pier could not do its work without crews · store would hold 2 of 3 votes: writes go on; one more loss stops them"},
		{[]Fault{{Member: "store-1"}, {Member: "store-2"}}, "2 lanterns would go dark · store would hold 1 of 3 votes and needs 2: writes stop · crews could not do its work without store · pier could not do its work without crews"},
		{[]Fault{{Role: "store", Zone: "z3"}}, "1 lantern would go dark · store would hold 2 of 3 votes: writes go on; one more loss stops them"},
		{[]Fault{{Node: "n9"}}, "Nothing stands here that could go dark."},
	} {
		f, members := ferries()
		if got := sceneOf(f, members).Fail(test.faults...).Sentence(); got != test.want {
			t.Errorf("%+v:\n got %s\nwant %s", test.faults, got, test.want)
		}
	}
}

// TestLosingWhatLeadsStopsWrites has the leader of a role without votes lost: others may be left, and nobody takes writes.
func TestLosingWhatLeadsStopsWrites(t *testing.T) {
	f, members := ferries()
	for i := range members {
		members[i].Leads = members[i].Name == "queue-1"
	}
	s := sceneOf(f, members)
	if got := s.Fail(Fault{Member: "queue-1"}).Sentence(); !strings.Contains(got, "queue would lose its leader: writes stop until another leads") {
		t.Errorf("losing the leader: %s", got)
	}
	if got := s.Fail(Fault{Member: "queue-2"}).Sentence(); strings.Contains(got, "leader") {
		t.Errorf("losing a follower: %s", got)
	}
}

func TestWhatIsDarkAlreadyCountsAsDark(t *testing.T) {
	f, members := ferries()
	members[1].Works = false // store-2
	got := sceneOf(f, members).Fail(Fault{Node: "n1"}).Sentence()
	if !strings.Contains(got, "store would hold 1 of 3 votes and needs 2: writes stop") {
		t.Error(got)
	}
	members[0].Works = false
	if got := sceneOf(f, members).Fail(Fault{Node: "n6"}).Sentence(); !strings.Contains(got, "store does not work as it is") {
		t.Error(got)
	}
	members[0].Works, members[1].Works, members[2].Votes = true, true, false // store-3 is a learner
	if l := sceneOf(f, members).Fail(Fault{Member: "store-3"}); len(l.Roles) != 0 || len(l.Dark) != 1 {
		t.Errorf("a learner casts no vote: %+v", l)
	}
}

func sceneOf(f *field.Field, members []Member) *Scene {
	return &Scene{Roles: RolesOf(f), Members: members}
}

func wordCases(cases []Case) string {
	var got []string
	for _, c := range cases {
		var units []string
		for _, f := range c.Faults {
			units = append(units, string(f.Zone)+string(f.Node))
		}
		got = append(got, strings.Join(units, "+")+": "+c.Loss.Stops())
	}
	return strings.Join(got, "|")
}

func TestTheWorstFailuresComeFirst(t *testing.T) {
	f, members := ferries()
	singles, doubles := sceneOf(f, members).WorstFailures(20)
	if got, want := wordCases(singles), "z1: queue, lookout, crews, pier|z3: pier|n2: lookout|n6: pier"; got != want {
		t.Errorf("got %v", got)
	}
	want := "z1+z3: store, queue, pier, lookout, crews|z1+z2: store, queue, lookout, crews, pier|z1+n3: "
	if got := wordCases(doubles); !strings.HasPrefix(got, want) {
		t.Errorf("got %v", got)
	}
}

// TestWorstAgainstTryingEveryFailure tries every node, zone and pair of random scenes one by one.
func TestWorstAgainstTryingEveryFailure(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		f, _ := ferries()
		var members []Member
		for i := range f.Roles {
			role := &f.Roles[i]
			role.Votes = r.IntN(3) == 0
			for j := range r.IntN(5) {
				n := f.Nodes[r.IntN(6)]
				members = append(members, Member{Name: role.Name.Member(j + 1), Role: role.Name, Node: n.Name, Zone: n.Zone, Works: r.IntN(6) > 0, Votes: r.IntN(6) > 0})
			}
		}
		s := sceneOf(f, members)
		var units []Fault
		seen := map[Fault]bool{}
		for _, m := range members {
			for _, u := range []Fault{{Zone: m.Zone}, {Node: m.Node}} {
				if !seen[u] {
					seen[u] = true
					units = append(units, u)
				}
			}
		}
		zones := 0
		for _, u := range units {
			if u.Zone != "" {
				zones++
			}
		}
		stops := func(faults ...Fault) map[field.RoleName]bool {
			out := map[field.RoleName]bool{}
			now := map[field.RoleName]bool{}
			for _, l := range s.Fail().Roles { // what does not work as it is
				now[l.Role] = l.Stopped || l.Through != ""
			}
			for _, l := range s.Fail(faults...).Roles {
				if (l.Stopped || l.Through != "") && !l.Already && !now[l.Role] {
					out[l.Role] = true
				}
			}
			return out
		}
		ones, twos := map[Fault]bool{}, map[[2]Fault]bool{}
		for i, a := range units {
			if a.Zone != "" && zones < 2 {
				continue
			}
			if len(stops(a)) > 0 {
				ones[a] = true
			}
			for _, b := range units[i+1:] {
				if b.Zone != "" && zones < 2 || a.Zone != "" && inZone(members, a.Zone, b.Node) || b.Zone != "" && inZone(members, b.Zone, a.Node) {
					continue
				}
				for role := range stops(a, b) {
					if !stops(a)[role] && !stops(b)[role] {
						twos[[2]Fault{a, b}], twos[[2]Fault{b, a}] = true, true
					}
				}
			}
		}
		singles, doubles := s.WorstFailures(1000)
		for _, c := range singles {
			if !ones[c.Faults[0]] {
				t.Fatalf("%+v would stop nothing, of %+v", c.Faults[0], members)
			}
		}
		for _, c := range doubles {
			if !twos[[2]Fault{c.Faults[0], c.Faults[1]}] {
				t.Fatalf("%+v would stop nothing more, of %+v", c.Faults, members)
			}
		}
		if len(singles) != len(ones) || len(doubles)*2 != len(twos) {
			t.Fatalf("%d of %d failures, %d of %d pairs were found of %+v", len(singles), len(ones), len(doubles), len(twos)/2, members)
		}
	}
}

func inZone(members []Member, zone field.ZoneName, node field.NodeName) bool {
	for _, m := range members {
		if m.Node == node && m.Zone == zone {
			return true
		}
	}
	return false
}

func BenchmarkWorstOfFiveThousandNodes(b *testing.B) {
	s := &Scene{}
	for i := range 50 {
		r := Role{Name: field.RoleName(fmt.Sprintf("role-%d", i)), Votes: i%5 == 0}
		if i > 0 {
			r.Calls = []field.RoleName{s.Roles[i/2].Name}
		}
		s.Roles = append(s.Roles, r)
		n := 1200
		if r.Votes {
			n = 5
		}
		for j := range n {
			node := (i*997 + j*4) % 5000
			s.Members = append(s.Members, Member{Name: r.Name.Member(j + 1), Role: r.Name, Node: field.NodeName(fmt.Sprintf("n%d", node)),
				Zone: field.ZoneName(fmt.Sprintf("z%d", node/500)), Works: true, Votes: true})
		}
	}
	for b.Loop() {
		s.WorstFailures(6)
	}
}

// TestAgainstCountingByHand compares random fields and faults with a plain count.
func TestAgainstCountingByHand(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 2000 {
		f, members := ferries()
		var faults []Fault
		for range 1 + r.IntN(3) {
			faults = append(faults, Fault{Node: f.Nodes[r.IntN(6)].Name})
		}
		for i := range members {
			members[i].Works = r.IntN(5) > 0
		}
		left, votes := map[field.RoleName]int{}, 0
		for _, m := range members {
			dead := false
			for _, x := range faults {
				dead = dead || x.Node == m.Node
			}
			if m.Role == "store" {
				votes++
			}
			if m.Works && !dead {
				left[m.Role]++
			}
		}
		works := map[field.RoleName]bool{"store": left["store"] >= quorum.Needed(votes), "queue": left["queue"] > 0, "lookout": left["lookout"] > 0}
		works["crews"] = left["crews"] > 0 && works["store"] && works["queue"]
		works["pier"] = left["pier"] > 0 && works["crews"]
		l := sceneOf(f, members).Fail(faults...)
		for role, want := range works {
			got := true
			for _, x := range l.Roles {
				if x.Role == role {
					got = !x.Stopped && x.Through == ""
				}
			}
			if got != want {
				t.Fatalf("%v with %v: %s works %v, want %v", members, faults, role, got, want)
			}
		}
	}
}

// TestWhatAFaultLeadsToWithALease has a database whose leader a lease in the store names, and whose writes one other must confirm.
func TestWhatAFaultLeadsToWithALease(t *testing.T) {
	s := &Scene{Roles: []Role{{Name: "store", Votes: true}, {Name: "berths", Confirms: 1, Store: "store"}, {Name: "desk", Calls: []field.RoleName{"berths"}}}}
	for i, role := range []field.RoleName{"store", "berths", "berths", "berths", "desk"} {
		s.Members = append(s.Members, Member{Name: role.Member(i), Role: role, Node: "n", Works: true, Votes: true, Leads: i == 1})
	}
	for _, test := range []struct {
		faults []Fault
		want   string
	}{
		{[]Fault{{Member: "berths-1"}}, "1 lantern would go dark · berths would lose its leader: another leads within seconds; one more loss stops writes"},
		{[]Fault{{Member: "berths-2"}}, "1 lantern would go dark · berths goes on with 2 of 3; one more loss stops writes"},
		{[]Fault{{Member: "berths-2"}, {Member: "berths-3"}}, "2 lanterns would go dark · berths would have too few to confirm writes, 1 of 3: writes wait · desk could not do its work without berths"},
		{[]Fault{{Role: "berths"}}, "3 lanterns would go dark · berths would have nobody left to do its work · desk could not do its work without berths"},
		{[]Fault{{Role: "store"}}, "1 lantern would go dark · store would hold 0 of 1 votes and needs 1: writes stop · berths goes on with 3 of 3, as long as its guards reach each other; nobody can take over without store"},
		{[]Fault{{Role: "store"}, {Member: "berths-1"}}, "2 lanterns would go dark · store would hold 0 of 1 votes and needs 1: writes stop · berths would lose its leader, and nobody can take over without store: writes stop · desk could not do its work without berths"},
	} {
		if got := s.Fail(test.faults...).Sentence(); got != test.want {
			t.Errorf("%v:\n%s\nwant\n%s", test.faults, got, test.want)
		}
	}
}

// TestAFloatingAddressMoves has the member lost that has one: others go on, and it moves to them.
func TestAFloatingAddressMoves(t *testing.T) {
	f, members := ferries()
	f.Roles[1].Floating = &field.Floating{Address: "10.7.0.50"}
	for i := range members {
		members[i].Leads = members[i].Name == "queue-1"
	}
	for fault, want := range map[Fault]string{
		{Member: "queue-1"}: "1 lantern would go dark · queue goes on with the last of 2; 10.7.0.50 would move there within seconds",
		{Member: "queue-2"}: "1 lantern would go dark · queue goes on with the last of 2",
	} {
		if got := sceneOf(f, members).Fail(fault).Sentence(); got != want {
			t.Errorf("%+v:\n got %s\nwant %s", fault, got, want)
		}
	}
}

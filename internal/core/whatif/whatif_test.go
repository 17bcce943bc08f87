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
		{[]Fault{{Node: "n3"}}, "2 lanterns would go dark · store would hold 2 of 3 votes, one more loss stops writes · crews goes on with 2 of 3"},
		{[]Fault{{Zone: "z1"}}, "4 lanterns would go dark · queue would have nobody left to do its work · lookout would have nobody left to do its work · crews could not do its work without queue · pier could not do its work without crews · store would hold 2 of 3 votes, one more loss stops writes"},
		{[]Fault{{Member: "store-1"}, {Member: "store-2"}}, "2 lanterns would go dark · store would hold 1 of 3 votes and needs 2: writes stop · crews could not do its work without store · pier could not do its work without crews"},
		{[]Fault{{Role: "store", Zone: "z3"}}, "1 lantern would go dark · store would hold 2 of 3 votes, one more loss stops writes"},
		{[]Fault{{Node: "n9"}}, "Nothing stands here that could go dark."},
	} {
		f, members := ferries()
		if got := Fail(f, members, test.faults...).Sentence(); got != test.want {
			t.Errorf("%+v:\n got %s\nwant %s", test.faults, got, test.want)
		}
	}
}

func TestWhatIsDarkAlreadyCountsAsDark(t *testing.T) {
	f, members := ferries()
	members[1].Works = false // store-2
	got := Fail(f, members, Fault{Node: "n1"}).Sentence()
	if !strings.Contains(got, "store would hold 1 of 3 votes and needs 2: writes stop") {
		t.Error(got)
	}
	members[0].Works = false
	if got := Fail(f, members, Fault{Node: "n6"}).Sentence(); !strings.Contains(got, "store does not work as it is") {
		t.Error(got)
	}
	members[0].Works, members[1].Works, members[2].Votes = true, true, false // store-3 is a learner
	if l := Fail(f, members, Fault{Member: "store-3"}); len(l.Roles) != 0 || len(l.Dark) != 1 {
		t.Errorf("a learner casts no vote: %+v", l)
	}
}

func TestTheWorstSingleFailuresComeFirst(t *testing.T) {
	f, members := ferries()
	var got []string
	for _, c := range Singles(f, members) {
		got = append(got, fmt.Sprintf("%s%s: %s", c.Faults[0].Zone, c.Faults[0].Node, c.Loss.Stops()))
	}
	if want := "z1: queue, lookout, crews, pier|z3: pier|n2: lookout|n6: pier"; strings.Join(got, "|") != want {
		t.Errorf("got %v", got)
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
		l := Fail(f, members, faults...)
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

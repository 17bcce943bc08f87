package plan

import (
	"fmt"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

// live reads "crews-2@a1 crews-1@b1! crews-3@b2*": ! is not ready, * leads.
func live(text string) Live {
	l := Live{Highest: map[field.RoleName]int{}}
	for _, word := range strings.Fields(text) {
		ready, leads := !strings.Contains(word, "!"), strings.Contains(word, "*")
		name, node, _ := strings.Cut(strings.Trim(word, "!*"), "@")
		role, number, _ := strings.Cut(name, "-")
		m := Member{Member: place.Member{Name: field.MemberName(name), Role: field.RoleName(role), Node: field.NodeName(node)}, Ready: ready, Leads: leads}
		fmt.Sscan(number, &m.Number)
		l.Highest[m.Role] = max(l.Highest[m.Role], m.Number)
		l.Members = append(l.Members, m)
	}
	return l
}

func outcome(p Plan) string {
	var parts []string
	for _, a := range p.Adds {
		parts = append(parts, fmt.Sprintf("+%s@%s", a.Name, a.Node))
	}
	for _, r := range p.Removes {
		parts = append(parts, "-"+string(r.Member))
	}
	for _, u := range p.Unplaced {
		parts = append(parts, "!"+string(u.Member))
	}
	return strings.Join(parts, " ")
}

func TestMake(t *testing.T) {
	nodes := []field.Node{{Name: "a1", Zone: "a"}, {Name: "a2", Zone: "a"}, {Name: "b1", Zone: "b"}}
	for _, test := range []struct {
		name    string
		live    string
		members int
		pins    []field.NodeName
		want    string
	}{
		{"first deploy", "", 3, nil, "+crews-1@a1 +crews-2@b1 +crews-3@a2"},
		{"nothing to do", "crews-1@a1 crews-2@b1", 2, nil, ""},
		{"numbers go on", "crews-4@a1", 2, nil, "+crews-5@b1"},
		{"the unready leaves first", "crews-1@a1! crews-2@a2 crews-3@b1", 2, nil, "-crews-1"},
		{"then who keeps the spread", "crews-1@a1 crews-2@a2 crews-3@b1", 2, nil, "-crews-2"},
		{"then the newest", "crews-1@a1 crews-2@b1", 1, nil, "-crews-2"},
		{"the leader last", "crews-1@a1 crews-2@b1*", 1, nil, "-crews-1"},
		{"the leader last even when unready", "crews-1@a1 crews-2@b1!*", 1, nil, "-crews-1"},
		{"to zero", "crews-1@a1 crews-2@b1", 0, nil, "-crews-1 -crews-2"},
		{"a lost node is replaced", "crews-1@gone crews-2@b1", 2, nil, "+crews-3@a1 -crews-1"},
		{"a pin at first", "", 2, []field.NodeName{"b1", "b1"}, "+crews-1@b1 +crews-2@b1"},
		{"a pin that is met", "crews-1@a1 crews-2@b1", 2, []field.NodeName{"b1"}, ""},
		{"a pin moves one", "crews-1@a1 crews-2@b1", 2, []field.NodeName{"a2", "b1"}, "+crews-3@a2 -crews-1"},
		{"the pinned stays", "crews-1@a1 crews-2@b1", 1, []field.NodeName{"b1"}, "-crews-1"},
		{"a role that is dropped", "wardens-1@a1 crews-1@a1", 1, nil, "-wardens-1"},
	} {
		f := &field.Field{Nodes: nodes, Roles: []field.Role{{Name: "crews", Members: test.members, Spread: field.SpreadZone}},
			Place: map[field.RoleName][]field.NodeName{"crews": test.pins}}
		for range 3 {
			if got := outcome(Make(f, live(test.live))); got != test.want {
				t.Errorf("%s: got %q, want %q", test.name, got, test.want)
			}
		}
	}
}

// TestAPlanCarriedOutIsComplete holds for every small field: after the adds and removes, the next plan is empty.
func TestAPlanCarriedOutIsComplete(t *testing.T) {
	for from := range 5 {
		for to := range 5 {
			f := &field.Field{Nodes: []field.Node{{Name: "a1", Zone: "a"}, {Name: "b1", Zone: "b"}},
				Roles: []field.Role{{Name: "crews", Members: from, Spread: field.SpreadZone}}}
			l := Live{Highest: map[field.RoleName]int{}}
			carryOut := func() {
				p := Make(f, l)
				var next []Member
				for _, m := range l.Members {
					stays := true
					for _, r := range p.Removes {
						stays = stays && r.Member != m.Name
					}
					if stays {
						next = append(next, m)
					}
				}
				for _, a := range p.Adds {
					l.Highest["crews"]++
					next = append(next, Member{Member: a, Number: l.Highest["crews"], Ready: true})
				}
				l.Members = next
			}
			carryOut()
			f.Roles[0].Members = to
			carryOut()
			if p := Make(f, l); outcome(p) != "" || len(l.Members) != to {
				t.Errorf("%d to %d: %d members, still %q", from, to, len(l.Members), outcome(p))
			}
		}
	}
}

package membership

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// state is a cluster with the change that has been asked for and has not taken effect yet.
type state struct {
	Cluster
	under Change
}

func (s *state) key() string {
	var b strings.Builder
	for _, m := range s.Members {
		fmt.Fprintf(&b, "%d%t%t%t ", m.Seat, m.Healthy, m.Leads, m.Leaving)
	}
	fmt.Fprint(&b, s.under)
	return b.String()
}

func (s *state) with(change func(*state)) *state {
	next := &state{Cluster: s.Cluster, under: s.under}
	next.Members = slices.Clone(s.Members)
	change(next)
	return next
}

// elect has the first healthy voter lead when nobody does.
func (s *state) elect() {
	leads := slices.ContainsFunc(s.Members, func(m Member) bool { return m.Leads })
	for i := range s.Members {
		if m := &s.Members[i]; !leads && m.Seat == Voter && m.Healthy {
			m.Leads = true
			return
		}
	}
}

func (s *state) lead(name field.MemberName) {
	for i := range s.Members {
		s.Members[i].Leads = s.Members[i].Name == name
	}
}

// effect lets the change that is under way come true.
func (s *state) effect() {
	for i := range s.Members {
		m := &s.Members[i]
		if m.Name != s.under.Member {
			continue
		}
		if s.under.Kind == HandOver {
			s.lead(s.under.To)
			break
		}
		m.Seat = seatAfter(&s.Cluster, s.under, m.Seat)
		m.Leads = m.Leads && m.Seat == Voter
		if s.under.Kind == Dismiss {
			m.Healthy = false
		}
	}
	s.under = Change{}
	s.elect()
}

// fails lets one member fail.
func (s *state) fails(i int) {
	s.Members[i].Healthy, s.Members[i].Leads = false, false
	s.elect()
}

// explore walks through everything that can happen from a state on: changes that take effect, members that fail as far
// as Survives says that they may, members that come back or up. It fails the test where votes are too few, and counts
// the states. Every state must lead on to the wanted cluster.
func explore(t *testing.T, start *state) int {
	t.Helper()
	seen := map[string]bool{}
	queue := []*state{start}
	push := func(s *state) {
		if key := s.key(); !seen[key] {
			seen[key] = true
			queue = append(queue, s)
		}
	}
	seen[start.key()] = true
	for len(queue) > 0 {
		s := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		voters, healthy := s.Votes()
		if healthy < quorum.Needed(voters) {
			t.Fatalf("%d of %d votes are left: %+v", healthy, voters, s)
		}
		if s.under.Kind != None {
			push(s.with((*state).effect))
		} else if next, _ := Next(&s.Cluster); next.Kind != None {
			push(s.with(func(n *state) { n.under = next }))
		}
		may := Survives(&s.Cluster, s.under)
		for i, m := range s.Members {
			votes := m.Seat == Voter || m.Name == s.under.Member && s.under.Kind == Promote
			switch {
			case m.Healthy && (!votes || may > 0):
				push(s.with(func(n *state) { n.fails(i) }))
			case !m.Healthy && m.Seat != Outside:
				push(s.with(func(n *state) { n.Members[i].Healthy = true; n.elect() }))
			}
		}
		if !arrives(s) {
			t.Fatalf("this leads nowhere although everybody comes back: %+v", s)
		}
	}
	return len(seen)
}

// arrives tells whether the wanted cluster is reached when nothing fails any more and all that stays comes back.
func arrives(s *state) bool {
	for range 100 {
		s = s.with(func(n *state) {
			for i := range n.Members {
				if m := &n.Members[i]; !m.Leaving && m.Seat != Outside {
					m.Healthy = true
				}
			}
			n.elect()
		})
		if s.under.Kind == None {
			s.under, _ = Next(&s.Cluster)
		}
		if s.under.Kind == None {
			return !slices.ContainsFunc(s.Members, func(m Member) bool { return m.Leaving != (m.Seat == Outside) })
		}
		s.effect()
	}
	return false
}

func cluster(stay, leave, come int, learners, handsOver bool) *state {
	s := &state{Cluster: Cluster{Name: "wardens", Learners: learners, HandsOver: handsOver}}
	for i := range stay + leave + come {
		m := Member{Name: field.RoleName("wardens").Member(i + 1)}
		if i < stay+leave {
			m.Seat, m.Healthy = Voter, true
		}
		m.Leaving = i < leave // those that leave include the leader
		s.Members = append(s.Members, m)
	}
	s.elect()
	return s
}

// TestQuorumIsNeverLostBecauseOfUs is the exhaustive search: every way from one size to another up to seven voters,
// by growing, by shrinking and by replacing, with and without learners and hand-over, with every order of failures within
// what the cluster survives, between any two changes and while a change is under way.
func TestQuorumIsNeverLostBecauseOfUs(t *testing.T) {
	states, ways, most := 0, 0, 7
	if testing.Short() {
		most = 5
	}
	for stay := 0; stay <= most; stay++ {
		for leave := 0; stay+leave <= most; leave++ {
			for come := 0; stay+leave+come <= most; come++ {
				if stay+leave == 0 || stay+come == 0 {
					continue
				}
				for _, learners := range []bool{true, false} {
					if !learners && stay+leave == 1 && come > 0 {
						continue // a second voter that is not up yet halts a single one; nothing but a learner avoids that
					}
					for _, handsOver := range []bool{true, false} {
						states += explore(t, cluster(stay, leave, come, learners, handsOver))
						ways++
					}
				}
			}
		}
	}
	t.Logf("%d states on %d ways", states, ways)
}

func TestNext(t *testing.T) {
	m := func(name string, seat Seat, marks string) Member {
		has := func(mark string) bool { return strings.Contains(marks, mark) }
		return Member{Name: field.MemberName(name), Seat: seat, Healthy: has("h"), Leads: has("l"), Leaving: has("x"), Absent: has("a")}
	}
	three := []Member{m("w-1", Voter, "hl"), m("w-2", Voter, "h"), m("w-3", Voter, "h")}
	for _, test := range []struct {
		name    string
		cluster Cluster
		want    Change
		waits   string
	}{
		{"as wanted", Cluster{Members: three}, Change{}, ""},
		{"a learner first", Cluster{Learners: true, Members: append(slices.Clone(three), m("w-4", Outside, ""))}, Change{Kind: Admit, Member: "w-4"}, ""},
		{"one learner at a time", Cluster{Learners: true, Members: append(slices.Clone(three), m("w-4", Learner, ""), m("w-5", Outside, ""))},
			Change{}, "w-4 to catch up"},
		{"caught up", Cluster{Learners: true, Members: append(slices.Clone(three), m("w-4", Learner, "h"))}, Change{Kind: Promote, Member: "w-4"}, ""},
		{"a voter at once needs a vote to spare", Cluster{Name: "w", Members: []Member{three[0], three[1], m("w-3", Voter, ""), m("w-4", Outside, "")}},
			Change{}, "one more healthy vote: with w-4, w would need 3 and has 2"},
		{"the dark leave before anybody comes", Cluster{Learners: true, Members: []Member{three[0], three[1], m("w-3", Voter, "x"), m("w-4", Outside, "")}},
			Change{Kind: Dismiss, Member: "w-3"}, ""},
		{"the healthy leave after everybody came", Cluster{Learners: true, Members: []Member{three[0], three[1], m("w-3", Voter, "hx"), m("w-4", Outside, "")}},
			Change{Kind: Admit, Member: "w-4"}, ""},
		{"the leader leaves last", Cluster{HandsOver: true, Members: []Member{m("w-1", Voter, "hlx"), m("w-2", Voter, "hx"), three[2]}},
			Change{Kind: Dismiss, Member: "w-2"}, ""},
		{"and hands over first", Cluster{HandsOver: true, Members: []Member{m("w-1", Voter, "hlx"), three[1], three[2]}},
			Change{Kind: HandOver, Member: "w-1", To: "w-2"}, ""},
		{"if it can", Cluster{Members: []Member{m("w-1", Voter, "hlx"), three[1], three[2]}}, Change{Kind: Dismiss, Member: "w-1"}, ""},
		{"not with the last vote that is needed", Cluster{Name: "w", Members: []Member{three[0], m("w-2", Voter, ""), m("w-3", Voter, "hx")}},
			Change{}, "one more healthy vote: without w-3, w would need 2 of 2, and have 1"},
		{"without a quorum nothing", Cluster{Name: "w", Members: []Member{three[0], m("w-2", Voter, "x"), m("w-3", Voter, "")}},
			Change{}, "w to have the 2 votes that it needs (it has 1 of 3): without them no member can be added or removed"},
		{"a stranger counts as a voter that is dark", Cluster{Name: "w", Strangers: 2, Members: append(slices.Clone(three), m("w-4", Outside, ""))},
			Change{}, "one more healthy vote: with w-4, w would need 4 and has 3"},
		{"without votes, too, somebody must be there to join", Cluster{Name: "w", Voteless: true, Members: []Member{m("w-1", Voter, ""), m("w-2", Outside, "")}},
			Change{}, "a member of w that works"},
		{"without votes no quorum limits", Cluster{Voteless: true, Members: []Member{m("w-1", Voter, "h"), m("w-2", Voter, ""), m("w-3", Voter, ""), m("w-4", Outside, "")}},
			Change{Kind: Admit, Member: "w-4"}, ""},
		{"who is stopped on purpose is not admitted", Cluster{Members: append(slices.Clone(three), m("w-4", Outside, "a"))}, Change{}, ""},
	} {
		if got, waits := Next(&test.cluster); got != test.want || waits.For != test.waits || waits.Blocked != strings.Contains(test.waits, "vote") {
			t.Errorf("%s: got %+v, %+v; want %+v, %q", test.name, got, waits, test.want, test.waits)
		}
	}
}

// Package membership decides how one cluster gets from the voters that it has to those that are wanted, one change at a
// time, so that the votes which it needs are never lost because of the change.
//
// A change of who votes changes how many votes are needed. Adding a member that is not up yet raises what is needed
// without raising what is there; taking one away that works lowers what is there. Next therefore follows these rules,
// in this order, and gives the first change that one of them allows:
//
//  1. Nothing is changed while the cluster has lost its quorum: no change could be agreed on.
//  2. A member that leaves and is dark is dismissed first. It casts no vote, so losing it costs nothing, and without it
//     fewer votes may be needed.
//  3. A learner that has caught up becomes a voter.
//  4. A member that is missing is admitted: as a learner where the program knows them, else as a voter, and then only if
//     the votes that are there would be enough even if it never came up.
//  5. Once all that are wanted vote, those that leave are dismissed, the leader last and after it has handed over. Where
//     members do not vote, all that stay must be ready first.
//
// Whatever is left to do waits, and Next says for what.
package membership

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// Seat is where a member stands in its cluster's own list.
type Seat int

// The seats.
const (
	Outside Seat = iota // not on the list
	Learner             // gets all that is written and does not vote
	Voter
)

// Member is one member as its cluster and its agent report it.
type Member struct {
	Name    field.MemberName
	Seat    Seat
	Healthy bool // answers, and has caught up with the others
	Leads   bool
	Leaving bool // shall be no member in the end
	Absent  bool // cannot be admitted now: stopped on purpose, or not to be started yet
}

// Cluster is one cluster before its next change.
type Cluster struct {
	Name      field.RoleName
	Members   []Member // ours, in the order in which they shall be dealt with
	Strangers int      // voters on the cluster's list that are none of ours; whether they are healthy is not known
	Learners  bool     // the program knows learners
	HandsOver bool     // the program can hand over leadership
	Voteless  bool     // its members do not vote: the order holds, and no quorum limits it
}

// Kind says what a change does.
type Kind string

// The kinds of change.
const (
	None     Kind = ""
	Admit    Kind = "admit"
	Promote  Kind = "promote"
	HandOver Kind = "hand-over"
	Dismiss  Kind = "dismiss"
)

// Wait is what the next change waits for.
type Wait struct {
	For     string
	Blocked bool // waiting alone does not end it: a member that has failed must come back, or the draft must change
}

// Change is one change of who votes, or who leads. To is who shall lead after a hand-over.
type Change struct {
	Kind   Kind
	Member field.MemberName
	To     field.MemberName
}

// Votes counts the voters and how many of them are healthy. A stranger counts as a voter that is not.
func (c *Cluster) Votes() (voters, healthy int) {
	voters = c.Strangers
	for _, m := range c.Members {
		if m.Seat == Voter {
			voters++
			if m.Healthy {
				healthy++
			}
		}
	}
	return voters, healthy
}

// Next gives the change to make now; where there is none, it says what the next one waits for, or nothing when the
// cluster is as it shall be. It is to be asked only when no change is under way.
func Next(c *Cluster) (Change, Wait) {
	missing := c.missing()
	if missing == "" && !c.leaving() {
		return Change{}, Wait{}
	}
	voters, healthy := c.Votes()
	alone := voters > 0 && healthy == 0
	if c.Voteless {
		voters, healthy = 0, 0
	}
	if healthy < quorum.Needed(voters) {
		return Change{}, blocked("%s to have the %d votes that it needs (it has %d of %d): without them no member can be added or removed",
			c.Name, quorum.Needed(voters), healthy, voters)
	}
	if m := c.first(func(m Member) bool { return m.Leaving && (m.Seat == Learner || m.Seat == Voter && !m.Healthy) }); m != nil {
		return Change{Kind: Dismiss, Member: m.Name}, Wait{}
	}
	if m := c.first(func(m Member) bool { return !m.Leaving && m.Seat == Learner }); m != nil { // one at a time
		if m.Healthy && (c.Voteless || healthy+1 >= quorum.Needed(voters+1)) {
			return Change{Kind: Promote, Member: m.Name}, Wait{}
		}
		return Change{}, Wait{For: fmt.Sprintf("%s to catch up", m.Name)}
	}
	if m := c.first(func(m Member) bool { return !m.Leaving && m.Seat == Outside && !m.Absent }); m != nil {
		if !c.Learners && voters > 1 && healthy < quorum.Needed(voters+1) {
			return Change{}, blocked("one more healthy vote: with %s, %s would need %d and has %d", m.Name, c.Name, quorum.Needed(voters+1), healthy)
		}
		if alone {
			return Change{}, Wait{For: fmt.Sprintf("a member of %s that works", c.Name)} // it is let in by, or copies from, one
		}
		return Change{Kind: Admit, Member: m.Name}, Wait{}
	}
	return c.dismiss(voters, healthy)
}

func (c *Cluster) first(holds func(Member) bool) *Member {
	for i := range c.Members {
		if holds(c.Members[i]) {
			return &c.Members[i]
		}
	}
	return nil
}

// missing names a member that shall vote and does not; "" when there is none.
func (c *Cluster) missing() field.MemberName {
	if m := c.first(func(m Member) bool { return !m.Leaving && !m.Absent && m.Seat != Voter }); m != nil {
		return m.Name
	}
	return ""
}

// leaving tells whether somebody on the list shall not be on it.
func (c *Cluster) leaving() bool {
	return c.first(func(m Member) bool { return m.Leaving && m.Seat != Outside }) != nil
}

// dismiss sends away one member that works.
func (c *Cluster) dismiss(voters, healthy int) (Change, Wait) {
	if m := c.first(func(m Member) bool { return !m.Leaving && !m.Absent && !m.Healthy }); m != nil && c.Voteless && c.leaving() {
		return Change{}, blocked("%s to be ready: nobody that works is removed before it is", m.Name) // no votes say how many are enough
	}
	goes := func(m Member) bool { return m.Leaving && m.Seat == Voter }
	if m := c.first(func(m Member) bool { return goes(m) && !m.Leads }); m != nil {
		return c.without(m, voters, healthy)
	}
	leader := c.first(goes)
	if leader == nil {
		return Change{}, Wait{}
	}
	if heir := c.first(func(m Member) bool { return !m.Leaving && m.Seat == Voter && m.Healthy }); heir != nil && c.HandsOver {
		return Change{Kind: HandOver, Member: leader.Name, To: heir.Name}, Wait{}
	}
	return c.without(leader, voters, healthy)
}

// without dismisses a member that works, if the others are enough without it.
func (c *Cluster) without(m *Member, voters, healthy int) (Change, Wait) {
	if !c.Voteless && healthy-1 < quorum.Needed(voters-1) {
		return Change{}, blocked("one more healthy vote: without %s, %s would need %d of %d, and have %d",
			m.Name, c.Name, quorum.Needed(voters-1), voters-1, healthy-1)
	}
	return Change{Kind: Dismiss, Member: m.Name}, Wait{}
}

// Survives is how many more healthy voters the cluster can lose while that change is under way: before it has taken
// effect as well as after. It is -1 when the quorum is lost already.
func Survives(c *Cluster, under Change) int {
	voters, healthy := c.Votes()
	now := quorum.Survives(voters, healthy)
	after := *c
	after.Members = append([]Member(nil), c.Members...)
	for i := range after.Members {
		if m := &after.Members[i]; m.Name == under.Member {
			m.Seat = seatAfter(c, under, m.Seat)
		}
	}
	voters, healthy = after.Votes()
	return min(now, quorum.Survives(voters, healthy))
}

func seatAfter(c *Cluster, change Change, now Seat) Seat {
	switch change.Kind {
	case Admit:
		if c.Learners {
			return max(now, Learner)
		}
		return Voter
	case Promote:
		return Voter
	case Dismiss:
		return Outside
	}
	return now
}

func blocked(format string, args ...any) Wait {
	return Wait{For: fmt.Sprintf(format, args...), Blocked: true}
}

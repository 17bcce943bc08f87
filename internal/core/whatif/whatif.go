// Package whatif says what would go dark, and what would stop working for whom, if something failed: a member, a node, a
// zone, or any of them together. It is the one place where that is worked out and worded.
package whatif

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// Role is a role as far as it matters here.
type Role struct {
	Name  field.RoleName
	Votes bool
	Calls []field.RoleName // without whom it cannot do its work

	Confirms int            // how many others must confirm each write, where a lease says who leads
	Store    field.RoleName // where that lease is kept
	Floating string         // an address that one member has at a time: who leads
}

// RolesOf gives the roles of a draft.
func RolesOf(f *field.Field) []Role {
	roles := make([]Role, len(f.Roles))
	for i := range f.Roles {
		r := &f.Roles[i]
		roles[i] = Role{Name: r.Name, Votes: r.Votes, Calls: r.Relied(), Confirms: f.Confirms(r, r.Members), Store: r.LeaseStore(), Floating: f.FloatingOf(r.Name)}
	}
	return roles
}

// Scene is who is there: the roles in the order of the field, and their members.
type Scene struct {
	Roles   []Role
	Members []Member
}

// Member is a member as far as it matters here.
type Member struct {
	Name  field.MemberName
	Role  field.RoleName
	Node  field.NodeName
	Zone  field.ZoneName
	Works bool // does its work now; in a draft, would
	Votes bool // casts a vote, where the members of its role vote
	Leads bool // leads its role
}

// Fault is what fails. What is left empty does not matter; all members that fit the rest fail.
type Fault struct {
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
	Zone   field.ZoneName
}

// Hits tells whether a member fails with it.
func (f Fault) Hits(m Member) bool {
	return (f.Member == "" || f.Member == m.Name) && (f.Role == "" || f.Role == m.Role) && (f.Node == "" || f.Node == m.Node) &&
		(f.Zone == "" || f.Zone == m.Zone)
}

// Loss is what comes of a fault.
type Loss struct {
	Dark  map[field.MemberName]bool // who fails
	Roles []RoleLoss                // whom it concerns, the worst first
}

// RoleLoss is what a fault costs one role.
type RoleLoss struct {
	Role     field.RoleName
	Votes    bool
	Left     int            // members, or votes, that are left
	Of       int            // members, or votes, that there are
	Needed   int            // votes that are needed, or 1
	Stopped  bool           // it cannot do its work by itself
	Already  bool           // nor could it before
	Leader   bool           // it loses its leader
	Floating string         // an address that it has had by that one
	Leased   bool           // writes wait where none is left to confirm them; another leads by itself
	Store    field.RoleName // of its lease, where that has stopped: nobody can take over
	Through  field.RoleName // that it calls and that has stopped, so that it cannot do its work either
}

// Losses is how many more of the role's members may be lost.
func (l RoleLoss) Losses() int { return l.Left - l.Needed }

// count is how many of a role there are, work, and would be left; of voting roles, votes.
type count struct{ all, works, left int }

func (c count) needed(r *Role) int {
	if r.Votes {
		return quorum.Needed(c.all)
	}
	return 1 + r.Confirms
}

// Fail finds what faults lead to. What a role calls it needs to do its work, and so on along the calls; what it only
// knows, or only waits for at its start, it does not.
func (s *Scene) Fail(faults ...Fault) Loss {
	loss := Loss{Dark: map[field.MemberName]bool{}}
	index := s.index()
	counts, leaders := make([]count, len(s.Roles)), make([]bool, len(s.Roles))
	for i := range s.Members {
		m := &s.Members[i]
		r, ok := index[m.Role]
		if !ok {
			continue
		}
		hit := false
		for _, f := range faults {
			hit = hit || f.Hits(*m)
		}
		if hit {
			loss.Dark[m.Name] = true
			leaders[r] = leaders[r] || m.Leads && m.Works
		}
		if s.Roles[r].Votes && !m.Votes {
			continue
		}
		c := &counts[r]
		c.all++
		if m.Works {
			c.works++
			if !hit {
				c.left++
			}
		}
	}
	now := s.asItIs(index, counts)
	stopped := make([]bool, len(s.Roles))
	concerned := make([]*RoleLoss, len(s.Roles))
	for i := range s.Roles {
		r, c := &s.Roles[i], counts[i]
		l := &RoleLoss{Role: r.Name, Votes: r.Votes, Leased: r.Confirms > 0, Floating: r.Floating, Left: c.left, Of: c.all, Needed: c.needed(r)}
		if c.all > 0 && c.left < l.Needed {
			l.Stopped, stopped[i] = true, true
		}
		l.Already, l.Leader = now[i], leaders[i] && !l.Stopped
		if c.left < c.works || l.Stopped {
			concerned[i] = l
		}
	}
	headless := make([]bool, len(s.Roles)) // lost their leader, and nobody can take over
	for i := range s.Roles {
		if at, ok := index[s.Roles[i].Store]; ok && stopped[at] && leaders[i] && !stopped[i] {
			headless[i], stopped[i] = true, true
		}
	}
	s.follow(index, counts, stopped, func(i int, through field.RoleName) {
		if concerned[i] == nil {
			c, r := counts[i], &s.Roles[i]
			concerned[i] = &RoleLoss{Role: r.Name, Votes: r.Votes, Leased: r.Confirms > 0, Left: c.left, Of: c.all, Needed: c.needed(r), Already: now[i]}
		}
		concerned[i].Through = through
	})
	for i := range s.Roles {
		r, c := &s.Roles[i], counts[i]
		if at, ok := index[r.Store]; r.Store == "" || !ok || !stopped[at] || stopped[i] && !headless[i] {
			continue
		}
		if concerned[i] == nil {
			concerned[i] = &RoleLoss{Role: r.Name, Leased: true, Left: c.left, Of: c.all, Needed: c.needed(r)}
		}
		concerned[i].Store = r.Store
	}
	for _, l := range concerned {
		if l != nil {
			loss.Roles = append(loss.Roles, *l)
		}
	}
	slices.SortStableFunc(loss.Roles, func(a, b RoleLoss) int { return rank(a) - rank(b) })
	return loss
}

// AsItIs says how every role stands without any fault.
func (s *Scene) AsItIs() []RoleLoss {
	index, counts := s.index(), make([]count, len(s.Roles))
	for i := range s.Members {
		m := &s.Members[i]
		r, ok := index[m.Role]
		if !ok || s.Roles[r].Votes && !m.Votes {
			continue
		}
		counts[r].all++
		if m.Works {
			counts[r].works++
		}
	}
	out := make([]RoleLoss, len(s.Roles))
	stopped := make([]bool, len(s.Roles))
	for i := range s.Roles {
		r, c := &s.Roles[i], counts[i]
		out[i] = RoleLoss{Role: r.Name, Votes: r.Votes, Leased: r.Confirms > 0, Left: c.works, Of: c.all, Needed: c.needed(r)}
		out[i].Stopped = c.all > 0 && c.works < out[i].Needed
		stopped[i] = out[i].Stopped
	}
	s.follow(index, counts, stopped, func(i int, through field.RoleName) { out[i].Through = through })
	return out
}

// asItIs tells which roles do not work without any fault, by themselves or through others.
func (s *Scene) asItIs(index map[field.RoleName]int, counts []count) []bool {
	stopped := make([]bool, len(s.Roles))
	for i := range s.Roles {
		stopped[i] = counts[i].all > 0 && counts[i].works < counts[i].needed(&s.Roles[i])
	}
	s.follow(index, counts, stopped, func(int, field.RoleName) {})
	return stopped
}

func (s *Scene) index() map[field.RoleName]int {
	index := make(map[field.RoleName]int, len(s.Roles))
	for i, r := range s.Roles {
		index[r.Name] = i
	}
	return index
}

// follow goes along the calls from the roles that have stopped to those that cannot do their work without them.
func (s *Scene) follow(index map[field.RoleName]int, counts []count, stopped []bool, found func(role int, through field.RoleName)) {
	for grown := true; grown; {
		grown = false
		for i := range s.Roles {
			if stopped[i] || counts[i].all == 0 {
				continue
			}
			for _, called := range s.Roles[i].Calls {
				if j, ok := index[called]; ok && stopped[j] {
					stopped[i], grown = true, true
					found(i, called)
					break
				}
			}
		}
	}
}

// rank orders what a fault costs: what stops by itself, what stops through others, what has no reserve left, the rest.
func rank(l RoleLoss) int {
	switch {
	case l.Stopped && l.Votes:
		return 0
	case l.Stopped, l.Store != "" && l.Leader:
		return 1
	case l.Through != "":
		return 2
	case l.Losses() == 0, l.Leader && !l.Votes, l.Store != "":
		return 3
	}
	return 4
}

// Weight tells how much a line matters.
type Weight int

// How much a line matters.
const (
	Fine    Weight = iota // goes on
	Tight                 // goes on without any reserve
	Stopped               // does not go on
)

// Words says what the loss means for the role. will is for what has not happened yet.
func (l RoleLoss) Words(will bool) (string, Weight) {
	verb := func(now, then string) string {
		if will {
			return then
		}
		return now
	}
	votes := fmt.Sprintf("%s %s %d of %d votes", l.Role, verb("holds", "would hold"), l.Left, l.Of)
	switch {
	case l.Already && will:
		return fmt.Sprintf("%s does not work as it is", l.Role), Stopped
	case l.Stopped && l.Votes:
		return fmt.Sprintf("%s and needs %d: writes stop", votes, l.Needed), Stopped
	case l.Stopped && l.Leased && l.Left > 0:
		return fmt.Sprintf("%s %s too few to confirm writes, %d of %d: writes wait", l.Role, verb("has", "would have"), l.Left, l.Of), Stopped
	case l.Stopped:
		return fmt.Sprintf("%s %s nobody left to do its work", l.Role, verb("has", "would have")), Stopped
	case l.Through != "":
		return fmt.Sprintf("%s %s do its work without %s", l.Role, verb("cannot", "could not"), l.Through), Stopped
	case l.Leader && l.Votes && l.Losses() == 0:
		return votes + ": writes wait for an election; one more loss stops them", Tight
	case l.Leader && l.Votes:
		return fmt.Sprintf("%s: writes wait for an election, then go on, and %d more may be lost", votes, l.Losses()), Fine
	case l.Store != "" && l.Leader:
		return fmt.Sprintf("%s %s its leader, and nobody can take over without %s: writes stop", l.Role, verb("has lost", "would lose"), l.Store), Stopped
	case l.Store != "":
		return fmt.Sprintf("%s goes on with %d of %d, as long as its guards reach each other; nobody can take over without %s", l.Role, l.Left, l.Of, l.Store), Tight
	case l.Leader && l.Leased && l.Losses() == 0:
		return fmt.Sprintf("%s %s its leader: another leads within seconds; one more loss stops writes", l.Role, verb("has lost", "would lose")), Tight
	case l.Leader && l.Leased:
		return fmt.Sprintf("%s %s its leader: another leads within seconds, and %d more may be lost", l.Role, verb("has lost", "would lose"), l.Losses()), Fine
	case l.Leased && l.Losses() == 0:
		return fmt.Sprintf("%s goes on with %d of %d; one more loss stops writes", l.Role, l.Left, l.Of), Tight
	case l.Leader && l.Floating != "" && l.Losses() == 0:
		return fmt.Sprintf("%s goes on with the last of %d; %s %s there within seconds", l.Role, l.Of, l.Floating, verb("moves", "would move")), Tight
	case l.Leader && l.Floating != "":
		return fmt.Sprintf("%s goes on with %d of %d; %s %s to another within seconds", l.Role, l.Left, l.Of, l.Floating, verb("moves", "would move")), Fine
	case l.Leader:
		return fmt.Sprintf("%s %s its leader: writes stop until another leads; %d of %d %s left", l.Role, verb("has lost", "would lose"), l.Left, l.Of, verb("are", "would be")), Tight
	case l.Votes && l.Losses() == 0:
		return votes + ": writes go on; one more loss stops them", Tight
	case l.Votes:
		return fmt.Sprintf("%s: writes go on, and %d more may be lost", votes, l.Losses()), Fine
	case l.Losses() == 0:
		return fmt.Sprintf("%s goes on with the last of %d", l.Role, l.Of), Tight
	}
	return fmt.Sprintf("%s goes on with %d of %d", l.Role, l.Left, l.Of), Fine
}

// Sentence words the loss, the worst first.
func (l Loss) Sentence() string {
	if len(l.Dark) == 0 {
		return "Nothing stands here that could go dark."
	}
	parts := []string{counted(len(l.Dark), "lantern") + " would go dark"}
	for _, r := range l.Roles {
		words, _ := r.Words(true)
		parts = append(parts, words)
	}
	if len(l.Roles) == 0 {
		parts = append(parts, "nothing would be missed")
	}
	return strings.Join(parts, " · ")
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Case is a fault with what it leads to.
type Case struct {
	Faults []Fault
	Loss   Loss
}

// Stops names the roles that would stop, those that stop by themselves first.
func (l Loss) Stops() string {
	var names []string
	for _, r := range l.Roles {
		if rank(r) <= 2 && !r.Already {
			names = append(names, string(r.Role))
		}
	}
	return strings.Join(names, ", ")
}

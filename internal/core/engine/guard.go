package engine

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/quorum"
)

// guardNodes refuses a draft that wants a node back which is being given up: what would be placed there would end with it.
func (s *State) guardNodes(draft *field.Field) error {
	if s.Retired {
		return nil
	}
	for _, n := range draft.Nodes {
		if bound, given := s.Nodes[n.Name], draft.Given(&n); bound != nil && !bound.Released && given != "" && given != bound.Address {
			return fmt.Errorf("%s has had the address %s since it was deployed, and the draft gives it %s: an address cannot change under those who know it; "+
				"deploy without the node first, or give it another name; nothing has been changed", n.Name, bound.Address, given)
		}
		if bound := s.Nodes[n.Name]; bound != nil && bound.Releasing && !bound.Released {
			why := ""
			if bound.Dark {
				why = ", and it cannot be reached"
			}
			return fmt.Errorf("%s is being given up and is not free yet%s; deploy without it, or wait until it is free; nothing has been changed", n.Name, why)
		}
	}
	return nil
}

// guard refuses a draft that cannot be deployed, or not now.
func (s *State) guard(draft *field.Field) error {
	return errors.Join(s.guardNodes(draft), s.guardMoves(draft), s.guardPorts(draft), s.guardVotes(draft))
}

// guardMoves refuses a draft under which a member may not stay where it is and fits nowhere else.
func (s *State) guardMoves(draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	p := plan.Make(draft, s.live())
	for _, u := range p.Unplaced {
		for _, x := range p.Removes {
			if x.Moves && x.Role == u.Role {
				return fmt.Errorf("%s may not stay on %s (%s) and fits nowhere else: %s; make room, or lower the members of %s; nothing has been changed",
					x.Member, x.Node, x.Why, u.Why, x.Role)
			}
		}
	}
	return nil
}

// guardPorts refuses a draft that gives running members a further port out of a range: such ports are given as a member is
// placed.
func (s *State) guardPorts(draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	for i := range draft.Roles {
		r := &draft.Roles[i]
		if r.Program == nil {
			continue
		}
		for _, m := range s.of(r.Name) {
			for _, name := range r.Program.PortNames() {
				if p := r.Program.Ports[name]; !m.Leaving && p.Port == 0 && (m.Ports[name] < p.From || m.Ports[name] > p.To) {
					return fmt.Errorf("%s has no number for its port %s between %d and %d: numbers of a range are given when a member is placed. "+
						"Give the port one number, or have the members of %s replaced; nothing has been changed", m.Name, name, p.From, p.To, r.Name)
				}
			}
		}
	}
	return nil
}

// guardVotes refuses a draft that changes who votes in a cluster where that cannot be done safely, or not now. It says
// what stands in the way and what to do.
func (s *State) guardVotes(draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	p := plan.Make(draft, s.live())
	adds, removes := map[field.RoleName]int{}, map[field.RoleName]map[field.MemberName]bool{}
	for _, a := range p.Adds {
		adds[a.Role]++
	}
	for _, x := range p.Removes {
		if removes[x.Role] == nil {
			removes[x.Role] = map[field.MemberName]bool{}
		}
		removes[x.Role][x.Member] = true
	}
	for _, now := range s.Field.Roles {
		if r := s.Roles[now.Name]; !now.Votes || r == nil || !r.Founded || adds[now.Name]+len(removes[now.Name]) == 0 {
			continue
		}
		if err := s.guardRole(draft, &now, adds[now.Name], removes[now.Name]); err != nil {
			return fmt.Errorf("%w; nothing has been changed", err)
		}
	}
	return nil
}

func (s *State) guardRole(draft *field.Field, now *field.Role, adds int, removes map[field.MemberName]bool) error {
	next := draft.Role(now.Name)
	if next == nil || next.Members == 0 {
		return guardDependants(draft, now)
	}
	members, r := s.of(now.Name), s.Roles[now.Name]
	switch {
	case adds > 0 && len(next.Program.Join) == 0 && (next.Start == field.Together || procedural(next)):
		return fmt.Errorf("the members of %s vote, and its program says no way to join a cluster that has been founded (join), so %d cannot become %d",
			now.Name, now.Members, next.Members)
	case len(removes) > 0 && len(next.Program.Leave) == 0:
		return fmt.Errorf("the members of %s vote, and its program says no way to leave (leave): whoever merely ended would be counted as a "+
			"lost vote for good, so %d cannot become %d", now.Name, now.Members, next.Members)
	}
	if busy := s.busy(now, members); busy != "" {
		return fmt.Errorf("the members of %s are being changed already (%s); wait for that (`lanternfield status --wait converged`), then ask again",
			now.Name, busy)
	}
	if err := s.guardRoster(now, next, r, members, removes); err != nil {
		return err
	}
	c := s.cluster(now, members)
	voters, healthy := c.Votes()
	if !slices.ContainsFunc(members, func(m *Member) bool { return !m.ReadyAt.IsZero() }) {
		return fmt.Errorf("%s has not come up yet, so nobody can be added or removed; wait for it, mend what keeps it (`lanternfield status` "+
			"tells), or retire it and deploy anew", now.Name)
	}
	if healthy < quorum.Needed(voters) {
		return fmt.Errorf("%s has %d of %d votes, as far as is known, and needs %d to agree on anything, so nobody can be added or removed; bring back %s first",
			now.Name, healthy, voters, quorum.Needed(voters), s.darkVoters(c))
	}
	staying := 0
	for _, m := range c.Members {
		if m.Seat == membership.Voter && m.Healthy && !removes[m.Name] {
			staying++
		}
	}
	if staying+adds < quorum.Needed(next.Members) {
		return fmt.Errorf("of the %d of %s that would be left only %d work, and %d votes are needed; bring back %s first",
			next.Members, now.Name, staying, quorum.Needed(next.Members), s.darkVoters(c))
	}
	if adds == 0 {
		return nil
	}
	for _, m := range c.Members {
		if m.Seat == membership.Voter && !m.Healthy && !removes[m.Name] {
			return s.waitOrReplace(now, s.Members[m.Name], voters, healthy)
		}
	}
	return nil
}

// guardDependants refuses to end a cluster that others live by.
func guardDependants(draft *field.Field, now *field.Role) error {
	for i := range draft.Roles {
		r := &draft.Roles[i]
		if _, needs := draft.Needs(r)[now.Name]; needs && r.Members > 0 {
			return fmt.Errorf("%s waits for %s, and could never start again without it; scale %s to 0 as well, or keep at least 1 of %s",
				r.Name, now.Name, r.Name, now.Name)
		}
	}
	return nil
}

// busy words the change of a cluster's membership that is under way and gets on; "" when there is none, or when it does
// not get on, so that somebody has to be able to step in.
func (s *State) busy(role *field.Role, members []*Member) string {
	r := s.Roles[role.Name]
	text := ""
	for _, m := range members {
		switch {
		case m.Trouble != "", !m.Joined && (m.Phase == Failed || s.PhaseOf(m) == Unknown):
			return ""
		case text != "":
		case m.Leaving:
			text = fmt.Sprintf("%s leaves", m.Name)
		case !m.Halted && !m.Founding && s.seat(role, m) != membership.Voter && !s.takenOff(m):
			text = fmt.Sprintf("%s joins", m.Name)
		}
	}
	if r.Waits.Blocked {
		return ""
	}
	return text
}

// guardRoster refuses to build upon a list of members that is not as we left it: somebody else has changed it, and only a
// person can know whether that was meant.
func (s *State) guardRoster(role, next *field.Role, r *Role, members []*Member, removes map[field.MemberName]bool) error {
	if len(r.Roster) == 0 || next.Program.Roster == nil {
		return nil
	}
	if strangers := s.strangers(role.Name, members); len(strangers) > 0 {
		return fmt.Errorf("%s lists %s as a member, which Lantern Field did not put there; if nobody needs it, take it off by hand with "+
			"the program's own tools, then ask again", role.Name, entryNames(strangers))
	}
	for _, m := range members {
		if s.takenOff(m) && !removes[m.Name] {
			return fmt.Errorf("%s does not list %s any more: somebody has taken it off by hand; add it again by hand, or scale %s in by one, "+
				"which removes it, and then ask again", role.Name, m.Name, role.Name)
		}
	}
	return nil
}

func entryNames(entries []order.RosterEntry) string {
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name
		if e.Name == "" {
			names[i] = "a member without a name"
		}
		if e.ID != "" && e.ID != e.Name {
			names[i] += " (" + e.ID + ")"
		}
	}
	return strings.Join(names, ", ")
}

func (s *State) darkVoters(c *membership.Cluster) string {
	var names []string
	for _, m := range c.Members {
		if m.Seat == membership.Voter && !m.Healthy {
			name := string(m.Name)
			if n := s.Nodes[s.Members[m.Name].Node]; n != nil && n.Dark {
				name += fmt.Sprintf(" (%s cannot be reached)", n.Name)
			}
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return "the votes that are missing"
	}
	return strings.Join(names, ", ")
}

// waitOrReplace says which is safer while a voter is dark.
func (s *State) waitOrReplace(role *field.Role, m *Member, voters, healthy int) error {
	text := fmt.Sprintf("%s is dark", m.Name)
	if why := s.whyDark(m); why != "" {
		text += fmt.Sprintf(" (%s)", why)
	}
	spare := quorum.Survives(voters, healthy)
	text += fmt.Sprintf(", so %s survives %d more %s; a further voter would only raise the votes it needs", role.Name, spare, plural(spare, "loss", "losses"))
	if n := s.Nodes[m.Node]; n != nil && n.Dark {
		return fmt.Errorf("%s. Replacing it is safer than waiting if %s does not come back: take %s out of the nodes and deploy, and a new member "+
			"takes its place. Then scale", text, m.Node, m.Node)
	}
	if m.Halted {
		return fmt.Errorf("%s. Start it first (`lanternfield start %s`)", text, m.Name)
	}
	return fmt.Errorf("%s. Waiting is safer: its data is there, and its agent starts it again by itself. Scale when it is lit", text)
}

func (s *State) whyDark(m *Member) string {
	if n := s.Nodes[m.Node]; n != nil && n.Dark {
		return fmt.Sprintf("%s cannot be reached: %s", m.Node, n.DarkWhy)
	}
	if m.Halted {
		return "stopped on purpose"
	}
	return m.Why
}

// troubled are the members whose procedures came to nothing.
func (s *State) troubled() []field.MemberName {
	var names []field.MemberName
	for _, name := range slices.Sorted(maps.Keys(s.Members)) {
		if m := s.Members[name]; m.Phase != Gone && m.Trouble != "" {
			names = append(names, name)
		}
	}
	return names
}

// Package guard says what a draft may not do to a field as it is now: take a node back that is being given up, move a member that fits
// nowhere else, change who votes where that is not safe.
package guard

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// guardNodes refuses a draft that wants a node back which is being given up: what would be placed there would end with it.
func guardNodes(s *state.State, draft *field.Field) error {
	if s.Retired {
		return nil
	}
	for _, n := range draft.Nodes {
		if bound, given := s.Nodes[n.Name], draft.Given(&n); bound != nil && !bound.Released && bound.There() && given != "" && given != bound.Address {
			return fmt.Errorf("%s has had the address %s since it was deployed, and the draft gives it %s: an address cannot change under those who know it; "+
				"deploy without the node first, or give it another name; nothing has been changed", n.Name, bound.Address, given)
		}
		if bound, wanted := s.Nodes[n.Name], draft.GroundOf(&n); bound != nil && !bound.Released && !bound.Releasing && bound.Kind != "" && bound.Kind != wanted {
			return fmt.Errorf("%s comes from the %s ground, and the draft has it come from the %s ground: deploy without the node first, or give it another name; nothing has been changed",
				n.Name, bound.Kind, wanted)
		}
		if bound := s.Nodes[n.Name]; bound != nil && bound.Releasing && !bound.Released {
			why := ""
			if bound.Unreachable {
				why = ", and it cannot be reached"
			}
			return fmt.Errorf("%s is being given up and is not free yet%s; deploy without it, or wait until it is free; nothing has been changed", n.Name, why)
		}
	}
	return nil
}

// Check refuses a draft that cannot be deployed, or not now.
func Check(s *state.State, r *resolve.Resolved) error {
	return errors.Join(guardNodes(s, r.Field), guardMoves(s, r), guardPorts(s, r.Field), guardTLS(s, r.Field), guardLeases(s, r.Field), guardGrants(s, r.Field), guardVotes(s, r))
}

// guardMoves refuses a draft under which a member may not stay where it is and fits nowhere else.
func guardMoves(s *state.State, r *resolve.Resolved) error {
	if !s.Deployed() {
		return nil
	}
	p := r.Plan
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
func guardPorts(s *state.State, draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	for i := range draft.Roles {
		r := &draft.Roles[i]
		if r.Program == nil {
			continue
		}
		for _, m := range s.MembersOf(r.Name) {
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
func guardVotes(s *state.State, resolved *resolve.Resolved) error {
	if !s.Deployed() {
		return nil
	}
	p := resolved.Plan
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
		if err := guardRole(s, resolved.Field, &now, adds[now.Name], removes[now.Name]); err != nil {
			return fmt.Errorf("%w; nothing has been changed", err)
		}
	}
	return nil
}

func guardRole(s *state.State, draft *field.Field, now *field.Role, adds int, removes map[field.MemberName]bool) error {
	next := draft.Role(now.Name)
	if next == nil || next.Members == 0 {
		return guardDependants(draft, now)
	}
	members, r := s.MembersOf(now.Name), s.Roles[now.Name]
	switch {
	case adds > 0 && len(next.Program.Join) == 0 && (next.Start == field.Together || state.Procedural(next)):
		return fmt.Errorf("the members of %s vote, and its program says no way to join a cluster that has been founded (join), so %d cannot become %d",
			now.Name, now.Members, next.Members)
	case len(removes) > 0 && len(next.Program.Leave) == 0:
		return fmt.Errorf("the members of %s vote, and its program says no way to leave (leave): whoever merely ended would be counted as a "+
			"lost vote for good, so %d cannot become %d", now.Name, now.Members, next.Members)
	}
	if busy := busy(s, now, members); busy != "" {
		return fmt.Errorf("the members of %s are being changed already (%s); wait until that is done, then ask again",
			now.Name, busy)
	}
	if err := guardRoster(s, now, next, r, members, removes); err != nil {
		return err
	}
	c := s.Cluster(now, members)
	voters, healthy := c.Votes()
	if !slices.ContainsFunc(members, func(m *state.Member) bool { return !m.ReadyAt.IsZero() }) {
		return fmt.Errorf("%s has not come up yet, so nobody can be added or removed; wait for it, mend what keeps it, or "+
			"retire it and deploy anew", now.Name)
	}
	if healthy < quorum.Needed(voters) {
		return fmt.Errorf("%s has %d of %d votes, as far as is known, and needs %d to agree on anything, so nobody can be added or removed; bring back %s first",
			now.Name, healthy, voters, quorum.Needed(voters), darkVoters(s, c))
	}
	staying := 0
	for _, m := range c.Members {
		if m.Seat == membership.Voter && m.Healthy && !removes[m.Name] {
			staying++
		}
	}
	if staying+adds < quorum.Needed(next.Members) {
		return fmt.Errorf("of the %d of %s that would be left only %d work, and %d votes are needed; bring back %s first",
			next.Members, now.Name, staying, quorum.Needed(next.Members), darkVoters(s, c))
	}
	if adds == 0 {
		return nil
	}
	for _, m := range c.Members {
		if m.Seat == membership.Voter && !m.Healthy && !removes[m.Name] {
			return waitOrReplace(s, now, s.Members[m.Name], voters, healthy)
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

// guardGrants refuses a draft without a role that other fields are handed over.
func guardGrants(s *state.State, draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	for _, g := range s.GrantsOf("") {
		if r := draft.Role(g.Role); (r == nil || r.Members == 0 || r.External != nil) && s.Field.Role(g.Role) != nil {
			return fmt.Errorf("%s is called by another field, %s (its %s), and the draft has no members of it; take it out of that field first, or take it back: "+
				"`lanternfield access %s --take-back %s`; nothing has been changed", g.Role, g.By, g.From, g.Role, g.By)
		}
	}
	return nil
}

// busy words the change of a cluster's membership that is under way and gets on; "" when there is none, or when it does
// not get on, so that somebody has to be able to step in.
func busy(s *state.State, role *field.Role, members []*state.Member) string {
	r := s.Roles[role.Name]
	text := ""
	for _, m := range members {
		switch {
		case m.Trouble != "", !m.Joined && (m.Phase == state.Failed || s.PhaseOf(m) == state.Unknown):
			return ""
		case text != "":
		case m.Leaving:
			text = fmt.Sprintf("%s leaves", m.Name)
		case !m.Halted && !m.Founding && s.IsThere(m) && s.Seat(role, m) != membership.Voter && !s.TakenOff(m): // without its node nothing of it has begun
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
func guardRoster(s *state.State, role, next *field.Role, r *state.Role, members []*state.Member, removes map[field.MemberName]bool) error {
	if len(r.Roster) == 0 || next.Program.Roster == nil {
		return nil
	}
	if strangers := s.Strangers(role.Name, members); len(strangers) > 0 {
		return fmt.Errorf("%s lists %s as a member, which Lantern Field did not put there; if nobody needs it, take it off by hand with "+
			"the program's own tools, then ask again", role.Name, state.EntryNames(strangers))
	}
	for _, m := range members {
		if s.TakenOff(m) && !removes[m.Name] {
			return fmt.Errorf("%s does not list %s any more: somebody has taken it off by hand; add it again by hand, or scale %s in by one, "+
				"which removes it, and then ask again", role.Name, m.Name, role.Name)
		}
	}
	return nil
}

func darkVoters(s *state.State, c *membership.Cluster) string {
	var names []string
	for _, m := range c.Members {
		if m.Seat == membership.Voter && !m.Healthy {
			name := string(m.Name)
			if n := s.Nodes[s.Members[m.Name].Node]; n != nil && n.Unreachable {
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
func waitOrReplace(s *state.State, role *field.Role, m *state.Member, voters, healthy int) error {
	text := fmt.Sprintf("%s is dark", m.Name)
	if why := whyDark(s, m); why != "" {
		text += fmt.Sprintf(" (%s)", why)
	}
	spare := quorum.Survives(voters, healthy)
	text += fmt.Sprintf(", so %s survives %d more %s; a further voter would only raise the votes it needs", role.Name, spare, wording.Plural(spare, "loss", "losses"))
	if n := s.Nodes[m.Node]; n != nil && n.Unreachable {
		return fmt.Errorf("%s. Replacing it is safer than waiting if %s does not come back: take %s out of the nodes and deploy, and a new member "+
			"takes its place. Then scale", text, m.Node, m.Node)
	}
	if m.Halted {
		return fmt.Errorf("%s. Start it first", text)
	}
	return fmt.Errorf("%s. Waiting is safer: its data is there, and its agent starts it again by itself. Scale when it is lit", text)
}

func whyDark(s *state.State, m *state.Member) string {
	if n := s.Nodes[m.Node]; n != nil && n.Unreachable {
		return fmt.Sprintf("%s cannot be reached: %s", m.Node, n.UnreachableWhy)
	}
	if m.Halted {
		return "stopped on purpose"
	}
	return m.Why
}

package snapshot

import (
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/whatif"
)

// Scene is whom a failure would find: those that run, or, before anything runs, those of the draft.
func (snap *Snapshot) Scene() *whatif.Scene {
	draft := snap.State == Draft || snap.State == Retired
	s := &whatif.Scene{}
	rosters, outside := map[field.RoleName]bool{}, map[field.RoleName]bool{}
	for _, r := range snap.Roles {
		s.Roles = append(s.Roles, whatif.Role{Name: r.Role, Votes: r.Votes, Calls: r.Needs(), Confirms: r.Confirms, Store: r.Store, Floating: r.Floating})
		rosters[r.Role], outside[r.Role] = len(r.Roster) > 0, r.IsOutside()
	}
	zones := map[field.NodeName]field.ZoneName{}
	for _, n := range snap.Nodes {
		zones[n.Node] = n.Zone
	}
	for _, m := range snap.Members {
		if outside[m.Role] {
			m.Node = "" // it holds no more than who watches it
		}
		s.Members = append(s.Members, whatif.Member{Name: m.Member, Role: m.Role, Node: m.Node, Zone: zones[m.Node], Works: draft || m.Phase == state.Ready, Leads: m.Leads,
			Votes: !rosters[m.Role] || m.Seat == "voter"})
	}
	return s
}

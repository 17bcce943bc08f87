package finding

import (
	"fmt"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// leaderless looks for roles in which one leads and nobody votes: what its loss means is easily taken too lightly.
func leaderless(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Votes || r.Members < 2 || r.Program == nil || r.Program.Leader == nil {
			continue
		}
		if r.Guarded() {
			found = append(found, leased(&r)...)
			continue
		}
		found = append(found, Finding{Severity: Hint, What: "leader without votes", Path: rolePath(r.Name), Role: r.Name,
			Text: fmt.Sprintf("one of %s leads and its members do not vote: when the leader is lost, writes stop until another leads, however many are left", r.Name),
			Mend: "know what makes another lead, by itself or by hand, and accept this with that as the reason; or say votes: true if its members elect who leads"})
	}
	return found
}

func evenVoters(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if !r.Votes || r.Members == 0 || r.Members%2 == 1 {
			continue
		}
		n := quorum.Tolerates(r.Members)
		text := fmt.Sprintf("%s has %d voters, which survive %d %s, no more than %d would", r.Name, r.Members, n, losses(n), r.Members-1)
		found = append(found, Finding{Severity: Risk, What: "even number of voters", Path: rolePath(r.Name, "members"), Role: r.Name, Text: text,
			Mend: fmt.Sprintf("set members to %d, which survive %d %s, or to %d", r.Members+1, quorum.Tolerates(r.Members+1),
				losses(quorum.Tolerates(r.Members+1)), r.Members-1),
			Edits: append(d.members(r.Name, r.Members+1), d.members(r.Name, r.Members-1)...)})
	}
	return found
}

func losses(n int) string {
	if n == 1 {
		return "loss"
	}
	return "losses"
}

func votersInOneZone(d *draft) []Finding {
	var found []Finding
	zones := d.Zones()
	for _, r := range d.Roles {
		if !r.Votes || r.Members < 2 || len(zones) < 2 {
			continue
		}
		per := map[field.ZoneName]int{}
		for _, a := range d.plan.Adds {
			if a.Role == r.Name {
				per[d.nodes[a.Node].Zone]++
			}
		}
		for _, z := range zones {
			if left := r.Members - per[z]; left < quorum.Needed(r.Members) && r.Members >= 3 {
				found = append(found, Finding{Severity: Risk, What: "a majority of voters in one zone", Path: rolePath(r.Name), Role: r.Name,
					Text: fmt.Sprintf("%d of the %d voters of %s sit in zone %s: if that zone fails, %d are left of the %d needed and writes stop",
						per[z], r.Members, r.Name, z, left, quorum.Needed(r.Members)),
					Mend:  d.apartFrom(&r, 3),
					Edits: d.loosen(&r)})
			}
		}
	}
	return found
}

// apartFrom says how a role comes to stand in so many zones, by what is not so yet.
func (d *draft) apartFrom(r *field.Role, zones int) string {
	there := map[field.ZoneName]bool{}
	for _, n := range d.site.Eligible(r) {
		there[n.Zone] = true
	}
	var ways []string
	if len(d.Place[r.Name]) > 0 {
		ways = append(ways, "change its pins under place")
	}
	if r.Spread != field.SpreadZone && len(there) >= zones {
		ways = append(ways, "say spread: zone")
	}
	if len(there) < zones {
		where := ""
		if r.Where != "" && len(d.Zones()) > len(there) {
			where = ", or widen its where"
		}
		ways = append(ways, fmt.Sprintf("give it nodes in %s (those that may hold it are in %d)%s", counted(zones, "zone"), len(there), where))
	}
	if len(ways) == 0 {
		ways = append(ways, "make room on the nodes of the other zones")
	}
	return strings.Join(ways, ", or ")
}

// loosen takes the pins off a role, or lets it spread over zones.
func (d *draft) loosen(r *field.Role) []Edit {
	if len(d.Place[r.Name]) > 0 {
		c := arrange.Of(d.Field, r.Name)
		c.Pins = nil
		if r.Spread != field.SpreadZone {
			c.Spread = field.SpreadZone
		}
		return []Edit{{Text: fmt.Sprintf("take the pins off %s, so that it spreads by itself", r.Name), Change: &c}}
	}
	if r.Spread != field.SpreadZone && len(d.Zones()) >= 3 {
		return d.spread(r.Name, field.SpreadZone)
	}
	return nil
}

func spreadImpossible(d *draft) []Finding {
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		if r.Members < 2 || r.Spread == field.SpreadNone {
			continue
		}
		nodes := d.site.Eligible(r)
		other := field.SpreadNode // what it can spread over, where not over zones
		if len(nodes) < r.Members {
			other = field.SpreadNone
		}
		zones := map[field.ZoneName]bool{}
		for _, n := range nodes {
			zones[n.Zone] = true
		}
		switch {
		case len(nodes) == 0:
		case r.Spread == field.SpreadNode && len(nodes) < r.Members:
			found = append(found, Finding{Severity: Risk, What: "spread impossible", Path: rolePath(r.Name, "spread"), Role: r.Name,
				Text: fmt.Sprintf("%s has %d members to be spread over nodes, and only %d %s may hold them: some node holds two",
					r.Name, r.Members, len(nodes), nodesWord(len(nodes))),
				Mend:  "add nodes, lower members, or say spread: none",
				Edits: append(d.members(r.Name, len(nodes)), d.spread(r.Name, field.SpreadNone)...)})
		case r.Spread == field.SpreadZone && len(zones) < 2 && len(d.Zones()) > 1:
			found = append(found, Finding{Severity: Risk, What: "spread impossible", Path: rolePath(r.Name, "where"), Role: r.Name,
				Text: fmt.Sprintf("%s is to be spread over zones, but all nodes that may hold it are in one: if that zone fails, all of it fails", r.Name),
				Mend: d.apartFrom(r, 2) + ", or say spread: " + string(other), Edits: d.spread(r.Name, other)})
		case r.Votes && r.Members >= 3 && len(d.Zones()) == 1 && r.Spread == field.SpreadZone:
			found = append(found, Finding{Severity: Hint, What: "spread impossible", Path: rolePath(r.Name, "spread"), Role: r.Name,
				Text: fmt.Sprintf("%s is to be spread over zones, and the field has one zone: nothing survives the loss of that zone", r.Name),
				Mend: "name the zones of the nodes, or say spread: node", Edits: d.spread(r.Name, other)})
		}
	}
	return found
}

// leased looks for what keeps a lease from doing what it is for.
func leased(r *field.Role) (found []Finding) {
	if r.Lease.Paused {
		found = append(found, Finding{Severity: Hint, What: "taking over is paused", Path: append(rolePath(r.Name), "lease", "paused"), Role: r.Name,
			Text: fmt.Sprintf("taking over in %s is paused: when its leader is lost, writes stop until that one is back", r.Name),
			Mend: "take paused: true away"})
	}
	if r.Members == 2 {
		found = append(found, Finding{Severity: Risk, What: "lease without a spare", Path: rolePath(r.Name), Role: r.Name,
			Text: fmt.Sprintf("%s has two members, and every write is confirmed by both: when one is lost, writes wait until it is back, whoever leads", r.Name),
			Mend: "set members to 3"})
	}
	return found
}

package finding

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/setting"
)

// AnyService is what a kit wants where whoever is called will do.
const AnyService = "any"

// Provides tells whether a role is what a kit wants under one of its calls.
func Provides(r *field.Role, service string) bool {
	return service == AnyService || len(r.Provides) == 0 && r.Kit == "" || slices.Contains(r.Provides, service)
}

// Offers lists the roles that a call of a role may be wired to.
func Offers(f *field.Field, r *field.Role, call string) []field.RoleName {
	service, known := r.Wants[call]
	var names []field.RoleName
	for i := range f.Roles {
		if other := &f.Roles[i]; other != r && (!known || Provides(other, service)) {
			names = append(names, other.Name)
		}
	}
	return names
}

// wiring looks for calls that a kit makes and nobody has wired, and for those wired to somebody who is something else.
func wiring(d *draft) []Finding {
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		for _, call := range slices.Sorted(maps.Keys(r.Wants)) {
			target, calls := r.Calls[call]
			if !calls {
				target = r.Knows[call]
			}
			offers := Offers(d.Field, r, call)
			var edits []Edit
			for _, o := range offers {
				key := "calls"
				if _, knows := r.Knows[call]; knows {
					key = "knows"
				}
				if o != target && (d.Role(o).Provides != nil || len(offers) == 1) {
					edits = append(edits, put(fmt.Sprintf("let %s call %s as %s", r.Name, o, call), arrange.OfRole(r.Name, string(o), key, call)))
				}
			}
			service := r.Wants[call]
			switch t := d.Role(target); {
			case target == "":
				found = append(found, Finding{Severity: Error, What: "call not wired", Path: rolePath(r.Name), Role: r.Name, Edits: edits,
					Text: fmt.Sprintf("%s calls a %s that is not named under calls, so that its members could not be told where it is", r.Name, call),
					Mend: fmt.Sprintf("name a role that provides %s: calls: {%s: ROLE}", service, call)})
			case t != nil && !Provides(t, service):
				found = append(found, Finding{Severity: Risk, What: "call does not fit", Path: rolePath(r.Name), Role: r.Name, Edits: edits,
					Text: fmt.Sprintf("%s calls %s as its %s and wants %s of it; %s provides %s", r.Name, target, call, service, target, orNothing(t.Provides)),
					Mend: "name a role that provides " + service})
			}
		}
	}
	return found
}

func orNothing(words []string) string {
	if len(words) == 0 {
		return "nothing that it says"
	}
	return strings.Join(words, ", ")
}

// nobodyToCall looks for roles that call a role without members.
func nobodyToCall(d *draft) []Finding {
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		if r.Members == 0 {
			continue
		}
		needs := d.Needs(r)
		for _, on := range slices.Sorted(maps.Keys(needs)) {
			if t := d.Role(on); t != nil && t.Members == 0 {
				found = append(found, Finding{Severity: Risk, What: "nobody to call", Path: rolePath(r.Name), Role: r.Name,
					Text: fmt.Sprintf("%s waits for %s, which has no members, and so could never start", r.Name, on),
					Mend: fmt.Sprintf("give %s members, or %s none", on, r.Name), Edits: append(d.members(on, fewest(t)), d.members(r.Name, 0)...)})
			}
		}
	}
	return found
}

func fewest(r *field.Role) int {
	if r.Votes {
		return 3
	}
	return 1
}

var onlyFirst = regexp.MustCompile(`index\s*\(\s*\.Calls\s+"([^"]+)"\s*\)\s*0`)

// firstAddress looks for programs that are told no more than the first member of those that they call.
func firstAddress(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Program == nil {
			continue
		}
		texts := slices.Clone(r.Program.Command)
		for _, f := range r.Program.Files {
			texts = append(texts, f.Template)
		}
		for _, e := range r.Program.Env {
			texts = append(texts, string(e))
		}
		for _, text := range texts {
			m := onlyFirst.FindStringSubmatch(text)
			if m == nil || strings.Contains(text, "range") {
				continue
			}
			target := d.Role(r.Calls[m[1]])
			if target == nil || target.Members < 2 {
				continue
			}
			found = append(found, Finding{Severity: Risk, What: "only the first address", Path: rolePath(r.Name, "program"), Role: r.Name,
				Text: fmt.Sprintf("%s is told the address of the first member of %s only: when that one is dark it reaches nobody, though the others work", r.Name, target.Name),
				Mend: fmt.Sprintf("hand over all of them: {{range .Calls %q}}…{{end}}", m[1])})
		}
	}
	return found
}

// unprobed looks for programs that others wait for and of which nobody asks whether they are ready. One with a port is at
// least connected to.
func unprobed(d *draft) []Finding {
	var found []Finding
	waits := map[field.RoleName]field.RoleName{}
	for i := range d.Roles {
		for on := range d.Needs(&d.Roles[i]) {
			if waits[on] == "" || d.Roles[i].Name < waits[on] {
				waits[on] = d.Roles[i].Name
			}
		}
	}
	for _, r := range d.Roles {
		if r.Program == nil || r.Program.Ready != nil || r.Program.Alive != nil || len(r.Program.Ports) > 0 || waits[r.Name] == "" {
			continue
		}
		found = append(found, Finding{Severity: Hint, What: "no probe", Path: rolePath(r.Name, "program"), Role: r.Name,
			Text: fmt.Sprintf("%s waits for %s, and nobody asks %s whether it is ready: it counts as lit as soon as it runs", waits[r.Name], r.Name, r.Name),
			Mend: "say by ready how it is asked, at least {exec: […]}"})
	}
	return found
}

// experimental looks for kits and settings that are not to be relied on yet.
func experimental(d *draft) []Finding {
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		if r.Experimental != "" {
			found = append(found, Finding{Severity: Risk, What: "experimental kit", Path: rolePath(r.Name, "kit"), Role: r.Name,
				Text: fmt.Sprintf("the kit %s of %s is experimental: %s", r.Kit, r.Name, r.Experimental), Mend: "use another kit, or accept it with a reason"})
		}
		for _, name := range slices.Sorted(maps.Keys(r.Settings)) {
			if o := r.Option(name); o != nil && o.Experimental != "" {
				found = append(found, Finding{Severity: Risk, What: "experimental setting", Path: rolePath(r.Name, "settings", name), Role: r.Name,
					Text: fmt.Sprintf("the setting %s of %s is experimental: %s", name, r.Name, o.Experimental), Mend: "take it out, or accept it with a reason",
					Edits: []Edit{put("take "+name+" out", arrange.OfRole(r.Name, "", "settings", name))}})
			}
		}
		found = append(found, badDerived(d, r)...)
	}
	return found
}

// badDerived looks for settings that cannot be worked out from a node.
func badDerived(d *draft, r *field.Role) []Finding {
	if len(r.Options) == 0 {
		return nil
	}
	for _, a := range d.plan.Adds {
		if a.Role != r.Name {
			continue
		}
		if _, err := setting.Of(d.Field, setting.Member{Name: a.Name, Role: r, Node: d.nodes[a.Node], Here: 1}); err != nil {
			return []Finding{{Severity: Error, What: "setting", Path: rolePath(r.Name), Role: r.Name, Text: err.Error(), Mend: "correct the kit"}}
		}
		break // the first will do: the expression is the same for all
	}
	return nil
}

// unknownLoad looks for a load profile that no kit knows.
func unknownLoad(d *draft) []Finding {
	if d.Load == "" {
		return nil
	}
	known := map[string]bool{}
	for _, r := range d.Roles {
		for _, o := range r.Options {
			for load := range o.Loads {
				known[load] = true
			}
		}
	}
	if known[d.Load] || len(known) == 0 {
		return nil
	}
	names := slices.Sorted(maps.Keys(known))
	mend := "there is " + strings.Join(names, ", ")
	var edits []Edit
	if near := field.Nearest(d.Load, names); near != "" {
		mend, edits = fmt.Sprintf("did you mean %s?", near), []Edit{put("set load to "+near, arrange.At(near, "load"))}
	}
	return []Finding{{Severity: Risk, What: "unknown load profile", Path: []string{"load"}, Edits: edits,
		Text: fmt.Sprintf("no kit knows a load profile %q, so that it changes nothing", d.Load), Mend: mend}}
}

// oneZone looks for roles whose members all stand in one zone though there are more.
func oneZone(d *draft) []Finding {
	var found []Finding
	if len(d.Zones()) < 2 {
		return nil
	}
	zones := map[field.RoleName]map[field.ZoneName][]field.MemberName{}
	for _, a := range d.plan.Adds {
		if zones[a.Role] == nil {
			zones[a.Role] = map[field.ZoneName][]field.MemberName{}
		}
		z := d.nodes[a.Node].Zone
		zones[a.Role][z] = append(zones[a.Role][z], a.Name)
	}
	for i := range d.Roles {
		r := &d.Roles[i]
		if len(zones[r.Name]) != 1 || r.Members < 2 || r.Votes || r.Each.Zone > 0 || len(d.site.Eligible(r)) == 0 {
			continue
		}
		eligible := map[field.ZoneName]bool{}
		for _, n := range d.site.Eligible(r) {
			eligible[n.Zone] = true
		}
		if len(eligible) < 2 && r.Spread == field.SpreadZone {
			continue // spreadImpossible says it
		}
		for zone, members := range zones[r.Name] {
			found = append(found, Finding{Severity: Risk, What: "all in one zone", Path: rolePath(r.Name), Role: r.Name, Members: members,
				Text: fmt.Sprintf("all %d members of %s stand in zone %s: if that zone fails, nobody is left to do its work", len(members), r.Name, zone),
				Mend: d.apartFrom(r, 2), Edits: d.loosen(r)})
		}
	}
	return found
}

// overCeiling looks for nodes that could not bear it if all their members took what they may.
func overCeiling(d *draft) []Finding {
	most := map[field.NodeName]field.Bytes{}
	on := map[field.NodeName][]place.Member{}
	if !slices.ContainsFunc(d.Roles, func(r field.Role) bool { return r.Ceiling.Memory > 0 }) {
		return nil
	}
	for _, a := range d.plan.Adds {
		r := d.Role(a.Role)
		most[a.Node] += max(r.Ceiling.Memory, r.Room.Memory)
		on[a.Node] = append(on[a.Node], a)
	}
	var over []field.NodeName
	for i := range d.Nodes {
		if n := &d.Nodes[i]; n.Has().Memory > 0 && most[n.Name] > n.Offered().Memory {
			over = append(over, n.Name)
		}
	}
	if len(over) == 0 {
		return nil
	}
	n := d.nodes[over[0]]
	var members []field.MemberName
	for _, name := range over {
		for _, m := range on[name] {
			if d.Role(m.Role).Ceiling.Memory > 0 {
				members = append(members, m.Name)
			}
		}
	}
	text := fmt.Sprintf("the members on %s may take %s of memory together, and it has %s for them", n.Name, most[n.Name], n.Offered().Memory)
	if len(over) > 1 {
		text += fmt.Sprintf("; so on %d more %s", len(over)-1, nodesWord(len(over)-1))
	}
	role := d.Role(on[n.Name][0].Role)
	for _, m := range on[n.Name] {
		if r := d.Role(m.Role); r.Ceiling.Memory-r.Room.Memory > role.Ceiling.Memory-role.Room.Memory {
			role = r
		}
	}
	return []Finding{{Severity: Risk, What: "ceilings beyond the node", Path: rolePath(role.Name, "ceiling"), Role: role.Name, Members: members,
		Text: text + ": the system would end one of them", Mend: "lower a ceiling, or spread the members",
		Edits: []Edit{put(fmt.Sprintf("let %s take no more than the %s kept for it", role.Name, role.Room.Memory), arrange.OfRole(role.Name, "", "ceiling", "memory"))}}}
}

// idleNodes looks for nodes that cost money and hold nobody.
func idleNodes(d *draft) []Finding {
	busy := map[field.NodeName]bool{}
	for _, a := range d.plan.Adds {
		busy[a.Node] = true
	}
	var idle []string
	price, first := 0.0, -1
	for i, n := range d.Nodes {
		if n.Price > 0 && !busy[n.Name] {
			if first < 0 {
				first = i
			}
			idle = append(idle, string(n.Name))
			price += n.Price
		}
	}
	if len(idle) == 0 || len(d.plan.Unplaced) > 0 {
		return nil
	}
	shown := strings.Join(idle[:min(3, len(idle))], ", ")
	if len(idle) > 3 {
		shown += fmt.Sprintf(" and %d more", len(idle)-3)
	}
	edits := []Edit(nil)
	if len(idle) == 1 && d.Nodes[first].Set == "" {
		edits = []Edit{put("give "+idle[0]+" up", arrange.At("", "nodes", idle[0]))}
	}
	return []Finding{{Severity: Hint, What: "idle nodes", Path: []string{"nodes", string(d.Nodes[first].Name), "price"}, Edits: edits,
		Text: fmt.Sprintf("%s would hold nobody and cost %.4g an hour", shown, price), Mend: "give them up, or let a role stand on them"}}
}

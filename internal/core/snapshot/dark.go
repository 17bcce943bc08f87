package snapshot

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// dark is why members are dark, with those for whom it is so.
type dark struct {
	word, why string // why is empty of those whose agents do not answer
	who       []string
	silent    map[field.NodeName]string // the nodes whose agents do not answer, each with what else is known of that
}

// darkMembers words up to two reasons for which members are dark, each with those that have it, and counts the other members.
func darkMembers(snap *Snapshot) []string {
	var parts []string
	var reasons []*dark
	for _, m := range snap.Members {
		if m.Trouble != "" {
			parts = append(parts, m.Trouble)
			continue
		}
		if m.Left || m.Phase != state.Failed && m.Phase != state.Unready && m.Phase != state.Unknown && (m.Phase != state.Placing || m.Why == "") {
			continue
		}
		word, why := map[state.Phase]string{state.Failed: "dark", state.Unready: "not ready", state.Unknown: "unknown"}[m.Phase], m.Why
		detail, silent := strings.CutPrefix(why, state.Silent)
		if silent = silent && m.Phase == state.Unknown; silent {
			why = ""
		}
		i := slices.IndexFunc(reasons, func(r *dark) bool { return r.word == word && r.why == why && silent == (r.silent != nil) })
		if i < 0 {
			i = len(reasons)
			reasons = append(reasons, &dark{word: word, why: why})
			if silent {
				reasons[i].silent = map[field.NodeName]string{}
			}
		}
		reasons[i].who = append(reasons[i].who, string(m.Member))
		if silent {
			reasons[i].silent[m.Node] = detail
		}
	}
	more := 0
	for i, r := range reasons {
		if i >= 2 {
			more += len(r.who)
			continue
		}
		parts = append(parts, r.words(snap))
	}
	if more > 0 {
		parts = append(parts, fmt.Sprintf("%d more %s dark", more, wording.Plural(more, "is", "are")))
	}
	return parts
}

func (r *dark) words(snap *Snapshot) string {
	who := wording.And(r.who)
	if r.word == "" {
		who += " cannot be placed"
	} else {
		who += " " + wording.Plural(len(r.who), "is", "are") + " " + r.word
	}
	switch {
	case r.silent != nil:
		return who + ": " + silence(snap, r.silent)
	case r.why != "":
		return who + ": " + r.why
	}
	return who
}

// silence words whose agents do not answer: those of whole zones by the zone.
func silence(snap *Snapshot, nodes map[field.NodeName]string) string {
	zones := map[field.ZoneName][2]int{} // how many of its nodes are silent, and how many there are
	for _, n := range snap.Nodes {
		if n.Asked || n.Freeing {
			continue // it is not there
		}
		of := zones[n.Zone]
		if of[1]++; n.Unreachable {
			of[0]++
		}
		zones[n.Zone] = of
	}
	var whole, single []string
	all := true
	for _, zone := range slices.Sorted(maps.Keys(zones)) {
		of := zones[zone]
		all = all && of[0] == of[1]
		if zone != "" && of[0] == of[1] && of[1] > 1 {
			whole = append(whole, string(zone))
		}
	}
	for _, n := range snap.Nodes {
		if _, silent := nodes[n.Node]; silent && !slices.Contains(whole, string(n.Zone)) {
			single = append(single, string(n.Node))
		}
	}
	switch {
	case all && len(zones) > 1:
		return "no agent of the field answers"
	case len(whole) == 0 && len(single) == 1:
		return "the agent of " + single[0] + " does not answer" + nodes[field.NodeName(single[0])]
	case len(whole) == 0:
		return "the agents of " + wording.And(single) + " do not answer"
	case len(single) == 0:
		return "no agent in " + wording.And(whole) + " answers"
	}
	return "no agent in " + wording.And(whole) + " answers, nor on " + wording.And(single)
}

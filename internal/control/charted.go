package control

import (
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/series/store"
)

// measure is a chart that is made of members: by which series, and which other one has what was worst.
type measure struct{ name, series, more, about, unit string }

// kinds are the charts of a role that are made of its members, in the order in which they stand.
var kinds = []measure{
	{"latency", "latency", "worst", "probe, middle and worst answer", "ms"},
	{"failed", "failed", "", "probes that failed", "share"},
	{"cpu", "cpu", "", "processor", "cores"},
	{"memory", "memory", "", "memory", "bytes"},
	{"written", "written", "", "written to disk", "bytes/s"},
	{"read", "read", "", "read from disk", "bytes/s"},
	{"received", "received", "", "received over TCP", "bytes/s"},
	{"sent", "sent", "", "sent over TCP", "bytes/s"},
	{"free", "free", "", "free on its disk", "bytes"},
	{"lag", "lag", "", "behind", ""},
}

// kindsOf are the charts of a role: those of all, and the measures that its program tells and its kit names.
func kindsOf(role *field.Role) []measure {
	all := slices.Clone(kinds)
	if role == nil || role.Program == nil || role.Program.Metrics == nil {
		return all
	}
	for _, name := range slices.Sorted(maps.Keys(role.Program.Metrics.Show)) {
		all = append(all, measure{name: name, series: "metric:" + name, about: string(role.Program.Metrics.Show[name]), unit: unitOf(name)})
	}
	return all
}

// unitOf is what a measure counts, as its name says by the custom of the trade.
func unitOf(name string) string {
	switch {
	case strings.HasSuffix(name, "_total"):
		return "/s"
	case strings.HasSuffix(name, "_bytes"), strings.HasSuffix(name, "_in_bytes"):
		return "bytes"
	case strings.HasSuffix(name, "_seconds"):
		return "s"
	}
	return ""
}

// bound notes what a role's members may not go beyond: their ceilings, and how far they may be behind.
func bound(charts []health.Chart, role *field.Role) {
	if role == nil {
		return
	}
	lag := 0.0
	if p := role.Program; p != nil && p.Lag != nil {
		lag, _, _ = p.Lag.Limit()
	}
	bounds := map[string]float64{"memory": float64(role.Ceiling.Memory), "cpu": role.Ceiling.CPU, "lag": lag}
	for i := range charts {
		charts[i].Bound = bounds[charts[i].Name]
	}
}

// roleCharts are what is counted of the role as a whole.
func roleCharts(s *store.Store, ask HealthAsked) []health.Chart {
	names := []string{"ready", "want", "survives", "leader", "starts"}
	keys := make([]string, len(names))
	for i, n := range names {
		keys[i] = roleKey(ask.Role, n)
	}
	all := map[string][]health.Part{}
	for i, buckets := range s.Summaries(keys, ask.From, ask.To, ask.Parts) {
		if parts, any := partsOf(buckets); any {
			all[names[i]] = parts
		}
	}
	var out []health.Chart
	add := func(name, about, unit string, shape health.Shape, lines ...health.Line) {
		if all[name] != nil {
			out = append(out, health.Chart{Name: name, About: about, Unit: unit, Shape: shape, Band: all[name], Lines: lines})
		}
	}
	add("ready", "ready, of those wanted", "members", health.Steps, health.Line{Of: "wanted", Parts: all["want"]})
	add("survives", "losses survived", "members", health.Steps)
	add("leader", "who led", "", health.Ribbon)
	for i := len(all["starts"]) - 1; i >= 0; i-- { // what counts is how many more there are than in the part before
		p := &all["starts"][i]
		p.Mid = max(0, p.High-before(all["starts"], i, p.Low))
		p.Low, p.High = p.Mid, p.Mid
	}
	add("starts", "processes started", "", health.Steps)
	return out
}

// before is the most of the newest part before one that has anything.
func before(parts []health.Part, i int, other float64) float64 {
	for j := i - 1; j >= 0; j-- {
		if parts[j].N > 0 {
			return parts[j].High
		}
	}
	return other
}

// memberCharts are what is measured of members, as bands.
func memberCharts(s *store.Store, ask HealthAsked, kinds []measure, members []field.MemberName) []health.Chart {
	var keys []string
	type place struct{ kind, member, more int }
	var places []place
	for k, kind := range kinds {
		for m, name := range members {
			keys, places = append(keys, memberKey(name, kind.series)), append(places, place{k, m, 0})
			if kind.more != "" {
				keys, places = append(keys, memberKey(name, kind.more)), append(places, place{k, m, 1})
			}
		}
	}
	lines, worst := map[int][]health.Line{}, map[int][]health.Line{}
	for i, buckets := range s.Summaries(keys, ask.From, ask.To, ask.Parts) {
		parts, any := partsOf(buckets)
		if !any {
			continue
		}
		p := places[i]
		line := health.Line{Of: string(members[p.member]), Parts: parts}
		if p.more == 1 {
			worst[p.kind] = append(worst[p.kind], line)
		} else {
			lines[p.kind] = append(lines[p.kind], line)
		}
	}
	var out []health.Chart
	for _, k := range slices.Sorted(maps.Keys(lines)) {
		kind := kinds[k]
		chart := health.Chart{Name: kind.name, About: kind.about, Unit: kind.unit, Shape: health.Curve, Band: health.Band(lines[k], ask.Parts)}
		if len(worst[k]) > 0 { // what was worst is the top of the band
			for i, p := range health.Band(worst[k], ask.Parts) {
				if p.N > 0 && p.High > chart.Band[i].High {
					chart.Band[i].High = p.High
				}
			}
		}
		if ask.Each == kind.name {
			chart.Lines = lines[k][:min(len(lines[k]), mostLines)]
		}
		out = append(out, chart)
	}
	return out
}

func partsOf(buckets []store.Bucket) (parts []health.Part, any bool) {
	parts = make([]health.Part, len(buckets))
	for i, b := range buckets {
		if b.N > 0 {
			parts[i], any = health.Part{N: b.N, Mid: b.Mean, Low: b.Min, High: b.Max}, true
		}
	}
	return parts, any
}

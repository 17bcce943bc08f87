package control

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/series/store"
)

// watched keeps what is measured of the field, as series on disk. Nothing is decided by it, and some of it may be lost.
type watched struct {
	store *store.Store
	cpu   map[field.MemberName]agentapi.Sample // the newest of each member, for what is counted from the start on
}

// How often series are written, and packed.
const (
	flushEvery = time.Minute
	tidyEvery  = 10 * time.Minute
	rolesEvery = 5 * time.Second
)

func (f Folder) series() string { return filepath.Join(f.Dir, "own", "series") }

// watching samples the roles, and writes what was measured, until the context ends.
func (c *Controller) watching(ctx context.Context) {
	s, err := store.Open(c.folder.series(), store.Limits{})
	if err != nil {
		slog.Warn("nothing of what is measured is kept", "error", err)
		return
	}
	c.mu.Lock()
	c.watched = &watched{store: s, cpu: map[field.MemberName]agentapi.Sample{}}
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		c.watched = nil
		c.mu.Unlock()
		if err := s.Close(); err != nil {
			slog.Warn("the newest of what was measured is lost", "error", err)
		}
	}()
	roles, flush, tidy := time.NewTicker(rolesEvery), time.NewTicker(flushEvery), time.NewTicker(tidyEvery)
	defer roles.Stop()
	defer flush.Stop()
	defer tidy.Stop()
	failing := false
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-roles.C:
			c.sampleRoles(s)
			continue
		case now := <-flush.C:
			err = s.Flush(now)
		case now := <-tidy.C:
			c.forgetGone(now)
			err = s.Tidy(now)
		}
		if err != nil && !failing {
			slog.Warn("what is measured cannot be kept", "error", err)
		}
		failing = err != nil
	}
}

// forgetGone lets go of what is known of members that were not heard of for a while.
func (c *Controller) forgetGone(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	maps.DeleteFunc(c.watched.cpu, func(_ field.MemberName, x agentapi.Sample) bool { return now.Sub(x.At) > time.Hour })
}

// sampleRoles notes how each role is.
func (c *Controller) sampleRoles(s *store.Store) {
	c.mu.Lock()
	snap := c.snapshot
	c.mu.Unlock()
	if snap.State == snapshot.Draft || snap.State == snapshot.Retired {
		return
	}
	now := time.Now()
	starts := map[field.RoleName]int{}
	numbers := map[field.MemberName]int{}
	for _, m := range snap.Members {
		starts[m.Role] += m.Incarnation
		numbers[m.Member] = m.Number
	}
	for _, r := range snap.Roles {
		put := func(name string, value float64) { s.Add(roleKey(r.Role, name), now, value) }
		put("ready", float64(r.Ready))
		put("want", float64(r.Want))
		put("starts", float64(starts[r.Role]))
		if r.Votes {
			put("survives", float64(r.Survives))
		}
		if r.Leader != "" || r.Led || r.LeaderTerm > 0 {
			put("leader", float64(numbers[r.Leader]))
		}
	}
}

func roleKey(r field.RoleName, name string) string     { return "role/" + string(r) + "/" + name }
func memberKey(m field.MemberName, name string) string { return "member/" + string(m) + "/" + name }

// keepSamples takes in what an agent has measured. Its clock may go otherwise than the one here: by that much.
func (c *Controller) keepSamples(all agentapi.Samples, ahead time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.watched
	if w == nil {
		return
	}
	for name, samples := range all.Of {
		for _, x := range samples {
			w.keep(name, x, x.At.Add(-ahead))
		}
	}
}

func (w *watched) keep(name field.MemberName, x agentapi.Sample, at time.Time) {
	put := func(what string, value float64) { w.store.Add(memberKey(name, what), at, value) }
	if x.Answers > 0 {
		put("latency", x.LatencyMS)
		put("worst", x.WorstMS)
	}
	if x.Answers+x.Failed > 0 {
		put("failed", float64(x.Failed)/float64(x.Answers+x.Failed))
	}
	if x.Memory > 0 {
		put("memory", float64(x.Memory))
	}
	if x.DiskFree > 0 {
		put("free", float64(x.DiskFree))
	}
	if g := x.Gauge; g != nil && g.Lag {
		put("lag", g.Value)
	}
	for metric, value := range x.Metrics {
		put("metric:"+metric, value)
	}
	before, known := w.cpu[name]
	if !known || x.CPU == 0 || x.CPU < before.CPU || x.At.Sub(before.At) > time.Minute { // another process, or a gap
		if x.CPU > 0 || !known {
			w.cpu[name] = x
		}
		return
	}
	if x.Usage == before.Usage {
		return // it was not looked at since
	}
	between := x.At.Sub(before.At)
	for what, counter := range map[string][2]float64{"cpu": {before.CPU.Seconds(), x.CPU.Seconds()}, "read": {float64(before.Read), float64(x.Read)}, "written": {float64(before.Written), float64(x.Written)}} {
		if rate, ok := health.Rate(counter[0], counter[1], between); ok {
			put(what, rate)
		}
	}
	w.cpu[name] = x
}

// HealthAsked says of which role what is measured is told, for which time, in how many parts.
type HealthAsked struct {
	Role  field.RoleName `json:"role"`
	From  time.Time      `json:"from"`
	To    time.Time      `json:"to"`
	Parts int            `json:"parts"`
	Each  string         `json:"each,omitempty"` // the name of a chart of which the lines of single members are told too
}

// mostParts bounds what is asked for, and mostLines how many members are told each alone.
const (
	mostParts = 2000
	mostLines = 24
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

// Health tells what was measured of a role over time.
func (c *Controller) Health(_ context.Context, ask HealthAsked) (*health.Told, error) {
	c.mu.Lock()
	w := c.watched
	members := ask.members(c.state)
	var role *field.Role
	if c.state.Field != nil {
		role = c.state.Field.Role(ask.Role)
	}
	marks := c.tide.since(ask.From)
	c.mu.Unlock()
	switch {
	case w == nil:
		return nil, fmt.Errorf("nothing of what is measured is kept here")
	case role == nil:
		return nil, fmt.Errorf("there is no role %q", ask.Role)
	}
	return ask.tell(w.store, role, members, marks)
}

// LookHealth tells what was measured of a role: by who keeps the field, else by what is on disk.
func LookHealth(ctx context.Context, f Folder, ask HealthAsked) (*health.Told, error) {
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if told, err := r.Health(ctx, ask); err == nil {
			return told, nil
		}
	}
	s, err := readState(f)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(f.series()); err != nil {
		return nil, fmt.Errorf("nothing of what is measured is kept here: %w", err)
	}
	var role *field.Role
	if s.Field != nil {
		role = s.Field.Role(ask.Role)
	}
	return ask.tell(store.OpenToRead(f.series(), store.Limits{}), role, ask.members(s), nil)
}

// members are those of the role that were there at some time of it.
func (ask HealthAsked) members(s *state.State) []field.MemberName {
	var members []field.MemberName
	for _, m := range state.EveryMember(s) {
		if m.Role == ask.Role && (m.Phase != state.Gone || m.Since.After(ask.From)) {
			members = append(members, m.Name)
		}
	}
	return members
}

func (ask HealthAsked) tell(s *store.Store, role *field.Role, members []field.MemberName, marks []Sample) (*health.Told, error) {
	switch {
	case !ask.To.After(ask.From), ask.Parts < 1, ask.Parts > mostParts:
		return nil, fmt.Errorf("from %s to %s in %d parts is no time that could be told", ask.From, ask.To, ask.Parts)
	}
	told := &health.Told{Role: string(ask.Role), From: ask.From, To: ask.To, Parts: ask.Parts, Bytes: s.Size(), Limit: store.Usual.Bytes}
	told.Charts = append(roleCharts(s, ask), memberCharts(s, ask, kindsOf(role), members)...)
	for _, x := range marks {
		if x.Mark != "" && !x.At.Before(ask.From) && x.At.Before(ask.To) {
			told.Marks = append(told.Marks, health.Mark{At: x.At, Text: x.Mark})
		}
	}
	for _, l := range s.Lost() {
		told.Lost = append(told.Lost, l.String())
	}
	return told, nil
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

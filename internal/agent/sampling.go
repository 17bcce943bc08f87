package agent

import (
	"context"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/agent/metrics"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// How often what is measured is summed up, in beats, and how many of such samples are kept: an hour of one every five seconds. Whoever keeps the field
// may be away for that long, and nothing is missing.
const (
	sampleBeats = 5
	mostSamples = 720
)

// sample sums up what was measured of the member since the last time.
func (m *member) sample(now time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	all := m.series.After(m.sampled)
	s := agentapi.Sample{At: now, Usage: m.measure.Usage, Gauge: m.measure.Gauge}
	var latencies []float64
	var last time.Time
	for _, p := range all {
		m.sampled = p.At
		x := p.Value
		if x.At.IsZero() || x.At.Equal(last) { // it was weighed, and not asked anew
			continue
		}
		if last = x.At; !x.OK {
			s.Failed++
			continue
		}
		latencies = append(latencies, x.LatencyMS)
	}
	if len(all) == 0 {
		return
	}
	if s.Answers = len(latencies); s.Answers > 0 {
		slices.Sort(latencies)
		s.LatencyMS, s.WorstMS = latencies[(len(latencies)-1)/2], latencies[len(latencies)-1]
	}
	if free, size, err := host.Disk(m.disk.data(m.name)); err == nil {
		s.DiskFree, s.DiskSize = free, size
	}
	s.Altered = m.altered
	s.Metrics, s.Trouble = m.told.values, m.told.trouble
	s.Unsent = m.unsent
	m.told = told{trouble: m.told.trouble} // each reading once
	m.samples.Add(now, s)
}

// told is what a program tells of itself.
type told struct {
	values  map[string]float64
	trouble string
}

// How often the measures that a program tells are read, and how long that may take.
const (
	metricsPace = 15 * time.Second
	metricsWait = 5 * time.Second
)

// watchMetrics reads what the program tells of itself, again and again.
func (m *member) watchMetrics(ctx context.Context, spec *order.Spec, ask *asker) {
	var follows metrics.Follower
	for sleep(ctx, metricsPace) {
		var now told
		asking, done := context.WithTimeout(ctx, metricsWait)
		page, err := ask.page(asking, spec.Metrics.Port, spec.Metrics.Path)
		if err == nil {
			var all map[string]metrics.Reading
			if all, now.trouble, err = metrics.Read(page, spec.Metrics.Names); err == nil {
				now.values = follows.Take(time.Now(), all)
			}
			page.Close()
		}
		done()
		if err != nil {
			now.trouble = err.Error()
		}
		m.mu.Lock()
		if ctx.Err() == nil {
			m.told = now
		}
		m.mu.Unlock()
	}
}

// samplesAfter gives the samples of all members that are newer than a moment.
func (a *Agent) samplesAfter(after time.Time) agentapi.Samples {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := agentapi.Samples{Now: time.Now(), Of: map[field.MemberName][]agentapi.Sample{}}
	for name, m := range a.members {
		for _, p := range m.samples.After(after) {
			out.Of[name] = append(out.Of[name], p.Value)
		}
	}
	return out
}

// alteredBeats is how often the files of members are compared with what was ordered, in beats.
const alteredBeats = 15

// findAltered looks which files of members are not as they were ordered. A change that is being carried out is no such thing: what was found at the
// look before as well counts.
func (a *Agent) findAltered() {
	a.mu.Lock()
	members := slices.Collect(maps.Values(a.members))
	a.mu.Unlock()
	for _, m := range members {
		m.mu.Lock()
		wanted := m.wanted
		m.mu.Unlock()
		var now []string
		for i, files := range wanted {
			if i == 0 {
				now = m.disk.altered(m.name, files)
			} else if len(now) > 0 { // as one of them has it, it is as ordered
				now = common(now, m.disk.altered(m.name, files))
			}
		}
		m.mu.Lock()
		m.altered, m.unlike = common(m.unlike, now), now
		m.mu.Unlock()
	}
}

func common(a, b []string) []string {
	var out []string
	for _, x := range a {
		if slices.Contains(b, x) {
			out = append(out, x)
		}
	}
	return out
}

package agent

import (
	"slices"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
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
	if free, err := host.FreeDisk(m.disk.data(m.name)); err == nil {
		s.DiskFree = free
	}
	m.samples.Add(now, s)
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

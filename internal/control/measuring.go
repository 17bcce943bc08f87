package control

import (
	"context"
	"maps"
	"math/rand/v2"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
)

// measureEvery is how often the series of an agent are read while somebody looks. A field of many nodes or members is read, and shown, less often, so that looking at
// it takes no more than a part of one processor: so many of them in a second.
const (
	measureEvery   = time.Second
	nodesASecond   = 60
	membersASecond = 2000
)

// paceOf is how often something is done for so many things, of which a second is to see so many at the most.
func paceOf(things, aSecond int) time.Duration {
	return time.Duration(max(1, float64(things)/float64(aSecond)) * float64(measureEvery))
}

// How often what an agent has summed up is read, while somebody looks and else; and how much of the time before is asked for at first.
const (
	samplesEvery   = 5 * time.Second
	samplesAtRest  = 20 * time.Second
	samplesAtFirst = time.Hour
)

// measure reads what the agent measures, while somebody looks. What is lost of it is lost.
func (d *driver) measure(ctx context.Context, client agentapi.Agent) {
	heard := time.Now().Add(-samplesAtFirst) // by the agent's clock
	var read time.Time
	began := time.Now()
	if late := paceOf(d.control.nodes(), nodesASecond) - measureEvery; late > 0 { // thousands of agents are not asked all at once
		select {
		case <-ctx.Done():
			return
		case <-time.After(rand.N(late)):
		}
	}
	for {
		pace := paceOf(d.control.nodes(), nodesASecond)
		every := samplesAtRest
		if _, alone, visited := d.control.Alone(); !alone || visited || time.Since(began) < time.Minute {
			every = time.Duration(pace.Seconds() * float64(samplesEvery))
		}
		if time.Since(read) >= every {
			read = time.Now()
			heard = d.sample(ctx, client, heard)
		}
		if _, alone, visited := d.control.Alone(); !alone || !visited {
			asking, done := context.WithTimeout(ctx, answerWait)
			if all, err := client.Series(asking, time.Time{}); err == nil {
				d.control.note(newestOf(all))
			}
			done()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pace):
		}
	}
}

// nodes is how many nodes the field has.
func (c *Controller) nodes() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.state.Nodes)
}

// clockNoise is by how much clocks may seem to differ because an answer takes its time.
const clockNoise = 50 * time.Millisecond

// sample reads what the agent has summed up since, and gives until when.
func (d *driver) sample(ctx context.Context, client agentapi.Agent, heard time.Time) time.Time {
	asking, done := context.WithTimeout(ctx, answerWait)
	defer done()
	asked := time.Now()
	all, err := client.Samples(asking, heard)
	if err != nil || len(all.Of) == 0 {
		return heard
	}
	took := time.Since(asked)
	ahead := all.Now.Sub(asked.Add(took / 2))
	if ahead.Abs() < took/2+clockNoise {
		ahead = 0 // it may as well be none
	}
	d.control.keepSamples(all, ahead)
	for _, samples := range all.Of {
		if n := len(samples); n > 0 && samples[n-1].At.After(heard) {
			heard = samples[n-1].At
		}
	}
	return heard
}

// newestOf gives the newest measure of each member.
func newestOf(all agentapi.Series) map[field.MemberName]agentapi.Measure {
	out := map[field.MemberName]agentapi.Measure{}
	for name, points := range all {
		if n := len(points); n > 0 {
			out[name] = points[n-1].Value
		}
	}
	return out
}

// note keeps the newest measures.
func (c *Controller) note(measures map[field.MemberName]agentapi.Measure) {
	c.mu.Lock()
	defer c.mu.Unlock()
	maps.Copy(c.measures, measures)
	c.measured = c.measured || len(measures) > 0
}

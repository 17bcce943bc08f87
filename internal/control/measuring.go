package control

import (
	"context"
	"maps"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
)

// measureEvery is how often the series of an agent are read while somebody looks.
const measureEvery = time.Second

// measure reads what the agent measures, while somebody looks. What is lost of it is lost.
func (d *driver) measure(ctx context.Context, client agentapi.Agent) {
	for {
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
		case <-time.After(measureEvery):
		}
	}
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

package agent

import (
	"fmt"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
)

// leastWork is what a member must have used of the processor between two looks to be at work: less than half a percent of a core.
const leastWork = 20 * time.Millisecond

// weigh notes what the member takes of its machine, and when it was at work last. It is ended when it is beyond its ceiling twice in a row: a short peak is none of the
// ceiling's business.
func (m *member) weigh() {
	if m.proc == nil {
		m.heavy = false
		return
	}
	usage, now := m.proc.Usage(), time.Now()
	bytes := usage.Memory
	m.instance.Look(m.proc)
	m.mu.Lock()
	before := m.measure.Usage
	m.measure.Usage = agentapi.Usage{Memory: bytes, CPU: usage.CPU, Read: usage.Read, Written: usage.Written, Received: usage.Received, Sent: usage.Sent,
		Worked: before.Worked, Wrote: m.wrote()}
	if more := usage.CPU - before.CPU; before.Worked.IsZero() || more >= leastWork || more < 0 {
		m.measure.Worked = now
	}
	m.series.Add(now, m.measure)
	m.mu.Unlock()
	spec := m.order.Spec
	if spec == nil || spec.Ceiling.Memory == 0 || bytes <= int64(spec.Ceiling.Memory) {
		m.heavy = false
		return
	}
	if !m.heavy {
		m.heavy = true
		return
	}
	m.heavy = false
	m.beyond = fmt.Sprintf("took %s of memory, beyond its ceiling of %s", field.Bytes(bytes), spec.Ceiling.Memory)
	m.proc.Kill()
}

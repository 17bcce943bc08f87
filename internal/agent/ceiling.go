package agent

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
)

// weigh notes how much memory the member has. It is ended when it is beyond its ceiling twice in a row: a short peak is none of the
// ceiling's business.
func (m *member) weigh() {
	if m.proc == nil {
		m.heavy = false
		return
	}
	bytes := m.proc.Memory()
	m.instance.Look(m.proc)
	m.mu.Lock()
	m.measure.Memory = bytes
	m.series.Add(time.Now(), m.measure)
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

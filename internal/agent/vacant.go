package agent

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// vacantWithin is how long one look for what another cluster has left may take.
const vacantWithin = 10 * time.Second

// vacant looks, before the member is started here for the first time, whether something of another cluster is in its way.
func (m *member) vacant(ctx context.Context, spec *order.Spec) error {
	if entries, err := os.ReadDir(m.disk.data(m.name)); len(spec.Vacant) == 0 || err == nil && len(entries) > 0 {
		return nil
	}
	for _, v := range spec.Vacant {
		err := m.asker(spec).check(ctx, &field.Probe{Call: field.Call{Exec: v.Exec}, Expect: v.Expect}, vacantWithin)
		if err != nil {
			return fmt.Errorf("this node is not free for it: it does not hold that %s (%w)", cmp.Or(v.Say, strings.Join(v.Exec, " ")+" finds nothing"), err)
		}
	}
	return nil
}

package runtime

import (
	"lanternfield/internal/core/order"
)

// folder is that of the version which the member is run in; none where any will do.
func (p *processes) folder(spec *order.Spec) (string, error) {
	return p.runtime.versions.Pick(order.Lookup{LookIn: spec.LookIn, User: spec.User, IfRoot: spec.IfRoot, Version: spec.Version, Tells: spec.Tells})
}

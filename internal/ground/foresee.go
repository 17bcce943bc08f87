package ground

import (
	"fmt"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/fit"
)

// Foresee looks on this machine, of which the nodes will be made. What is named by a folder of a node that is not there yet cannot be looked for.
func (l *Local) Foresee(nodes map[field.NodeName][]order.Lookup) []string {
	var lacks []string
	for node, list := range nodes {
		for _, x := range list {
			if strings.ContainsRune(x.Program, '<') {
				continue
			}
			if err := fit.Lacks(x, &l.versions); err != nil {
				lacks = append(lacks, fmt.Sprintf("%s on %s: %v", x.Member, node, err))
			}
		}
	}
	return lacks
}

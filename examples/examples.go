// Package examples carries the example field files inside the program.
package examples

import (
	"embed"
	"fmt"
	"strings"
)

// Files are the example field files.
//
//go:embed *.field.yaml
var Files embed.FS

// Demo is the file that `lanternfield demo` opens.
const Demo = "saltmarsh-ferries.field.yaml"

// Large writes a field, for measuring, of ten zones and fifty roles that call each other, with ten members for each node, three
// dimensions, and every second role kept to some nodes. Nodes are named as ranges, or each on its own.
func Large(nodes int, ranges bool) []byte {
	var b strings.Builder
	b.WriteString("format: 1\nfield: large\nnodes:\n")
	for z := range 10 {
		names := []string{fmt.Sprintf("n%d-{1..%d}", z, nodes/10)}
		for i := 1; !ranges && i <= nodes/10; i++ {
			names = append(names[:i-1], fmt.Sprintf("n%d-%d", z, i))
		}
		for _, n := range names {
			fmt.Fprintf(&b, "  - {name: \"%s\", zone: z-%d, size: {cpu: 32, memory: 128GiB, disk: 1TiB}, labels: {disk: %s}}\n", n, z, []string{"nvme", "spinning"}[z%2])
		}
	}
	b.WriteString("roles:\n")
	for i := range 50 {
		fmt.Fprintf(&b, "  role-%d:\n    members: %d\n    room: {cpu: 0.5, memory: 1GiB, disk: 10GiB}\n    program:\n      command: [serve, \"--at={{.Address}}:{{.Port \\\"main\\\"}}\"]\n"+
			"      ports: {main: {from: %d, to: %d}}\n      ready: {tcp: {port: main}}\n", i, nodes*10/50, 7000+i*20, 7019+i*20)
		if i%2 == 0 {
			b.WriteString("    where: labels.disk == \"nvme\" or cpu > 8\n")
		}
		if i > 0 {
			fmt.Fprintf(&b, "    calls: {up: role-%d}\n", i/2)
		}
	}
	return []byte(b.String())
}

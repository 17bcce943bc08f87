package fieldfile

import (
	"fmt"
	"strings"
	"testing"

	"lanternfield/internal/core/finding"
)

// largeFile writes a field of that many nodes, each named on its own, in ten zones, and of fifty roles that call each
// other, with ten members for each node altogether.
func largeFile(nodes int) []byte {
	var b strings.Builder
	b.WriteString("format: 1\nfield: large\nnodes:\n")
	for i := range nodes {
		fmt.Fprintf(&b, "  - {name: n-%d, zone: z-%d, size: {cpu: 32, memory: 128GiB, disk: 1TiB}, labels: {disk: %s}}\n", i, i*10/nodes, []string{"nvme", "spinning"}[i%2])
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

func BenchmarkParseAndCheck(b *testing.B) {
	for _, nodes := range []int{200, 5000} {
		data := largeFile(nodes)
		b.Run(fmt.Sprintf("parse/%d", nodes), func(b *testing.B) {
			for b.Loop() {
				if _, err := Parse("large.field.yaml", data, nil); err != nil {
					b.Fatal(err)
				}
			}
		})
		file, err := Parse("large.field.yaml", data, nil)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("findings/%d", nodes), func(b *testing.B) {
			for b.Loop() {
				if found := finding.All(file.Field); finding.Worst(found) {
					b.Fatal(found)
				}
			}
		})
	}
}

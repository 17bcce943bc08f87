package fieldfile

import (
	"fmt"
	"testing"

	"lanternfield/examples"
	"lanternfield/internal/core/finding"
)

func BenchmarkParseAndCheck(b *testing.B) {
	for _, nodes := range []int{200, 5000} {
		data := examples.Large(nodes, false)
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
				if found := finding.All(file.Field); finding.HasErrors(found) {
					b.Fatal(found)
				}
			}
		})
	}
}

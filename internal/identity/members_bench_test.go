package identity

import (
	"fmt"
	"testing"
)

// BenchmarkRenew500 makes new certificates for 500 members, each with its key and what leads to the authority, as they are put into orders.
func BenchmarkRenew500(b *testing.B) {
	m := testMembers()
	for n := 0; b.Loop(); n++ {
		for i := range 500 {
			c := certificate(first, nil)
			c.Holder, c.Issue.Number = fmt.Sprintf("store-%d", i+1), n+1
			if _, err := m.Chain(c); err != nil {
				b.Fatal(err)
			}
			if _, err := m.Key(c); err != nil {
				b.Fatal(err)
			}
		}
	}
}

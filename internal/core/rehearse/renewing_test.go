package rehearse

import (
	"fmt"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
)

// secured is a field of so many members that speak TLS and read a new certificate by themselves.
func secured(n int) *field.Field {
	f := &field.Field{Name: "saltmarsh", Roles: []field.Role{{Name: "relays", Members: n, Program: &field.Program{Command: []string{"relay"},
		Ports: map[string]field.Port{"main": {Port: 7000, TLS: "https"}},
		Files: map[string]field.File{"member.pem": {Template: "{{.Certificate}}{{.Key}}", TLS: true, OnChange: field.OnItself},
			"authority.pem": {Template: "{{.Authority}}", TLS: true, OnChange: field.OnItself}}}}}}
	for i := range n {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("gull-%d", i+1)), Zone: "quay"})
	}
	field.FillDefaults(f)
	return f
}

// BenchmarkRenewing500 renews the certificates of 500 members of one role, which are given them one after the other: what it costs to decide that.
func BenchmarkRenewing500(b *testing.B) {
	w := New(time.Unix(1_700_000_000, 0).UTC())
	if err := w.Do(engine.Deploy{Draft: secured(500), By: "bench"}); err != nil {
		b.Fatal(err)
	}
	if !w.Until(func() bool { return w.State.Deployed() && !w.State.Rollout.Active() }, time.Minute) {
		b.Fatal("it does not converge")
	}
	b.ResetTimer()
	for b.Loop() {
		if err := w.Do(engine.RenewCertificates{By: "bench"}); err != nil {
			b.Fatal(err)
		}
		w.Run(5 * time.Second)
		b.StopTimer()
		if n := len(w.State.TrustPending()); n > 0 {
			b.Fatalf("%d are not renewed", n)
		}
		b.StartTimer()
	}
}

package finding

import (
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

// TestWhatCouldSpeakTLSAndDoesNotIsFound says which roles are found to be in the clear, and why.
func TestWhatCouldSpeakTLSAndDoesNotIsFound(t *testing.T) {
	can := &field.Program{Command: []string{"run"}, Ports: map[string]field.Port{"main": {Port: 7000, Scheme: "http", TLS: "https"}}}
	cannot := &field.Program{Command: []string{"run"}, Ports: map[string]field.Port{"main": {Port: 7001}}}
	for _, row := range []struct {
		name    string
		nodes   int
		role    field.Switch
		trust   field.Switch
		program *field.Program
		found   string // the path; empty for nothing
	}{
		{"several nodes", 2, "", "", can, ""},
		{"one node", 1, "", "", can, ""},
		{"off", 2, field.Off, "", can, "roles.it.tls"},
		{"off for all", 2, "", field.Off, can, "trust.tls"},
		{"on over off for all", 2, field.On, field.Off, can, ""},
		{"off on one node", 1, field.Off, "", can, ""},
		{"a program that cannot", 2, "", field.Off, cannot, ""},
	} {
		f := &field.Field{Name: "saltmarsh", Trust: field.Trust{TLS: row.trust}, Roles: []field.Role{{Name: "it", Members: 1, TLS: row.role, Program: row.program}}}
		for _, name := range []field.NodeName{"gull-1", "gull-2"}[:row.nodes] {
			f.Nodes = append(f.Nodes, field.Node{Name: name})
		}
		field.FillDefaults(f)
		got := ""
		if i := slices.IndexFunc(All(f), func(x Finding) bool { return x.What == "in the clear" }); i >= 0 {
			got = strings.Join(All(f)[i].Path, ".")
		}
		if got != row.found {
			t.Errorf("%s: found at %q, want %q", row.name, got, row.found)
		}
	}
}

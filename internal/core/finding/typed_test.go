package finding

import (
	"testing"

	"lanternfield/internal/core/field"
)

// TestAnAddressTypedByHandIsFound types the address of a node in all places where that can be done, and others that are none.
func TestAnAddressTypedByHandIsFound(t *testing.T) {
	store := field.Role{Name: "store", Members: 1, Program: &field.Program{Command: []string{"x"}, Ports: map[string]field.Port{"client": {Port: 2379}}}}
	caller := func(change func(*field.Role)) field.Role {
		r := field.Role{Name: "clerks", Members: 1, Program: &field.Program{Command: []string{"x"}}}
		change(&r)
		return r
	}
	for name, test := range map[string]struct {
		role field.Role
		want string
	}{
		"a setting": {caller(func(r *field.Role) { r.Settings = map[string]field.Text{"book": "http://10.0.0.1:2379/v3"} }), "settings book"},
		"a setting of one": {caller(func(r *field.Role) {
			r.SettingsOf = map[field.MemberName]map[string]field.Text{"clerks-1": {"book": "10.0.0.1"}}
		}), "settings_of clerks-1 book"},
		"a command":      {caller(func(r *field.Role) { r.Program.Command = []string{"x", "--at=10.0.0.1:2379"} }), "program command"},
		"an environment": {caller(func(r *field.Role) { r.Program.Env = map[string]field.Text{"BOOK": "10.0.0.1"} }), "program env BOOK"},
		"a file": {caller(func(r *field.Role) {
			r.Program.Files = map[string]field.File{"a": {Template: "host = gull.example.\n"}}
		}), "program files a"},
		"as something outside": {field.Role{Name: "clerks", External: &field.External{Addresses: []string{"10.0.0.1:2379"}}}, "external addresses"},
		"another port there":   {field.Role{Name: "clerks", External: &field.External{Addresses: []string{"10.0.0.1:80"}}}, ""},
		"another address": {caller(func(r *field.Role) {
			r.Program.Command = []string{"x", "10.0.0.11", "10.0.0.1.5", "210.0.0.1", "not-gull.example"}
		}), ""},
		"a template": {caller(func(r *field.Role) { r.Program.Command = []string{"x", "{{.Address}}"} }), ""},
	} {
		f := draftOf("a@1 b@2", store, test.role)
		f.Nodes[0].Address, f.Nodes[1].Addresses = "10.0.0.1", map[string]string{"back": "gull.example"}
		got := ""
		for _, x := range typedAddress(&draft{Field: f}) {
			for _, part := range x.Path[2:] {
				got += part + " "
			}
		}
		if want := test.want; got != want && got != want+" " {
			t.Errorf("%s: found at %q, want %q", name, got, want)
		}
	}
}

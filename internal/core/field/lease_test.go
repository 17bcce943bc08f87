package field

import (
	"strings"
	"testing"
	"time"
)

// TestWhatALeaseMeans validates declarations that say something of a lease.
func TestWhatALeaseMeans(t *testing.T) {
	for _, row := range []struct {
		name   string
		change func(*Field, *Role)
		want   string // the beginning of the problem; empty for none
	}{
		{"a role of the field", func(*Field, *Role) {}, ""},
		{"one that is external", func(f *Field, r *Role) {
			f.Roles[0] = Role{Name: "store", External: &External{Addresses: []string{"10.9.0.1:2379"}, Scheme: "https"}}
			r.Lease.User, r.Lease.Authority = "berths", "/etc/store.pem"
		}, ""},
		{"nobody", func(_ *Field, r *Role) { r.Lease.Store = "stoer" }, `berths names a role "stoer" under lease`},
		{"itself", func(_ *Field, r *Role) { r.Lease.Store, r.Provides = "berths", []string{"leases"} }, "berths names itself under lease"},
		{"one that keeps none", func(f *Field, _ *Role) { f.Roles[0].Provides = nil }, "store cannot keep leases"},
		{"a program that says nothing", func(_ *Field, r *Role) { r.Program.Lease = nil }, "the program of berths does not say how a guard deals with it"},
		{"too short", func(_ *Field, r *Role) { r.Lease.For = Duration(time.Second) }, "a lease lasts between 2.0 s and 1 min 0 s"},
		{"too long", func(_ *Field, r *Role) { r.Lease.For = Duration(time.Hour) }, "a lease lasts between 2.0 s and 1 min 0 s"},
		{"a password for members", func(_ *Field, r *Role) { r.Lease.User = "berths" }, "store is a role of this field"},
		{"another that is called lease", func(f *Field, r *Role) {
			f.Roles = append(f.Roles, Role{Name: "other", Members: 1, Program: &Program{Command: []string{"run"}}})
			f.Roles[1].Calls = map[string]RoleName{LeaseCall: "other"}
		}, "under the name lease, berths calls the store of its lease"},
	} {
		f := &Field{Name: "saltmarsh", Nodes: []Node{{Name: "gull-1"}, {Name: "gull-2"}}, Roles: []Role{
			{Name: "store", Members: 1, Provides: []string{"leases"}, Program: &Program{Command: []string{"run"}, Ports: map[string]Port{"client": {Port: 2379}}}},
			{Name: "berths", Members: 2, Lease: &Lease{Store: "store"}, Program: &Program{Command: []string{"run"}, ColdStart: &ColdStart{Exec: []string{"x"}, Rank: "1"}, HandOver: []Step{{On: "peer", Call: Call{Exec: []string{"x"}}}},
				Lease: &LeaseRule{Port: "sql", Guard: "guard", HandOver: []Step{{On: "leader", Call: Call{Exec: []string{"x"}}}}},
				Ports: map[string]Port{"sql": {Port: 7000}, "guard": {Port: 7001, By: ByGuard}}}}}}
		row.change(f, &f.Roles[1])
		FillDefaults(f)
		problems := Validate(f, map[string]GroundRules{"local": {}})
		switch {
		case row.want == "" && len(problems) > 0:
			t.Errorf("%s: %v", row.name, problems)
		case row.want != "" && (len(problems) != 1 || !strings.HasPrefix(problems[0].Text, row.want)):
			t.Errorf("%s: %v, want %q", row.name, problems, row.want)
		}
	}
}

// TestALeaseChangesTheProgram compares a role with a lease with one that could have one.
func TestALeaseChangesTheProgram(t *testing.T) {
	program := &Program{ColdStart: &ColdStart{Exec: []string{"x"}, Rank: "1"}, HandOver: []Step{{On: "peer", Call: Call{Exec: []string{"x"}}}}, Lease: &LeaseRule{HandOver: []Step{{On: "leader", Call: Call{Exec: []string{"x"}}}}}, Ports: map[string]Port{"sql": {Port: 7000}, "guard": {Port: 7001, By: ByGuard}}}
	with, without := Role{Lease: &Lease{Store: "store"}, Program: program}, Role{Program: program}
	f := &Field{Roles: []Role{{Name: "store"}}}
	with.guarded(f)
	without.guarded(f)
	if !with.Guarded() || with.Calls[LeaseCall] != "store" || with.Program.ColdStart != nil || with.Program.HandOver[0].On != "leader" || len(with.Program.Ports) != 2 {
		t.Errorf("with a lease: %+v", with.Program)
	}
	if without.Guarded() || len(without.Calls) > 0 || without.Program.ColdStart == nil || without.Program.HandOver[0].On != "peer" || len(without.Program.Ports) != 1 {
		t.Errorf("without: %+v", without.Program)
	}
	if len(program.Ports) != 2 || program.HandOver[0].On != "peer" {
		t.Error("what several roles have was changed")
	}
}

// TestThePasswordOfALeaseStoreIsASecretOfTheRole names a secret that no template does: of the user as whom a store that is not the field's is asked.
func TestThePasswordOfALeaseStoreIsASecretOfTheRole(t *testing.T) {
	r := &Role{Name: "berths", Program: &Program{Command: []string{"x"}, Lease: &LeaseRule{}, Files: map[string]File{"a": {Template: `{{.Secret "zeal"}}`}}}, Lease: &Lease{Store: "votes", User: "lantern", Secret: "votes"}}
	f := &Field{Name: "x", Roles: []Role{*r}}
	if got := r.SecretNames(); len(got) != 2 || got[0] != "votes" || got[1] != "zeal" {
		t.Errorf("got %v", got)
	}
	if got := f.UsersOf("votes"); len(got) != 1 || got[0] != "berths" {
		t.Errorf("used by %v", got)
	}
	r.Lease = nil
	if got := r.SecretNames(); len(got) != 1 {
		t.Errorf("without a lease: %v", got)
	}
}

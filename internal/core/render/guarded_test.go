package render

import (
	"encoding/json"
	"reflect"
	"slices"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/lease"
	"lanternfield/internal/core/order"
)

// TestAGuardIsToldWhatItMustKnow renders members of a role with a lease: in the field, and with a store outside.
func TestAGuardIsToldWhatItMustKnow(t *testing.T) {
	s := harbour(false)
	f := s.Field
	f.Roles = append(f.Roles, field.Role{Name: "tariffs", Members: 2, Provides: []string{"leases"}, Program: &field.Program{Command: []string{"run"},
		Ports: map[string]field.Port{"client": {Port: 2379, Scheme: "http", TLS: "https"}}}})
	s.Members["tariffs-1"] = Member{Name: "tariffs-1", Role: "tariffs", Node: "gull-1", Address: "10.1.0.1", Ports: map[string]int{"client": 2379}}
	s.Joined["tariffs"] = []field.MemberName{"tariffs-1"}
	p := f.Roles[0].Program
	p.Stop = field.Stop{Signal: "INT"}
	p.Ports["check"], p.Ports["guard"] = field.Port{Port: 5431, By: field.ByAgent}, field.Port{Port: 5430, By: field.ByGuard}
	p.Lease = &field.LeaseRule{Port: "client", Guard: "guard", Confirms: "copies", State: []string{"state", "{{.Member}}"}, Cut: []string{"cut"}, Confirm: []string{"confirm"}}
	f.Roles[0].Settings["copies"] = "2"
	p.TakeLead, p.AttachTo = []field.Exec{{Exec: []string{"lead"}}}, []field.Exec{{Exec: []string{"follow"}}}
	for _, name := range []field.MemberName{"berths-1", "berths-2"} {
		m := s.Members[name]
		m.Ports = map[string]int{"client": 5432, "check": 5431, "guard": 5430}
		m.Founding, m.Begins = name == "berths-1", name == "berths-1"
		s.Members[name] = m
	}
	plain, err := s.Spec("berths-1")
	if err != nil || plain.Guarded || plain.Ports["check"].By != field.ByAgent || slices.ContainsFunc(plain.Files, func(f order.File) bool { return f.Path == lease.ConfigFile }) {
		t.Errorf("without a lease: %v %+v", err, plain)
	}

	f.Roles[0].Lease = &field.Lease{Store: "tariffs", Paused: true}
	field.FillDefaults(f)
	told := func() lease.Config {
		t.Helper()
		spec, err := s.Spec("berths-1")
		if err != nil {
			t.Fatal(err)
		}
		i := slices.IndexFunc(spec.Files, func(f order.File) bool { return f.Path == lease.ConfigFile })
		if !spec.Guarded || i < 0 || spec.Files[i].Mode != 0o600 || spec.Files[i].OnChange != field.OnItself || spec.Ports["check"].By != field.ByGuard {
			t.Fatalf("%+v", spec)
		}
		var c lease.Config
		content := Put(spec.Files[i].Content, Kept{Secret: func(s Secret) string { return s.In(`a"b`) }}) // as it reaches the member
		if err := json.Unmarshal([]byte(content), &c); err != nil {
			t.Fatal(err)
		}
		return c
	}
	want := lease.Config{Field: "harbour", Role: "berths", Member: "berths-1", Want: 1, Founds: true, Paused: true, For: field.Duration(field.LeaseFor),
		Members: []lease.Place{{Member: "berths-1", Address: "10.1.0.1", Port: 5432, Guard: "10.1.0.1:5430"}, {Member: "berths-2", Address: "10.1.0.2", Port: 5432, Guard: "10.1.0.2:5430"}},
		Store:   lease.Access{Role: "tariffs", URLs: []string{"https://10.1.0.1:2379"}}, Secured: true, Authority: "tls/authority.pem", Certificate: "tls/member.pem",
		Answers: []string{"10.1.0.1:5431"}, Stop: "INT", State: []string{"state", "berths-1"}, Cut: []string{"cut"}, Confirm: []string{"confirm"},
		TakeLead: [][]string{{"lead"}}, AttachTo: [][]string{{"follow"}}}
	if got := told(); !reflect.DeepEqual(got, want) { // of two, only one other can confirm
		t.Errorf("got\n%+v\nwant\n%+v", got, want)
	}
	s.Joined["tariffs"] = append(s.Joined["tariffs"], "tariffs-2")
	s.Members["tariffs-2"] = Member{Name: "tariffs-2", Role: "tariffs", Node: "gull-2", Address: "10.1.0.2", Ports: map[string]int{"client": 2379}}
	if got := told().Store.URLs; len(got) != 2 {
		t.Errorf("another member of the store: %v", got)
	}

	f.Roles[1] = field.Role{Name: "tariffs", External: &field.External{Addresses: []string{"10.9.0.1:2379"}, Scheme: "https"}}
	f.Roles[0].Lease = &field.Lease{Store: "tariffs", Authority: "/etc/outside.pem", User: "berths", Secret: "outside"}
	field.FillDefaults(f)
	got := told().Store
	if !slices.Equal(got.URLs, []string{"https://10.9.0.1:2379"}) || got.Authority != "/etc/outside.pem" || got.User != "berths" || got.Password != `a"b` {
		t.Errorf("outside: %+v", got)
	}
}

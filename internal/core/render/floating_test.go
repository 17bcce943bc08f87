package render

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// TestAHolderIsToldWhatItMustKnow renders members of a role with a floating address: with a store of the field, and with one outside.
func TestAHolderIsToldWhatItMustKnow(t *testing.T) {
	s := harbour(false)
	f := s.Field
	f.Roles = append(f.Roles, field.Role{Name: "tariffs", Members: 1, Provides: []string{"leases"}, Program: &field.Program{Command: []string{"run"},
		Ports: map[string]field.Port{"client": {Port: 2379, Scheme: "http", TLS: "https"}}}})
	s.Members["tariffs-1"] = Member{Name: "tariffs-1", Role: "tariffs", Node: "gull-1", Address: "10.1.0.1", Ports: map[string]int{"client": 2379}}
	s.Joined["tariffs"] = []field.MemberName{"tariffs-1"}
	plain, err := s.Spec("berths-1")
	if err != nil || plain.Floating != nil {
		t.Fatalf("without one: %v %+v", err, plain.Floating)
	}
	f.Roles[0].Program.Files = map[string]field.File{"at": {Template: "{{if .Floating}}{{.Floating}}{{else}}none{{end}}"}}
	f.Roles[0].Floating = &field.Floating{Address: "10.1.0.50", Lease: field.Lease{Store: "tariffs", For: field.Duration(4 * time.Second)}}
	field.FillDefaults(f)
	spec, err := s.Spec("berths-1")
	if err != nil {
		t.Fatal(err)
	}
	got := spec.Floating
	if got.Address != "10.1.0.50" || got.Key != "/lanternfield/harbour/berths/floating" || !slices.Equal(got.URLs, []string{"https://10.1.0.1:2379"}) || got.For != field.Duration(4*time.Second) {
		t.Errorf("%+v", got)
	}
	if got.TLS == nil || got.TLS.Key == "" || got.TLS.Authority == "" {
		t.Errorf("with what the store is asked: %+v", got.TLS)
	}
	if i := slices.IndexFunc(spec.Files, func(f order.File) bool { return f.Path == "at" }); spec.Files[i].Content != "10.1.0.50" {
		t.Errorf("in templates it is %q", spec.Files[i].Content)
	}
	if names := s.CertificateOf("berths-1").Names; !slices.Contains(names, "10.1.0.50") {
		t.Errorf("its certificate is for %v", names)
	}

	// A store that is not the field's: by what the file says, and no certificate of the field.
	f.Role("tariffs").External = &field.External{Addresses: []string{"10.9.0.1:2379"}, Scheme: "https"}
	f.Role("tariffs").Program = nil
	f.Roles[0].Floating.User, f.Roles[0].Floating.Secret, f.Roles[0].Floating.Authority = "desk", "votes", "/etc/votes.pem"
	if spec, err = s.Spec("berths-1"); err != nil {
		t.Fatal(err)
	}
	got = spec.Floating
	password := Put(got.Password, Kept{Secret: func(s Secret) string { return s.In(`a"b`) }})
	if got.TLS != nil || got.File != "/etc/votes.pem" || got.User != "desk" || password != `a"b` || !strings.HasPrefix(got.URLs[0], "https://10.9.0.1:2379") {
		t.Errorf("%+v, %s", got, password)
	}
}

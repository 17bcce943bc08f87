package render

import (
	"encoding/json"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/lease"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/order"
)

// ferry is a field whose clerk calls a role of another field, and something at an address.
func ferry() *Scene {
	clerk := field.Role{Name: "clerks", Members: 1, Calls: map[string]field.RoleName{"book": "ledger", "old": "elsewhere"}, Program: &field.Program{Command: []string{"run"},
		Files: map[string]field.File{
			"at":  {Template: `{{range .Calls "book"}}{{.Member}} {{.URL "client"}} {{.Listen "peer"}} {{.TLS}} {{.HasPort "gone"}} {{.Zone}};{{end}}`},
			"url": {Template: `{{with .Access "book"}}{{.User}}:{{.Password "url"}}@{{range .Hosts}}{{.At}} {{end}}/{{range .ReadHosts}}{{.At}} {{end}}{{end}}`},
			"pem": {Template: `{{with .Access "book"}}{{.Authority}}{{.Certificate}}{{.Key}}{{end}}`},
		}}}
	f := &field.Field{Name: "ferry", Nodes: []field.Node{{Name: "heron-1"}}, Roles: []field.Role{clerk,
		{Name: "ledger", External: &field.External{Field: "harbour", Role: "berths"}}, {Name: "elsewhere", External: &field.External{Addresses: []string{"10.9.0.1:80"}, Scheme: "http"}}}}
	field.FillDefaults(f)
	s := &Scene{Field: f, Members: map[field.MemberName]Member{}, Joined: map[field.RoleName][]field.MemberName{"clerks": {"clerks-1"}}, Links: map[field.RoleName]Link{}}
	s.Members["clerks-1"] = Member{Name: "clerks-1", Role: "clerks", Node: "heron-1", Address: "10.2.0.1"}
	s.Members["ledger-1"] = Member{Name: "ledger-1", Role: "ledger", Node: "heron-1", Address: "10.2.0.1", Ports: map[string]int{"watch": 7900}}
	return s
}

func contents(t *testing.T, s *Scene, name field.MemberName) map[string]string {
	t.Helper()
	spec, err := s.Spec(name)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range spec.Files {
		out[f.Path] = f.Content
	}
	return out
}

// TestWhatIsHandedOverIsWhatTheOtherFieldHas has one field say what it hands over of a role, and the other render its callers with that.
func TestWhatIsHandedOverIsWhatTheOtherFieldHas(t *testing.T) {
	there, here := harbour(true), ferry()
	there.Secrets = map[string]Secret{"berths": {Name: "berths", Number: 3}}
	m := there.Members["berths-2"]
	m.Ports = map[string]int{"client": 5432, "peer": 5433}
	there.Members["berths-2"] = m
	there.Field.Roles[0].Program.Ports["peer"] = field.Port{Port: 5433, Network: "back"}
	m.Addresses = map[string]string{"back": "10.8.0.2"}
	there.Members["berths-2"] = m
	one := there.Members["berths-1"]
	one.Leaving = true
	there.Members["berths-1"] = one

	content, err := there.LinkTo(&there.Field.Roles[0])
	if err != nil {
		t.Fatal(err)
	}
	if content.Secret != "berths" || content.Number != 3 || content.Client != "client" || content.Through != "desk" || strings.Join(content.At(), " ") != "10.1.0.2:5432" {
		t.Errorf("handed over: %+v", content)
	}
	content.Authority, content.Certificate = "AUTHORITY", "CERTIFICATE"
	data, _ := json.Marshal(content)
	var arrived link.Content
	if err := json.Unmarshal(data, &arrived); err != nil || arrived.Digest() != content.Digest() {
		t.Errorf("it does not arrive as it was sent: %v", err)
	}
	here.Links["ledger"] = Link{Content: &arrived, Number: 5}
	got := contents(t, here, "clerks-1")
	if want := "berths-2 sqls://10.1.0.2:5432 10.8.0.2:5433 true false ;"; got["at"] != want {
		t.Errorf("where: got %q, want %q", got["at"], want)
	}
	kept := Kept{Secret: func(x Secret) string { return x.Name + "#" + string(rune('0'+x.Number)) }}
	if got, want := Put(got["url"], kept), "clerk:link-ledger-password#5@10.1.0.2:7000 /10.1.0.2:7001 "; got != want {
		t.Errorf("as whom: got %q, want %q", got, want)
	}
	if got, want := Put(got["pem"], kept), "AUTHORITYCERTIFICATElink-ledger-key#5"; got != want {
		t.Errorf("whom to believe and what to show: got %q, want %q", got, want)
	}
	if got := contents(t, here, "ledger-1"); got["watched"] != "10.1.0.2:5432\n" {
		t.Errorf("watched: %q", got["watched"])
	}
}

// TestWhatIsNotHandedOver renders callers of a role that was not handed over: an error as it is, and something supposed where a draft is looked at.
func TestWhatIsNotHandedOver(t *testing.T) {
	s := ferry()
	if _, err := s.Spec("clerks-1"); err == nil || !strings.Contains(err.Error(), "berths of harbour has not been handed over yet") {
		t.Errorf("got %v", err)
	}
	s.Supposed = SupposedWord
	got := contents(t, s, "clerks-1")
	if want := "berths-1 tcp://<berths of harbour>:1 <berths of harbour>:1 false false ;"; got["at"] != want {
		t.Errorf("got %q, want %q", got["at"], want)
	}
	for text, want := range map[string]string{
		`{{(.Access "old").User}}`:       "nothing is known of how one gets in there but its addresses",
		`{{(.Access "nobody").User}}`:    `there is no call "nobody"; there is book, old`,
		`{{(.Access "book").Key "x"}}`:   "wrong number of args",
		`{{range .Watched}}{{.}}{{end}}`: "only what is external is watched",
	} {
		s.Field.Roles[0].Program.Files["at"] = field.File{Template: text}
		if _, err := s.Spec("clerks-1"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v", text, err)
		}
	}
	s.Field.Roles[0].Program.Command = []string{`{{(.Access "book").Password}}`}
	if _, err := s.Spec("clerks-1"); err == nil || !strings.Contains(err.Error(), "everybody on the node can read command lines") {
		t.Errorf("a password on a command line: %v", err)
	}
	there := harbour(false)
	there.Joined["berths"] = nil
	if _, err := there.LinkTo(&there.Field.Roles[0]); err == nil || !strings.Contains(err.Error(), "no member of berths has come up yet") {
		t.Errorf("nobody there yet: %v", err)
	}
}

// TestAccessWithinAField renders a caller of a role of its own field by the same template: the certificate is its own there.
func TestAccessWithinAField(t *testing.T) {
	s := harbour(true)
	s.Field.Roles[1].TLS = field.Off
	s.Field.Roles[1].Program.Files = map[string]field.File{"in": {Template: `{{with .Access "members"}}{{.User}} {{.TLS}} {{range .Hosts}}{{.At}} {{end}}{{.Certificate}}{{end}}`}}
	got := contents(t, s, "desk-1")["in"]
	_, chain := s.CertificateOf("desk-1").Marks()
	if got != "clerk true 10.1.0.2:7000 "+chain {
		t.Errorf("got %q", got)
	}
}

// TestALeaseIsKeptInAnotherField renders what a guard is told of a store that is a role of another field.
func TestALeaseIsKeptInAnotherField(t *testing.T) {
	s := harbour(false)
	f := s.Field
	f.Roles = append(f.Roles, field.Role{Name: "votes", External: &field.External{Field: "ledger", Role: "store"}})
	p := f.Roles[0].Program
	p.Ports["guard"] = field.Port{Port: 5430, By: field.ByGuard}
	p.Lease = &field.LeaseRule{Port: "client", Guard: "guard", Confirms: "copies", State: []string{"s"}, Cut: []string{"c"}, Confirm: []string{"c"}}
	p.TakeLead, p.AttachTo = []field.Exec{{Exec: []string{"lead"}}}, []field.Exec{{Exec: []string{"follow"}}}
	f.Roles[0].Lease = &field.Lease{Store: "votes"}
	field.FillDefaults(f)
	for _, name := range []field.MemberName{"berths-1", "berths-2"} {
		m := s.Members[name]
		m.Ports = map[string]int{"client": 5432, "guard": 5430}
		s.Members[name] = m
	}
	s.Links = map[field.RoleName]Link{"votes": {Number: 2, Content: &link.Content{User: "clerk", Secret: "store", Number: 1, Client: "client", TLS: true, Authority: "AUTHORITY", Certificate: "CERTIFICATE",
		Members: []link.Member{{Name: "store-1", Address: "10.7.0.1", Ports: map[string]link.Port{"client": {Number: 2379, Scheme: "https"}}}}}}}
	spec, err := s.Spec("berths-1")
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]order.File{}
	for _, f := range spec.Files {
		files[f.Path] = f
	}
	var c lease.Config
	content := Put(files[lease.ConfigFile].Content, Kept{Secret: func(s Secret) string { return s.In(s.Name + `"`) }})
	if err := json.Unmarshal([]byte(content), &c); err != nil {
		t.Fatal(err)
	}
	if len(c.Store.URLs) != 1 || c.Store.URLs[0] != "https://10.7.0.1:2379" || c.StoreAuthority() != lease.StoreAuthorityFile || c.StoreCertificate() != lease.StoreCertificateFile || c.Certificate == c.StoreCertificate() || c.Store.User != "clerk" || c.Store.Password != `link-votes-password"` {
		t.Errorf("the store: %+v", c.Store)
	}
	key := Secret{Name: "link-votes-key", Number: 2, Given: true}
	if files[lease.StoreAuthorityFile].Content != "AUTHORITY" || files[lease.StoreCertificateFile].Content != "CERTIFICATE"+key.Mark() || files[lease.StoreCertificateFile].Mode != 0o600 {
		t.Errorf("its files: %+v %+v", files[lease.StoreAuthorityFile], files[lease.StoreCertificateFile])
	}
}

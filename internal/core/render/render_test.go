package render

import (
	"encoding/base64"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

func scene(program *field.Program) *Scene {
	f := &field.Field{Name: "x", Roles: []field.Role{
		{Name: "wardens", Members: 2, Program: program, Settings: map[string]field.Text{"pace": "2s"}, Calls: map[string]field.RoleName{"queue": "relays"}, Version: "3.4"},
		{Name: "relays", Members: 1, Program: &field.Program{Ports: map[string]field.Port{"in": {Port: 9, Scheme: "nats"}}}},
	}}
	return &Scene{Field: f, Members: map[field.MemberName]Member{
		"wardens-1": {Name: "wardens-1", Role: "wardens", Node: "gull-1", Zone: "north", Number: 1, Address: "198.18.0.1", NodeDir: "/s/gull-1", Ports: map[string]int{"client": 7400}, Founding: true},
		"wardens-2": {Name: "wardens-2", Role: "wardens", Node: "tern-1", Number: 2, Address: "198.18.0.2", NodeDir: "/s/tern-1", Ports: map[string]int{"client": 7401}, Via: "wardens-1", Captured: map[string]string{"id": "77"}},
		"relays-1":  {Name: "relays-1", Role: "relays", Address: "198.18.0.3", Ports: map[string]int{"in": 9}},
	}, Wanted: map[field.RoleName][]field.MemberName{"wardens": {"wardens-1", "wardens-2"}},
		Founders: map[field.RoleName][]field.MemberName{"wardens": {"wardens-1"}},
		Joined:   map[field.RoleName][]field.MemberName{"wardens": {"wardens-1"}, "relays": {"relays-1"}}}
}

func TestEveryNameOfTheDesignCanBeUsed(t *testing.T) {
	program := &field.Program{Ports: map[string]field.Port{"client": {From: 7400, To: 7409, Scheme: "http"}}}
	for _, test := range []struct{ template, first, second string }{
		{`{{.Member}} {{.Role}} {{.Node}} {{.Zone}} {{.Address}}`, "wardens-1 wardens gull-1 north 198.18.0.1", "wardens-2 wardens tern-1  198.18.0.2"},
		{`{{.Dir}} {{.Data}} {{.Version}}`, "/s/gull-1/members/wardens-1 /s/gull-1/members/wardens-1/data 3.4", "/s/tern-1/members/wardens-2 /s/tern-1/members/wardens-2/data 3.4"},
		{`{{if .Founding}}new{{else}}{{.Leader.Member}} {{.Leader.URL "client"}}{{end}}`, "new", "wardens-1 http://198.18.0.1:7400"},
		{`{{range .Founders}}{{.Member}} {{end}}| {{range .Joined}}{{.Member}} {{end}}`, "wardens-1 | wardens-1 ", "wardens-1 | wardens-1 wardens-2 "},
		{`{{.Number}} {{add .Number 10}} {{sub 10 .Number}} {{mul .Number 3}} {{div 7 .Number}} {{mod 7 2}}`, "1 11 9 3 7 1", "2 12 8 6 3 1"},
		{`{{range .Wanted}}{{.Member}} {{.Address}} {{.Port "client"}},{{end}}`, "wardens-1 198.18.0.1 7400,wardens-2 198.18.0.2 7401,", "wardens-1 198.18.0.1 7400,wardens-2 198.18.0.2 7401,"},
		{`{{.Begins}}`, "false", "false"},
		{`{{.Port "client"}} {{.URL "client"}}`, "7400 http://198.18.0.1:7400", "7401 http://198.18.0.2:7401"},
		{`{{range .Calls "queue"}}{{.URL "in"}}{{end}} {{.Setting "pace"}}`, "nats://198.18.0.3:9 2s", "nats://198.18.0.3:9 2s"},
		{`{{if .Founding}}{{else}}{{.Captured "id"}}{{end}}`, "", "77"},
	} {
		program.Command = []string{"run", test.template}
		for name, want := range map[field.MemberName]string{"wardens-1": test.first, "wardens-2": test.second} {
			spec, err := scene(program).Spec(name)
			if err != nil || spec.Command[1] != want {
				t.Errorf("%s for %s: got %q, %v; want %q", test.template, name, spec.Command, err, want)
			}
		}
	}
}

func TestWhatCannotBeRenderedSaysWhereAndWhy(t *testing.T) {
	for template, want := range map[string]string{
		`{{.Adress}}`:             `there is no template name ".Adress"; did you mean ".Address"?`,
		`{{.Port "clinet"}}`:      `there is no port "clinet"; did you mean "client"?`,
		`{{.Calls "store"}}`:      `there is no call "store"; there is queue`,
		`{{.Setting "zzz"}}`:      `there is no setting "zzz"; there is pace`,
		`{{.Leader.Address}}`:     `nobody leads while the cluster is founded; guard .Leader with {{if not .Founding}}`,
		`{{.Secret "x"}}`:         `a secret may be used in files, in env, in access, and in what procedures and proofs send by http, tcp and sql; everybody on the node can read command lines`,
		`{{if}}`:                  `missing value for if`,
		`{{range .Joined}}`:       `unexpected EOF`,
		`{{.Captured "id"}}`:      `there is no captured value "id"; none is declared`,
		`{{template "x"}}{{end}}`: `unexpected {{end}}`,
	} {
		program := &field.Program{Command: []string{"run", template}, Ports: map[string]field.Port{"client": {Port: 7400}}}
		_, err := scene(program).Spec("wardens-1")
		if err == nil || err.Error() != "program.command.1 of role wardens, for wardens-1: "+want {
			t.Errorf("%s: got %v, want %s", template, err, want)
		}
	}
}

func TestSecretsLeaveOnlyMarks(t *testing.T) {
	program := &field.Program{Command: []string{"run"}, Env: map[string]field.Text{"PASSWORD": `{{.Secret "db"}}`},
		Files: map[string]field.File{"conf": {Template: `token {{.Secret "clients"}}.`, Mode: "0600"}}}
	spec, err := scene(program).Spec("wardens-1")
	if err != nil {
		t.Fatal(err)
	}
	if spec.Files[0].Mode != 0o600 {
		t.Errorf("mode %o", spec.Files[0].Mode)
	}
	value := func(s Secret) string { return strings.ToUpper(s.Name) }
	if got := Put(spec.Files[0].Content, Kept{Secret: value}); got != "token CLIENTS." {
		t.Errorf("got %q", got)
	}
	if got := Put(spec.Env["PASSWORD"], Kept{Secret: value}); got != "DB" {
		t.Errorf("got %q", got)
	}
}

// Monitors ask those who tell measures of themselves, where they say, or where a port is called for that.
func TestWhoTellsMeasures(t *testing.T) {
	const template = `{{range .Measured}}{{.Listen .MetricsPort}}{{.MetricsPath}}{{end}}`
	for _, test := range []struct {
		of   field.Program
		want string
	}{
		{field.Program{Ports: map[string]field.Port{"in": {Port: 9}}}, ""},
		{field.Program{Ports: map[string]field.Port{"in": {Port: 9}}, Metrics: &field.Metrics{Port: "in", Path: "/stats"}}, "198.18.0.3:9/stats"},
		{field.Program{Ports: map[string]field.Port{"in": {Port: 9}, "metrics": {Port: 10}}}, "198.18.0.3:10/metrics"},
		{field.Program{Ports: map[string]field.Port{"in": {Port: 9}, "monitor": {Port: 10}}}, ""}, // what is told there may be of any form
	} {
		s := scene(&field.Program{Command: []string{"run", template}})
		s.Field.Roles[1].Program = &test.of
		relay := s.Members["relays-1"]
		relay.Ports = map[string]int{"in": 9, "metrics": 10, "monitor": 10}
		s.Members["relays-1"] = relay
		if spec, err := s.Spec("wardens-1"); err != nil || spec.Command[1] != test.want {
			t.Errorf("of %+v: %q, %v; want %q", test.of.Metrics, spec.Command, err, test.want)
		}
	}
	if _, err := scene(&field.Program{Command: []string{"{{.MetricsPort}}"}}).Spec("wardens-1"); err == nil || !strings.Contains(err.Error(), "tells no measures of itself") {
		t.Errorf("of itself: %v", err)
	}
}

// TestSecretsInForms puts secrets into texts of every kind: which of a secret it is, and what must be escaped there.
func TestSecretsInForms(t *testing.T) {
	const value = `it's "a/b" c@d:1%&` + "\\é"
	s := scene(&field.Program{Command: []string{"run"}, Files: map[string]field.File{"conf": {Mode: "0600", Template: "{{.Secret `db`}}|{{.Secret `db` `url`}}|{{.Secret `db` `json`}}|{{.Secret `db` `sql`}}|{{.Secret `db` `shell`}}|{{.Basic `me` `db`}}|{{.Secret `old`}}"}}})
	s.Secrets = map[string]Secret{"db": {Name: "db", Number: 3, Given: true}}
	spec, err := s.Spec("wardens-1")
	if err != nil {
		t.Fatal(err)
	}
	var asked []Secret
	kept := Kept{Secret: func(x Secret) string {
		asked = append(asked, x)
		if x.Name == "old" {
			return "old"
		}
		return x.In(value)
	}}
	want := strings.Join([]string{value, "it%27s%20%22a%2Fb%22%20c%40d%3A1%25%26%5C%C3%A9", `it's \"a/b\" c@d:1%&\\é`, strings.ReplaceAll(value, "'", "''"), strings.ReplaceAll(value, "'", `'\''`),
		"Basic " + base64.StdEncoding.EncodeToString([]byte("me:"+value)), "old"}, "|")
	if got := Put(spec.Files[0].Content, kept); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	for _, x := range asked {
		if x.Name == "db" && (x.Number != 3 || !x.Given) || x.Name == "old" && (x.Number != 1 || x.Given || x.Form != "") {
			t.Errorf("asked for %+v", x)
		}
	}
	if got := Put(spec.Files[0].Content, Named); !strings.HasPrefix(got, "(secret db, number 3)|(secret db, number 3)|") || !strings.HasSuffix(got, "|(secret old)") {
		t.Errorf("for people: %s", got)
	}
	if has, old := SecretsIn(spec, Secret{Name: "db", Number: 4}); !has || !old {
		t.Error("an older one is not found")
	}
	if has, old := SecretsIn(spec, Secret{Name: "db", Number: 3}); !has || old {
		t.Error("the newest one is taken for an older one")
	}
	for template, says := range map[string]string{"{{.Secret `db` `xml`}}": `not into "xml"`, "{{.Secret `D b`}}": "cannot name a secret", "{{.NewSecret}}": "only steps of change_secret", "{{.Basic `a:b` `db`}}": "has a colon"} {
		s := scene(&field.Program{Command: []string{"run"}, Files: map[string]field.File{"conf": {Mode: "0600", Template: template}}})
		if _, err := s.Spec("wardens-1"); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", template, err)
		}
	}
}

package rehearse

import (
	"strconv"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
)

// role reads: NAME MEMBERS [votes] [seed-first|one-by-one] [after=ROLE:GATE] [calls=ROLE] [ready=D] [on_change=WHAT] [port=N] [keep] [cpu=N] [spread=WHAT] [procedures]
func (s *script) role(t *testing.T, args []string) {
	t.Helper()
	n, err := strconv.Atoi(args[1])
	if err != nil {
		t.Fatal(err)
	}
	r := field.Role{Name: field.RoleName(args[0]), Members: n, Program: &field.Program{Command: []string{"program", "--pace", "{{.Setting \"pace\"}}"}},
		Settings: map[string]field.Text{"pace": "1"}}
	for _, a := range args[2:] {
		key, value, _ := strings.Cut(a, "=")
		switch key {
		case "votes":
			r.Votes = true
		case "procedures":
			giveProcedures(r.Program)
		case "led":
			r.Program.Leader = &field.LeaderProbe{Call: field.Call{Exec: []string{"true"}}, IsMe: "true"}
		case "hands-over":
			r.Program.HandOver = []field.Step{{On: "leader", Call: field.Call{Exec: []string{"true"}}, Capture: map[string]string{"target": "{{.Target.Member}}"}}}
		case "joins-after-start":
			r.Program.Join = []field.Step{{When: "after-start", Call: field.Call{Exec: []string{"true"}}}}
		case "leaves":
			r.Program.Leave = []field.Step{{Of: value, Call: field.Call{Exec: []string{"true"}}, On: "peer"}}
		case "founded":
			r.Program.Found = []field.Step{{Call: field.Call{Exec: []string{"true"}}}}
		case "cold":
			r.Program.ColdStart = &field.ColdStart{Exec: []string{"true"}, Rank: "output"}
			r.Program.Command = append(r.Program.Command, "{{if .Begins}}--begin{{end}}")
		case "lists":
			r.Program.Command = append(r.Program.Command, "{{range .Joined}}{{.Member}},{{end}}")
		case "follows":
			r.Program.Command = append(r.Program.Command, "{{if not .Founding}}{{.Leader.Member}}{{end}}")
		case "versioned":
			r.Program.Command = append(r.Program.Command, "--version={{.Version}}")
		case "validate":
			r.Program.Validate = &field.Exec{Exec: []string{"true"}}
			r.Program.Files = map[string]field.File{"it.conf": {Template: "pace {{.Setting \"pace\"}}", OnChange: field.OnChange(value)}}
			r.Program.Reload = &field.Reload{Signal: "HUP"}
			r.Program.Command = r.Program.Command[:1]
		case "tls": // how it takes a certificate; and another authority, by a restart
			r.Program.Ports = map[string]field.Port{"main": {Port: 7000, TLS: "https"}}
			r.Program.Files = map[string]field.File{"member.pem": {Template: "{{.Certificate}}{{.Key}}", TLS: true, OnChange: field.OnChange(value)},
				"authority.pem": {Template: "{{.Authority}}", TLS: true, OnChange: field.OnRestart}}
		case "secret": // how it takes another one: by steps, never, or as its file changes
			on := field.OnChange(value)
			if value == "steps" || value == "never" {
				on = field.OnItself
				r.Program.Secrets = map[string]field.SecretRule{"base": {Change: field.SecretChange(value)}}
			}
			if value == "steps" {
				r.Program.ChangeSecret = []field.Step{{Call: field.Call{Exec: []string{"true"}}}, {On: "leader", Call: field.Call{HTTP: &field.HTTPCall{Port: "main", Body: "{{.NewSecret}}"}}}}
				r.Program.Ports = map[string]field.Port{"main": {Port: 7000}}
			}
			r.Program.Files = map[string]field.File{"base.conf": {Template: `{{.Secret "base"}}`, OnChange: on}}
			r.Program.Reload = &field.Reload{Signal: "HUP"}
		case "leases": // it can keep those of others
			r.Provides = []string{"leases"}
			r.Program.Ports = map[string]field.Port{"client": {Port: 2379, Scheme: "http"}}
		case "per-zone":
			r.Each.Zone, _ = strconv.Atoi(value)
		case "seed-first", "one-by-one":
			r.Start = field.Start(key)
		case "after":
			on, gate, _ := strings.Cut(value, ":")
			r.After = map[field.RoleName]field.Gate{field.RoleName(on): field.Gate(gate)}
		case "calls":
			r.Calls = map[string]field.RoleName{"it": field.RoleName(value)}
			r.Program.Command = append(r.Program.Command, `{{range .Calls "it"}}{{.Address}} {{end}}`)
		case "ready":
			d, err := time.ParseDuration(value)
			if err != nil {
				t.Fatal(err)
			}
			s.ReadyAfter[r.Name] = d
		case "on_change":
			r.Program.OnChange = field.OnChange(value)
		case "cpu":
			r.Room.CPU, _ = strconv.ParseFloat(value, 64)
		case "spread":
			r.Spread = field.Spread(value)
		case "keep":
			r.Data = &field.Data{Keep: true}
		case "port":
			port, _ := strconv.Atoi(value)
			r.Program.Ports = map[string]field.Port{"main": {Port: port}}
		default:
			t.Fatalf("role: %q", a)
		}
	}
	s.draft.Roles = append(s.draft.Roles, r)
	field.FillDefaults(&s.draft)
}

// giveProcedures lets a program's members join as learners and leave, as the simulated clusters understand it.
func giveProcedures(p *field.Program) {
	step := func(capture map[string]string) []field.Step {
		return []field.Step{{On: "peer", Call: field.Call{Exec: []string{"true"}}, DoneWhen: "true", Capture: capture}}
	}
	p.Join, p.Promote, p.Leave = step(map[string]string{"id": "id"}), step(nil), step(nil)
	p.HandOver = step(map[string]string{"target": "{{.Target.Member}}"})
	p.HandOver[0].On = "leader"
	p.Leader = &field.LeaderProbe{Call: field.Call{Exec: []string{"true"}}, IsMe: "true"}
	p.Roster = &field.RosterProbe{Call: field.Call{Exec: []string{"true"}}, Each: "body", ID: "item", Name: "item"}
}

// lease has a role's leader be who holds a lease in another; in none where that is empty.
func (s *script) lease(role, store field.RoleName) {
	r := s.draft.Role(role)
	p := *r.Program
	p.Ports = map[string]field.Port{"client": {Port: 5432}, "guard": {Port: 5430, By: field.ByGuard}}
	p.Lease = &field.LeaseRule{Port: "client", Guard: "guard", State: []string{"true"}, Cut: []string{"true"}, Confirm: []string{"true"}}
	r.Program, r.Calls, r.Lease = &p, nil, nil
	if store != "" {
		r.Lease = &field.Lease{Store: store}
	}
	field.FillDefaults(&s.draft)
}

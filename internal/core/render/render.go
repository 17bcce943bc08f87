// Package render makes what an agent must run out of a role's program and what is known of a member: every template is
// executed, every port becomes a number.
package render

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/trust"
)

// Member is what templates may know of one member.
type Member struct {
	Name    field.MemberName
	Role    field.RoleName
	Node    field.NodeName
	Zone    field.ZoneName
	Address string
	NodeDir string // the agent's folder on the node

	Addresses map[string]string // of its node on the other networks

	Ports    map[string]int
	Founding bool
	Begins   bool // starts its cluster, of which nobody runs
	Number   int
	Via      field.MemberName // who led when it was admitted
	Captured map[string]string
	ID       string // under which the cluster lists it; empty while that is not known
	Leaving  bool   // on its way out: who calls the role is not told of it any more
	Ready    bool   // it works now
	Leads    bool   // it leads its role now

	Issue trust.Issue // of its certificate; its number is 0 where it has none yet
}

// Scene is everything that templates may reach: the field, and who is who in it.
type Scene struct {
	Field    *field.Field
	Members  map[field.MemberName]Member
	Founders map[field.RoleName][]field.MemberName
	Joined   map[field.RoleName][]field.MemberName
	Wanted   map[field.RoleName][]field.MemberName // whose node is there and that are to stay, whether they run yet or not

	Authorities []trust.Authority // that count, the newest last

	Outside map[field.RoleName]trust.Outside // certificates from outside that roles show

	Links map[field.RoleName]Link // what other fields have handed over, by the role that stands for theirs
	// Noted is told of each port of a member that is named while something is rendered; nil where nobody wants to know.
	Noted func(of field.MemberName, port string)
	// Supposed gives the address of what has not been handed over, where a draft is only tried or looked at; nil where there must be one.
	Supposed func(*field.External) string

	Secrets  map[string]Secret // which of them are in force, by name; the first, which was made, where nothing is said
	Changing Secret            // the one that a step of change_secret has taken
}

// Error is a template that cannot be executed. Path leads to it in the role, e.g. program, command, 3.
type Error struct {
	Role   field.RoleName
	Member field.MemberName
	Path   []string
	Err    error
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s of role %s, for %s: %v", strings.Join(e.Path, "."), e.Role, e.Member, e.Err)
}

func (e *Error) Unwrap() error { return e.Err }

// Lookup renders what must be there on a node for the member to be started, and no more. It is empty for a role without a program.
func (s *Scene) Lookup(name field.MemberName) (order.Lookup, error) {
	v := s.view(name)
	role := s.Field.Role(v.member.Role)
	if role == nil || role.Program == nil || len(role.Program.Command) == 0 {
		return order.Lookup{}, nil
	}
	p := role.Program
	r := &renderer{view: v, at: []string{"program"}}
	l := order.Lookup{Member: name, Program: r.text(p.Command[0], "command", "0"), LookIn: r.list(p.LookIn, "look_in"), User: p.RunsAs(), IfRoot: runsAsIfRoot(p),
		Limits: p.Limits, Kernel: p.Kernel, Version: v.Version, Tells: r.tells(p.Version), Packages: p.Packages}
	return l, errors.Join(r.errs...)
}

// runsAsIfRoot tells whether whom a program runs as holds only where its agent is root.
func runsAsIfRoot(p *field.Program) bool { return p.User == "" && p.InsteadOfRoot != "" }

func (r *renderer) tells(v *field.VersionOf) *field.VersionOf {
	if v == nil {
		return nil
	}
	return &field.VersionOf{Exec: r.list(v.Exec, "version", "exec"), Pattern: v.Pattern, Least: v.Least}
}

// Spec renders everything that the member's agent needs. The error joins one of type *Error for each template that
// cannot be executed.
func (s *Scene) Spec(name field.MemberName) (*order.Spec, error) {
	v := s.view(name)
	role := s.Field.Role(v.member.Role)
	if role == nil || role.Program == nil {
		return nil, fmt.Errorf("role %s of %s has no program", v.member.Role, name)
	}
	r := &renderer{view: v, at: []string{"program"}}
	p := role.Program
	spec := &order.Spec{Role: role.Name, Version: v.Version, Votes: role.Votes, Address: v.Address, Ceiling: role.Ceiling, User: p.RunsAs(), IfRoot: runsAsIfRoot(p), OnChange: p.OnChange, Stop: p.Stop, Restart: p.Restart,
		Limits: p.Limits, Kernel: p.Kernel, FreeDisk: p.FreeDisk}
	spec.Command = r.list(p.Command, "command")
	spec.LookIn = r.list(p.LookIn, "look_in")
	spec.Tells = r.tells(p.Version)
	for _, port := range p.PortNames() {
		if spec.Ports == nil {
			spec.Ports = map[string]order.Port{}
		}
		as := order.Port{Number: v.member.Ports[port], Scheme: p.Ports[port].Scheme, By: p.Ports[port].By}
		if secured, err := v.secured(port); secured != "" {
			as.TLS, as.Scheme = true, secured
			if p.Ports[port].Upgrade != nil {
				as.Upgrade = *p.Ports[port].Upgrade
			}
		} else {
			r.fail(err, "ports", port, "tls")
		}
		if p.Ports[port].Network != "" {
			address, err := v.addressOf(port)
			r.fail(err, "ports", port, "network")
			if address != v.Address {
				as.Address = address
			}
		}
		spec.Ports[port] = as
	}
	spec.TLS = v.shows()
	v.secrets = true
	for _, key := range slices.Sorted(maps.Keys(p.Env)) {
		if spec.Env == nil {
			spec.Env = map[string]string{}
		}
		spec.Env[key] = r.text(string(p.Env[key]), "env", key)
	}
	secure := s.Field.Secure(role)
	v.files = true
	for _, file := range slices.Sorted(maps.Keys(p.Files)) {
		if p.Files[file].TLS && !secure {
			continue
		}
		spec.Files = append(spec.Files, r.file(file, p.Files[file]))
	}
	r.guarded(spec, role)
	r.floating(spec, role)
	v.secrets, v.files = false, false
	if p.Validate != nil {
		spec.Validate = r.list(p.Validate.Exec, "validate", "exec")
	}
	if p.Reload != nil {
		spec.Reload = &field.Reload{Signal: p.Reload.Signal, Exec: r.list(p.Reload.Exec, "reload", "exec")}
	}
	for i := range p.Apply {
		spec.Apply = append(spec.Apply, *r.probe("apply."+strconv.Itoa(i), &p.Apply[i]))
	}
	spec.Ready, spec.Alive = r.probe("ready", p.Ready), r.probe("alive", p.Alive)
	for i, v := range p.Vacant {
		at := func(key string) []string { return []string{"vacant", strconv.Itoa(i), key} }
		spec.Vacant = append(spec.Vacant, field.Vacancy{Exec: r.list(v.Exec, at("exec")...), Expect: r.text(v.Expect, at("expect")...), Say: r.text(v.Say, at("say")...)})
	}
	if m := p.Metrics; m != nil && len(m.Show) > 0 {
		port, path := p.Measured()
		spec.Metrics = &order.Metrics{Port: port, Path: path, Names: slices.Sorted(maps.Keys(m.Show))}
	}
	spec.Logs = role.Logs
	spec.Progress, spec.Lag = r.gauge("progress", p.Progress), r.gauge("lag", p.Lag)
	if p.Leader != nil {
		l := *p.Leader
		l.Call = r.call(l.Call, "leader")
		l.IsMe, l.Term = r.text(l.IsMe, "leader", "is_me"), r.text(l.Term, "leader", "term")
		spec.Leader = &l
	}
	if p.Roster != nil {
		l := *p.Roster
		l.Call = r.call(l.Call, "roster")
		l.Each, l.ID = r.text(l.Each, "roster", "each"), r.text(l.ID, "roster", "id")
		l.Name, l.Voter = r.text(l.Name, "roster", "name"), r.text(l.Voter, "roster", "voter")
		spec.Roster = &l
	}
	return spec, errors.Join(r.errs...)
}

// Step renders one step of a procedure about a member; target is who shall lead after a hand-over.
func (s *Scene) Step(name field.MemberName, procedure order.Procedure, index int, target field.MemberName) (field.Step, error) {
	v := s.view(name)
	v.target = target
	role := s.Field.Role(v.member.Role)
	steps := Steps(role.Program, procedure)
	if index >= len(steps) {
		return field.Step{}, fmt.Errorf("%s of role %s has no step %d", procedure, role.Name, index+1)
	}
	step := steps[index]
	r := &renderer{view: v, at: []string{"program", string(procedure), strconv.Itoa(index)}}
	v.secrets = true
	open := r.call(field.Call{HTTP: step.HTTP, TCP: step.TCP, TLS: step.TLS})
	v.secrets = false
	open.Exec = r.list(step.Exec, "exec") // everybody on the node can read it
	step.Call = open
	step.Expect, step.DoneWhen = r.text(step.Expect, "expect"), r.text(step.DoneWhen, "done_when")
	step.Capture = maps.Clone(step.Capture)
	for key, text := range step.Capture {
		step.Capture[key] = r.text(text, "capture", key)
	}
	return step, errors.Join(r.errs...)
}

// Steps are the steps of one of a program's procedures.
func Steps(p *field.Program, procedure order.Procedure) []field.Step {
	if p == nil {
		return nil
	}
	return map[order.Procedure][]field.Step{order.Found: p.Found, order.Join: p.Join, order.Promote: p.Promote, order.Leave: p.Leave,
		order.HandOver: p.HandOver, order.ChangeSecret: p.ChangeSecret, order.Rank: rankSteps(p)}[procedure]
}

// rankSteps is the one step that reads how advanced a stopped member's data is.
func rankSteps(p *field.Program) []field.Step {
	if p.ColdStart == nil {
		return nil
	}
	return []field.Step{{Call: field.Call{Exec: p.ColdStart.Exec}, Capture: map[string]string{"rank": p.ColdStart.Rank}, RetryFor: field.Duration(3 * time.Second)}}
}

// renderer renders text after text and keeps the errors.
type renderer struct {
	view *View
	at   []string
	errs []error
}

func (r *renderer) fail(err error, where ...string) {
	if err != nil {
		r.errs = append(r.errs, &Error{Role: r.view.member.Role, Member: r.view.member.Name, Path: slices.Concat(r.at, where), Err: err})
	}
}

func (r *renderer) text(text string, where ...string) string {
	if !strings.Contains(text, "{{") {
		return text
	}
	out, err := execute(text, r.view)
	r.fail(err, where...)
	return out
}

var (
	unknownField   = regexp.MustCompile(`can't evaluate field (\w+) in type`)
	templatePrefix = regexp.MustCompile(`^template: :?(\d+)?(:\d+)?:? ?(executing "[^"]*" at )?(<[^>]*>: )?(error calling \w+: )?`)
)

func (r *renderer) list(texts []string, where ...string) []string {
	if len(texts) == 0 {
		return nil
	}
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = r.text(t, append(slices.Clone(where), strconv.Itoa(i))...)
	}
	return out
}

func (r *renderer) file(name string, f field.File) order.File {
	content := r.text(f.Template, "files", name, "template")
	usual := "0644"
	if _, key := trust.Has(content); key || secretMark.MatchString(content) || basicMark.MatchString(content) || isSealed(content) {
		usual = "0600"
	}
	mode, err := strconv.ParseUint(cmp.Or(f.Mode, usual), 8, 32)
	if err != nil {
		r.fail(fmt.Errorf("%q is not a file mode; write it in octal, like \"0600\"", f.Mode), "files", name, "mode")
	}
	return order.File{Path: name, Mode: uint32(mode), Content: content, OnChange: f.OnChange, Once: f.Once}
}

func (r *renderer) probe(key string, p *field.Probe) *field.Probe {
	if p == nil {
		return nil
	}
	out := *p
	out.Call = r.call(p.Call, key)
	out.Expect = r.text(p.Expect, key, "expect")
	return &out
}

func (r *renderer) gauge(key string, g *field.Gauge) *field.Gauge {
	if g == nil {
		return nil
	}
	out := *g
	out.Call = r.call(g.Call, key)
	out.Value, out.Most = r.text(g.Value, key, "value"), field.Text(r.text(string(g.Most), key, "most"))
	if _, _, err := out.Limit(); err != nil {
		r.fail(err, key, "most")
	}
	return &out
}

func (r *renderer) call(c field.Call, key ...string) field.Call {
	at := func(rest ...string) []string { return append(slices.Clone(key), rest...) }
	var out field.Call
	if c.HTTP != nil {
		h := *c.HTTP
		r.port(h.Port, at("http", "port")...)
		h.Path, h.Body = r.text(h.Path, at("http", "path")...), r.text(h.Body, at("http", "body")...)
		h.Headers = maps.Clone(h.Headers)
		for name, value := range h.Headers {
			h.Headers[name] = field.Text(r.text(string(value), at("http", "headers", name)...))
		}
		out.HTTP = &h
	}
	if c.TCP != nil {
		t := *c.TCP
		r.port(t.Port, at("tcp", "port")...)
		t.Send, t.Expect = r.text(t.Send, at("tcp", "send")...), r.text(t.Expect, at("tcp", "expect")...)
		out.TCP = &t
	}
	if c.TLS != nil {
		r.port(c.TLS.Port, at("tls", "port")...)
		out.TLS = c.TLS
	}
	out.Exec = r.list(c.Exec, at("exec")...)
	return out
}

// port checks that a probe asks a port that the program has.
func (r *renderer) port(name string, where ...string) {
	_, err := r.view.Port(name)
	r.fail(err, where...)
}

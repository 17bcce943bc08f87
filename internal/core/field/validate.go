package field

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Problem is something in a declaration that has no meaning. Path leads to it, e.g. roles, crews, calls, queue.
type Problem struct {
	Path []string
	Text string
	Hint string
	Key  bool // it is the key itself, not its value, that is wrong
}

// FillDefaults says what was left unsaid.
func FillDefaults(f *Field) {
	if f.Ground.Kind == "" {
		f.Ground.Kind = "local"
	}
	for _, nodes := range [][]Node{f.Nodes, f.Extras} {
		for i := range nodes {
			n := &nodes[i]
			n.labelled = n.labelKey()
			if n.Out == "false" {
				n.Out = ""
			}
		}
	}
	for i := range f.Roles {
		r := &f.Roles[i]
		if r.Kind == "" {
			r.Kind = Worker
		}
		if r.Start == "" {
			r.Start = Together
		}
		if r.Spread == "" {
			r.Spread = SpreadZone
		}
		if r.Program != nil {
			r.Program = r.Program.whole()
		}
		if r.External != nil && r.Kit == "" && r.Program == nil {
			r.Program, r.Members, r.Spread = r.External.program(), 1, SpreadNone
		}
		r.guarded(f)
	}
	Resolve(f)
}

// whole gives the program with each file's on_change said: the program's own where the file says none.
func (p *Program) whole() *Program {
	if p.OnChange == "" || !slices.ContainsFunc(slices.Collect(maps.Values(p.Files)), func(f File) bool { return f.OnChange == "" }) {
		return p
	}
	out := *p
	out.Files = maps.Clone(p.Files)
	for name, f := range out.Files {
		f.OnChange = cmp.Or(f.OnChange, p.OnChange)
		out.Files[name] = f
	}
	return &out
}

// Validate finds what the schema of the file cannot: names that refer to nothing, names given twice, expressions that
// cannot be compiled, steps without a call. Grounds are the kinds of ground that there are, with what each has to say.
func Validate(f *Field, grounds map[string]GroundRules) []Problem {
	v := &validator{Field: f, byName: f.NodesByName(), grounds: grounds}
	for i := range f.Extras {
		if n := &f.Extras[i]; v.byName[n.Name] == nil {
			v.byName[n.Name] = n
		}
	}
	v.nodes()
	v.addresses()
	if len(v.Networks) > MostNetworks {
		v.add([]string{"networks"}, "", "a node has addresses on %d networks at most, and the field names %d", MostNetworks, len(v.Networks))
	}
	for i, n := range v.Networks {
		if slices.Index(v.Networks, n) < i {
			v.add([]string{"networks", strconv.Itoa(i)}, "", "the network %s stands there twice", n)
		}
	}
	for i := range f.Roles {
		v.role(&f.Roles[i])
	}
	v.pins()
	v.neighbours()
	v.settings()
	v.accepted()
	v.validity()
	v.givenSecrets()
	v.notices()
	if b := v.Backup; b.To != "" && !strings.HasPrefix(b.To, "/") {
		v.add([]string{"backup", "to"}, "begin it with /", "%s is no absolute path, and whoever keeps the field runs in no folder of its own", b.To)
	}
	return v.problems
}

type validator struct {
	*Field
	problems []Problem
	byName   map[NodeName]*Node
	grounds  map[string]GroundRules
}

func (v *validator) add(path []string, hint, text string, args ...any) {
	v.problems = append(v.problems, Problem{Path: path, Text: fmt.Sprintf(text, args...), Hint: hint})
}

func (v *validator) nodes() {
	first := map[NodeName]bool{}
	for i, n := range v.Possible() {
		path := []string{"nodes", strconv.Itoa(i), "name"}
		if first[n.Name] {
			v.add(path, "give one of them another name", "there are two nodes named %s", n.Name)
		}
		first[n.Name] = true
		if !NamePattern.MatchString(string(n.Name)) {
			v.add(path, "", "%q cannot be a node's name; %s", n.Name, NameRule)
		}
		for _, d := range []struct {
			key         string
			size, taken float64
		}{{"cpu", n.Size.CPU, n.Reserved.CPU}, {"memory", float64(n.Size.Memory), float64(n.Reserved.Memory)}, {"disk", float64(n.Size.Disk), float64(n.Reserved.Disk)}} {
			if d.size > 0 && d.taken >= d.size {
				v.add([]string{"nodes", strconv.Itoa(i), "reserved", d.key}, "", "all of the %s of %s is reserved for the system, so it could hold nobody", d.key, n.Name)
			}
		}
	}
}

func (v *validator) roleNames() []string {
	names := make([]string, len(v.Roles))
	for i, r := range v.Roles {
		names[i] = string(r.Name)
	}
	return names
}

func (v *validator) refer(path []string, self, target RoleName, word string) {
	switch {
	case target == self:
		v.add(path, "", "%s names itself under %s", self, word)
	case v.Role(target) == nil:
		v.add(path, didYouMean(string(target), v.roleNames()), "%s names a role %q under %s, and there is none", self, target, word)
	}
}

func didYouMean(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "there is " + strings.Join(known, ", ")
}

func (v *validator) role(r *Role) {
	at := func(rest ...string) []string { return append([]string{"roles", string(r.Name)}, rest...) }
	v.logs(r)
	for _, target := range slices.Sorted(maps.Keys(r.After)) {
		v.refer(at("after", string(target)), r.Name, target, "after")
		if n := r.After[target].Number(); n > 0 {
			if t := v.Role(target); t != nil && n > t.Members {
				v.add(at("after", string(target)), "", "%s waits for %d members of %s, which has %d", r.Name, n, target, t.Members)
			}
		}
	}
	for _, key := range slices.Sorted(maps.Keys(r.Calls)) {
		v.refer(at("calls", key), r.Name, r.Calls[key], "calls")
	}
	for _, key := range slices.Sorted(maps.Keys(r.Knows)) {
		v.refer(at("knows", key), r.Name, r.Knows[key], "knows")
		if _, both := r.Calls[key]; both {
			v.add(at("knows", key), "use another word for one of them", "%s has %q under calls and under knows", r.Name, key)
		}
	}
	v.lease(r, at)
	v.floating(r, at)
	if r.Where != "" {
		_, err := CompileWhere(r.Where)
		v.unreadable(at("where"), err)
	}
	for _, s := range []struct {
		key  string
		size Size
	}{{"room", r.Room}, {"ceiling", r.Ceiling}} {
		if s.key == "ceiling" && s.size.Memory > 0 && s.size.Memory < r.Room.Memory {
			v.add(at("ceiling"), "", "the ceiling of %s is %s of memory, less than the room of %s kept for it", r.Name, s.size.Memory, r.Room.Memory)
		}
	}
	if r.External != nil {
		v.outside(r, at)
	} else if r.Program != nil {
		v.program(r.Program, at)
		v.proofs(r)
	}
	v.security(r, at)
	if r.Ceiling.CPU > 0 && r.Ceiling.CPU < r.Room.CPU {
		v.add(at("ceiling"), "", "the ceiling of %s is %g cores, less than the room of %g kept for it", r.Name, r.Ceiling.CPU, r.Room.CPU)
	}
}

func (v *validator) unreadable(path []string, err error) {
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		v.add(path, "expressions are written like  labels.disk == \"nvme\"  or  body.health == \"true\"", "this expression cannot be read: %s", first)
	}
}

func (v *validator) program(p *Program, role func(...string) []string) {
	for _, name := range p.PortNames() {
		if n := p.Ports[name].Network; n != "" && !slices.Contains(v.Networks, n) {
			hint := "name it under networks at the top of the file"
			if len(v.Networks) > 0 {
				hint = didYouMean(n, v.Networks)
			}
			v.add(role("program", "ports", name, "network"), hint, "port %s is on a network %q, and there is none", name, n)
		}
	}
	at := func(rest ...string) []string { return role(append([]string{"program"}, rest...)...) }
	if len(p.Command) > 0 && strings.TrimSpace(p.Command[0]) == "" {
		v.add(at("command", "0"), "", "the name of the program is empty")
	}
	if p.User != "" && p.InsteadOfRoot != "" {
		v.add(at("instead_of_root"), "take one of the two out", "user says whom it runs as already, whoever its agent is")
	}
	if ver := p.Version; ver != nil {
		if re, err := regexp.Compile(ver.Pattern); err != nil {
			v.add(at("version", "pattern"), "regular expressions are written like  Version: ([0-9.]+)", "this pattern cannot be used: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		} else if re.NumSubexp() != 1 {
			v.add(at("version", "pattern"), "put the version in parentheses, as in  Version: ([0-9.]+)", "the pattern has %d groups, and one is needed: the version", re.NumSubexp())
		}
		if len(ver.Exec) == 0 {
			v.add(at("version", "exec"), "", "the command that tells the version is empty")
		}
	}
	for _, name := range p.PortNames() {
		switch port := p.Ports[name]; {
		case port.Port == 0 && (port.From == 0 || port.To == 0):
			v.add(at("ports", name), "write {port: 2379} or {from: 7400, to: 7499}", "port %s has neither a number nor a whole range", name)
		case port.Port != 0 && (port.From != 0 || port.To != 0):
			v.add(at("ports", name), "", "port %s has both a number and a range", name)
		case port.Each != 0 && port.Port == 0:
			v.add(at("ports", name, "each"), "write {port: 7000, each: 1}", "each says how much higher the number of port %s is for each further member, and there is no number to begin with", name)
		case port.From > port.To:
			v.add(at("ports", name), "", "the range of port %s runs backwards", name)
		}
	}
	for _, c := range []struct {
		key  string
		call *Call
	}{{"ready", callOf(p.Ready)}, {"alive", callOf(p.Alive)}} {
		if c.call != nil {
			v.call(*c.call, at(c.key))
		}
	}
	for i := range p.Apply {
		v.call(p.Apply[i].Call, at("apply", strconv.Itoa(i)))
	}
	for _, g := range []struct {
		key   string
		gauge *Gauge
	}{{"progress", p.Progress}, {"lag", p.Lag}} {
		if g.gauge == nil {
			continue
		}
		v.call(g.gauge.Call, at(g.key))
		if _, _, err := g.gauge.Limit(); err != nil && !strings.Contains(string(g.gauge.Most), "{{") {
			v.add(at(g.key, "most"), "", "%s", err)
		}
	}
	if m := p.Metrics; m != nil {
		if _, is := p.Ports[m.Port]; !is {
			v.add(at("metrics", "port"), didYouMean(m.Port, p.PortNames()), "metrics are on a port %q, and the program has none of that name", m.Port)
		}
	}
	if p.Leader != nil {
		v.call(p.Leader.Call, at("leader"))
	}
	if p.Roster != nil {
		v.call(p.Roster.Call, at("roster"))
	}
	if p.ColdStart != nil && len(p.ColdStart.Exec) == 0 {
		v.add(at("cold_start", "exec"), "", "the command that reads a member's data is empty")
	}
	for _, procedure := range p.Procedures() {
		for i, s := range procedure.Steps {
			here := func(rest ...string) []string { return at(append([]string{procedure.Key, strconv.Itoa(i)}, rest...)...) }
			v.call(s.Call, here())
			for _, name := range s.Secret {
				switch _, captured := s.Capture[name]; {
				case !captured:
					v.add(here("secret"), didYouMean(name, slices.Sorted(maps.Keys(s.Capture))), "%q is called secret, and is not captured", name)
				case name == "id":
					v.add(here("secret"), "call another name secret", "id cannot be secret: by it the cluster's list tells the member")
				}
			}
			if s.DoneWhen != "" && p.Roster == nil {
				v.add(here("done_when"), "say how the members of the cluster are asked for (roster); done_when is evaluated on that answer",
					"done_when has nothing to be evaluated on: the program has no roster")
			}
			if s.Of != "" && procedure.Key != "leave" {
				v.add(here("of"), "take it out", "of is for steps of leave only: whoever joins is alive")
			}
		}
	}
	for _, e := range p.Expressions() {
		if strings.Contains(e.Text, "{{") {
			continue // it is compiled when it has been rendered
		}
		if err := CheckExpression(e.Text, e.Sees, e.Yields); err != nil {
			v.add(at(e.Path...), "", "this expression cannot be used: %s", err)
		}
	}
	v.ways(p, at)
	v.secretRules(p, at)
	v.fileNames(p, at)
}

// ways checks that what changes lead to can be done.
func (v *validator) ways(p *Program, at func(...string) []string) {
	check := func(on OnChange, path ...string) {
		switch {
		case on == OnReload && p.Reload == nil:
			v.add(at(path...), "say how it is told to read its files again, such as reload: {signal: HUP}", "on_change says reload, and the program says no way to reload")
		case on == OnApply && len(p.Apply) == 0:
			v.add(at(path...), "say by which calls it takes a change: apply: [{exec: […]}]", "on_change says apply, and the program says no calls to apply a change by")
		}
	}
	check(p.OnChange, "on_change")
	for _, name := range slices.Sorted(maps.Keys(p.Files)) {
		check(p.Files[name].OnChange, "files", name, "on_change")
	}
}

// fileNames refuses config files at places that are taken.
func (v *validator) fileNames(p *Program, at func(...string) []string) {
	for _, name := range slices.Sorted(maps.Keys(p.Files)) {
		if name == "data" {
			v.add(at("files", name), "give the file another name", "data in a member's folder is where its data is")
			v.problems[len(v.problems)-1].Key = true
		}
	}
}

func callOf(p *Probe) *Call {
	if p == nil {
		return nil
	}
	return &p.Call
}

func (v *validator) call(c Call, path []string) {
	ways := 0
	for _, set := range []bool{c.HTTP != nil, c.TCP != nil, c.TLS != nil, len(c.Exec) > 0} {
		if set {
			ways++
		}
	}
	if ways != 1 {
		v.add(path, "", "%s must say exactly one of http, tcp, tls and exec", path[len(path)-1])
	}
}

func (v *validator) pins() {
	var nodes []string
	for _, n := range v.Possible() {
		nodes = append(nodes, string(n.Name))
	}
	for _, role := range slices.Sorted(maps.Keys(v.Place)) {
		r := v.Role(role)
		if r != nil && r.Each != (Each{}) {
			v.add([]string{"place", string(role)}, "take the pins out, or give members a number", "%s has %s, so there is nothing to pin", role, r.Each)
			continue
		}
		if r == nil {
			v.add([]string{"place", string(role)}, didYouMean(string(role), v.roleNames()), "place names a role %q, and there is none", role)
			continue
		}
		if len(v.Place[role]) > r.Members {
			v.add([]string{"place", string(role)}, "", "place pins %d members of %s, which has %d", len(v.Place[role]), role, r.Members)
		}
		for i, n := range v.Place[role] {
			at := []string{"place", string(role), strconv.Itoa(i)}
			switch node := v.byName[n]; {
			case node == nil:
				v.add(at, didYouMean(string(n), nodes), "place names a node %q, and there is none", n)
			case node.Out != "":
				v.add(at, "take the pin out, or bring the node back by taking out its `out`", "place pins %s to %s, which is taken out%s", role, n, reasonOf(node.Out))
			}
		}
	}
}

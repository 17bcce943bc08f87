package field

import (
	"fmt"
	"slices"
	"time"
)

// Each says what a role has members for, where their number follows from something else. At most one of the three is
// set. Role.Members holds the number that came out; see Resolve.
type Each struct {
	Node   bool     `json:"node,omitempty"`     // one on every node that may hold it
	Zone   int      `json:"per-zone,omitempty"` // so many in every zone
	Beside RoleName `json:"beside,omitempty"`   // a companion for each member of that role, on its node
}

// String says it in words, e.g. "one on every node"; empty for a plain number.
func (e Each) String() string {
	switch {
	case e.Node:
		return "one on every node"
	case e.Zone > 0:
		return fmt.Sprintf("%d in every zone", e.Zone)
	case e.Beside != "":
		return "one beside each of " + string(e.Beside)
	}
	return ""
}

// Zone is what the file says of a zone besides the nodes that name it.
type Zone struct {
	About    string          `json:"about,omitempty"`
	Settings map[string]Text `json:"settings,omitempty"`
}

// Data is what the members of a role keep on disk.
type Data struct {
	Size Bytes `json:"size,omitempty"` // what each is expected to grow to; it counts as room on the node's disk
	Keep bool  `json:"keep,omitempty"` // it stays on the node when the member is removed, until the node or the field goes
}

// Keeps tells whether the data of the role's members outlives them.
func (r *Role) Keeps() bool { return r.Data != nil && r.Data.Keep }

// Returns tells whether a member of the role may come back to data that was kept of it. What votes, leads or is let in
// by its cluster comes anew: a cluster does not take back whom it has let go.
func (r *Role) Returns() bool {
	p := r.Program
	return r.Keeps() && !r.Votes && p != nil && p.Leader == nil && len(p.Join) == 0 && len(p.Found) == 0
}

// External is something that is called and never started by us: an existing database, another field's role. What a field
// has of it is one member that watches whether it answers.
type External struct {
	Addresses []string `json:"addresses,omitempty"` // host:port
	Scheme    string   `json:"scheme,omitempty"`    // for URLs; tcp when empty
	Need      int      `json:"need,omitempty"`      // how many must answer; 1 when empty
	Path      string   `json:"path,omitempty"`      // asked by HTTP; a connection is enough when empty
	Authority string   `json:"authority,omitempty"` // who answers for it

	// A role of another field of the same state folder, instead of addresses: what that field says of it is handed over, and follows it.
	Field string   `json:"field,omitempty"`
	Role  RoleName `json:"role,omitempty"`
}

// Linked tells whether the role stands for a role of another field.
func (r *Role) Linked() bool { return r.External != nil && r.External.Field != "" }

// Where says what it is, for people; name is that of the role in this field.
func (e *External) Where(name RoleName) string {
	if e.Field != "" {
		return fmt.Sprintf("%s of %s", e.Role, e.Field)
	}
	return fmt.Sprintf("outside, %s", name)
}

// Links lists the roles that stand for roles of other fields, of those that a role calls or knows, and itself.
func (f *Field) Links(of *Role) []*Role {
	var out []*Role
	for i := range f.Roles {
		r := &f.Roles[i]
		if r.Linked() && (r == of || r.Name == of.Name || slices.Contains(of.Called(), r.Name) || slices.Contains(of.Known(), r.Name)) {
			out = append(out, r)
		}
	}
	return out
}

// watch is the port on which a watcher says what it sees.
const watchPort = "watch"

// watchedFile has the addresses that a watcher of another field's role watches, one a line.
const watchedFile = "watched"

// OutsideProgram is the name by which a watcher of what is outside is started: it is in the agent's own file, whichever program that is.
const OutsideProgram = "lanternfield-outside"

// program is the watcher that stands in the field for what is outside.
func (e *External) program() *Program {
	command := []string{OutsideProgram, "play", "outside", "--listen={{.Address}}:{{.Port \"" + watchPort + "\"}}", fmt.Sprintf("--need=%d", max(1, e.Need))}
	for _, a := range e.Addresses {
		command = append(command, "--to="+a)
	}
	var files map[string]File
	if e.Field != "" { // it follows that role's members
		command = append(command, "--from={{.Dir}}/"+watchedFile)
		files = map[string]File{watchedFile: {Template: "{{range .Watched}}{{.}}\n{{end}}", OnChange: OnItself}}
	}
	if e.Path != "" {
		command = append(command, "--path="+e.Path, "--scheme="+e.Scheme)
	}
	return &Program{Command: command, Files: files, Ports: map[string]Port{watchPort: {From: 7900, To: 7919, Scheme: "http"}}, Stop: Stop{Within: Duration(2 * time.Second)},
		Restart: Restart{After: Duration(500 * time.Millisecond)}, OnChange: OnRestart,
		Ready: &Probe{Call: Call{HTTP: &HTTPCall{Port: watchPort, Path: "/health"}}, Every: Duration(500 * time.Millisecond), Timeout: Duration(3 * time.Second)}}
}

// Accept is a finding that somebody has seen and lives with.
type Accept struct {
	Finding string   `json:"finding"`
	Role    RoleName `json:"role,omitempty"`
	Reason  string   `json:"reason"`
}

// Taken is what one member of the role takes of a node: its room, with its data.
func (r *Role) Taken() Size {
	s := r.Room
	if r.Data != nil {
		s.Disk += r.Data.Size
	}
	return s
}

// With gives the field with those of its extra nodes that are named, and counts members anew. It shares all else.
func (f *Field) With(extras map[NodeName]bool) *Field {
	out := *f
	out.Nodes = make([]Node, 0, len(f.Nodes)+len(extras))
	for _, n := range f.Nodes {
		if !n.Extra {
			out.Nodes = append(out.Nodes, n)
		}
	}
	for _, n := range f.Extras {
		if extras[n.Name] {
			out.Nodes = append(out.Nodes, n)
		}
	}
	out.Roles = slices.Clone(f.Roles)
	Resolve(&out)
	return &out
}

// Possible lists the nodes that are there whatever members want, and all that could be made.
func (f *Field) Possible() []Node {
	if len(f.Extras) == 0 {
		return f.Nodes
	}
	return append(slices.DeleteFunc(slices.Clone(f.Nodes), func(n Node) bool { return n.Extra }), f.Extras...)
}

// SetCount is how many nodes of a set are there whatever members want, how many are there, and how many there could be.
type SetCount struct {
	Least int `json:"least"`
	There int `json:"there"`
	Most  int `json:"most"`
}

// Sets counts the nodes of every set.
func (f *Field) Sets() map[string]SetCount {
	sets := map[string]SetCount{}
	count := func(nodes []Node, add func(*SetCount, *Node)) {
		for i := range nodes {
			if n := &nodes[i]; n.Set != "" {
				c := sets[n.Set]
				add(&c, n)
				sets[n.Set] = c
			}
		}
	}
	count(f.Nodes, func(c *SetCount, n *Node) {
		c.There++
		if !n.Extra {
			c.Least, c.Most = c.Least+1, c.Most+1
		}
	})
	count(f.Extras, func(c *SetCount, _ *Node) { c.Most++ })
	return sets
}

// Runs tells whether a program made for these platforms runs on the node. Where either side says nothing, it does.
func (n *Node) Runs(platforms []string) bool {
	return len(platforms) == 0 || n.Platform == "" || slices.Contains(platforms, n.Platform)
}

// NodesByName indexes the nodes.
func (f *Field) NodesByName() map[NodeName]*Node {
	nodes := make(map[NodeName]*Node, len(f.Nodes))
	for i := range f.Nodes {
		nodes[f.Nodes[i].Name] = &f.Nodes[i]
	}
	return nodes
}

// May lists the nodes that may hold members of a role: not taken out, of a fitting platform, and as `where` says. What
// is in use on them does not matter here.
func (f *Field) May(r *Role) []NodeName {
	m := NewMatcher()
	var names []NodeName
	for i := range f.Nodes {
		n := &f.Nodes[i]
		if ok, err := m.Fits(r.Where, n); n.Out == "" && ok && err == nil && n.Runs(r.Platforms) {
			names = append(names, n.Name)
		}
	}
	return names
}

// Resolve counts the members of roles whose number follows from the nodes, the zones or another role.
func Resolve(f *Field) {
	var count func(r *Role, depth int) int
	count = func(r *Role, depth int) int {
		switch {
		case r.Each.Node:
			r.Members = len(f.May(r))
		case r.Each.Zone > 0:
			zones := map[ZoneName]bool{}
			nodes := f.NodesByName()
			for _, n := range f.May(r) {
				zones[nodes[n].Zone] = true
			}
			r.Members = r.Each.Zone * len(zones)
		case r.Each.Beside != "":
			if target := f.Role(r.Each.Beside); target != nil && depth < len(f.Roles) {
				r.Members = count(target, depth+1)
			}
		}
		return r.Members
	}
	for i := range f.Roles {
		count(&f.Roles[i], 0)
	}
}

// Neighbours lists the roles that a member of the role needs beside it, companions' hosts among them.
func (r *Role) Neighbours() []RoleName {
	if r.Each.Beside == "" || slices.Contains(r.Beside, r.Each.Beside) {
		return r.Beside
	}
	return append(slices.Clone(r.Beside), r.Each.Beside)
}

// Companions lists the roles of which each member of this one gets one at its side.
func (f *Field) Companions(of RoleName) []*Role {
	var out []*Role
	for i := range f.Roles {
		if f.Roles[i].Each.Beside == of {
			out = append(out, &f.Roles[i])
		}
	}
	return out
}

// Apart tells whether members of the two roles must not share a node, whichever of them says so. What a kit says of that holds unless the field
// has one stand beside the other.
func (f *Field) Apart(a, b *Role) bool {
	switch {
	case a == b:
		return false
	case slices.Contains(a.Apart, b.Name), slices.Contains(b.Apart, a.Name):
		return true
	}
	return (a.shuns(b) || b.shuns(a)) && !slices.Contains(a.Neighbours(), b.Name) && !slices.Contains(b.Neighbours(), a.Name)
}

// shuns tells whether the role's kit says that it must not stand beside the other.
func (r *Role) shuns(other *Role) bool {
	return slices.ContainsFunc(r.Shuns, func(what string) bool { return other.Kit == what || slices.Contains(other.Provides, what) })
}

// BesideCycle gives a path of roles that each must stand beside the next, or nil when there is none.
func (f *Field) BesideCycle() []RoleName {
	return f.cycle(func(r *Role) []RoleName { return r.Neighbours() })
}

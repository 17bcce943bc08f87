package render

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/setting"
)

// View is the dot of every template.
type View struct {
	Member, Role, Node, Zone, Address, Dir, Data, Version string
	Founding, Begins                                      bool
	Number                                                int // within the role, from 1; never given to a different member

	scene   *Scene
	member  Member
	target  field.MemberName // who shall lead, in a step that hands over
	secrets bool             // secrets may be used here
	files   bool             // certificates too

	keyMark, chainMark string       // of its certificate, once they are made
	away               *away        // it is none of this field's members; nil where it is
	via                string       // by which call it was reached
	access             *accessScope // what forms of access see besides; nil elsewhere
	proof              *ProofScope  // what a step of a proof sees besides; nil elsewhere
	trace              *tracer      // notes where values come from; nil where nobody asks
}

func (s *Scene) view(name field.MemberName) *View {
	m := s.Members[name]
	v := &View{Member: string(m.Name), Role: string(m.Role), Node: string(m.Node), Zone: string(m.Zone), Address: m.Address,
		Dir: MemberDir(m.NodeDir, m.Name), Founding: m.Founding, Begins: m.Begins, Number: m.Number, scene: s, member: m}
	v.Data = path.Join(v.Dir, "data")
	if role := s.Field.Role(m.Role); role != nil {
		v.Version = role.Version
	}
	return v
}

// AgentFolder is the part of a node's folder that is its agent's alone.
const AgentFolder = "agent"

// LogFile is what a member writes, which its agent keeps where the member cannot put anything else in its place.
func LogFile(nodeDir string, name field.MemberName) string {
	return path.Join(nodeDir, AgentFolder, "logs", string(name)+".log")
}

// MemberDir is a member's folder below its node's.
func MemberDir(nodeDir string, name field.MemberName) string {
	return path.Join(nodeDir, "members", string(name))
}

func (s *Scene) views(names []field.MemberName) []*View {
	views := make([]*View, 0, len(names))
	for _, n := range names {
		if _, ok := s.Members[n]; ok {
			views = append(views, s.view(n))
		}
	}
	return views
}

// Founders are the members that founded this member's cluster.
func (v *View) Founders() []*View { return v.traced(v.scene.views(v.scene.Founders[v.member.Role])) }

// traced lets others note where their values come from, as this one does.
func (v *View) traced(views []*View) []*View {
	for _, x := range views {
		x.trace = v.trace
	}
	return views
}

// Joined are the members admitted so far, this one included.
func (v *View) Joined() []*View {
	names := v.scene.Joined[v.member.Role]
	if !slices.Contains(names, v.member.Name) {
		names = append(slices.Clone(names), v.member.Name)
	}
	return v.traced(v.scene.views(names))
}

// Wanted are all members of the role whose node is there and that are to stay, this one included, whether they run yet or not.
func (v *View) Wanted() []*View { return v.traced(v.scene.views(v.scene.Wanted[v.member.Role])) }

// Leader is the member that led when this one was admitted.
func (v *View) Leader() (*View, error) {
	if v.member.Via == "" {
		return nil, fmt.Errorf("nobody leads while the cluster is founded; guard .Leader with {{if not .Founding}}")
	}
	return v.scene.view(v.member.Via), nil
}

// Port is the number of a port of this member.
func (v *View) Port(name string) (any, error) {
	port, err := v.port(name)
	if err == nil && v.trace != nil {
		return v.trace.mark(v.wordPort(name), strconv.Itoa(port)), nil
	}
	return port, err
}

// wordPort says where a port's number comes from.
func (v *View) wordPort(name string) string {
	if v.via != "" {
		return v.via
	}
	text := fmt.Sprintf("port %s of %s", name, v.member.Name)
	if role := v.scene.Field.Role(v.member.Role); role != nil && role.Program != nil {
		if p := role.Program.Ports[name]; !p.Fixed() {
			text += fmt.Sprintf(", the first free of %d to %d", p.From, p.To)
		}
	}
	return text
}

func (v *View) port(name string) (int, error) {
	if v.away != nil && v.away.fixed > 0 {
		return v.away.fixed, nil
	}
	if port, ok := v.member.Ports[name]; ok {
		if v.scene.Noted != nil {
			v.scene.Noted(v.member.Name, name)
		}
		return port, nil
	}
	return 0, unknown("port", name, slices.Sorted(maps.Keys(v.member.Ports)))
}

// URL is scheme://address:port of a port of this member.
func (v *View) URL(name string) (string, error) {
	port, err := v.port(name)
	if err != nil {
		return "", err
	}
	scheme, err := v.schemeOf(name, "tcp")
	if err != nil {
		return "", err
	}
	address, err := v.addressOf(name)
	if err != nil {
		return "", err
	}
	url := fmt.Sprintf("%s://%s:%d", scheme, address, port)
	if v.trace != nil {
		return v.trace.mark(v.wordPort(name), url), nil
	}
	return url, nil
}

// addressOf is the address on which a port is.
func (v *View) addressOf(port string) (string, error) {
	if v.away != nil {
		return v.away.on(v.Address, v.away.member.Ports[port].Network), nil
	}
	role := v.scene.Field.Role(v.member.Role)
	if role == nil || role.Program == nil {
		return v.Address, nil
	}
	return v.AddressOn(role.Program.Ports[port].Network)
}

// AddressOn is the member's address on a network of the field.
func (v *View) AddressOn(network string) (string, error) {
	if v.away != nil {
		return v.away.on(v.Address, network), nil
	}
	return v.scene.Field.OnNetwork(v.member.Node, v.Address, v.member.Addresses, network)
}

// Listen is address:port of a port of this member, on the network that it is on.
func (v *View) Listen(name string) (string, error) {
	port, err := v.port(name)
	if err != nil {
		return "", err
	}
	address, err := v.addressOf(name)
	return fmt.Sprintf("%s:%d", address, port), err
}

// Calls are the joined members of the role that is called, or known, under that name.
func (v *View) Calls(name string) ([]*View, error) {
	role := v.scene.Field.Role(v.member.Role)
	target, ok := role.Calls[name]
	if !ok {
		target, ok = role.Knows[name]
	}
	if !ok {
		names := slices.Concat(slices.Sorted(maps.Keys(role.Calls)), slices.Sorted(maps.Keys(role.Knows)))
		return nil, unknown("call", name, names)
	}
	if outside := v.scene.Field.Role(target); outside != nil && outside.External != nil {
		views, err := v.outside(outside)
		for _, x := range views {
			x.via = fmt.Sprintf("%s: %s", name, outside.External.Where(outside.Name))
		}
		return v.traced(views), err
	}
	// Of those whose agents say when they are about to go, callers learn it there: one that leads is written to until another does.
	told := v.scene.Field.Role(target).AgentAnswers()
	staying := slices.DeleteFunc(slices.Clone(v.scene.Joined[target]), func(m field.MemberName) bool { return v.scene.Members[m].Leaving && !told })
	views := v.traced(v.scene.views(staying))
	for _, x := range views {
		x.via = fmt.Sprintf("%s: the members of %s", name, target)
	}
	return views, nil
}

// Leads tells whether a member that is called leads its role now.
func (v *View) Leads() (bool, error) {
	if v.via == "" {
		return false, errors.New(`.Leads is of members that are called, such as {{range .Calls "store"}}{{if .Leads}}; what a member is run with cannot follow from what it is itself`)
	}
	return v.member.Leads, nil
}

// Ready tells whether a member that is called works now; of something outside, that is not known, and supposed.
func (v *View) Ready() (bool, error) {
	if v.via == "" {
		return false, errors.New(`.Ready is of members that are called, such as {{range .Calls "store"}}{{if .Ready}}; what a member is run with cannot follow from what it is itself`)
	}
	return v.member.Ready || v.away != nil, nil
}

// Everyone is the joined members of all roles that this one calls or knows, role by role, each once.
func (v *View) Everyone() []*View {
	role := v.scene.Field.Role(v.member.Role)
	var out []*View
	seen := map[string]bool{}
	for _, name := range slices.Concat(slices.Sorted(maps.Keys(role.Calls)), slices.Sorted(maps.Keys(role.Knows))) {
		members, err := v.Calls(name)
		for _, m := range members {
			if err == nil && !seen[m.Member] {
				seen[m.Member] = true
				out = append(out, m)
			}
		}
	}
	return out
}

// PortNamed is the first of those names that is the name of a port of the member; where none is, its first port by name.
func (v *View) PortNamed(names ...string) (string, error) {
	if v.away != nil && v.away.fixed > 0 {
		return names[0], nil
	}
	for _, name := range names {
		if _, ok := v.member.Ports[name]; ok {
			return name, nil
		}
	}
	known := slices.Sorted(maps.Keys(v.member.Ports))
	if len(known) == 0 {
		return "", fmt.Errorf("%s has no port", v.member.Name)
	}
	return known[0], nil
}

// Scheme is that of a port, as in its URL.
func (v *View) Scheme(name string) (string, error) {
	if _, err := v.port(name); err != nil {
		return "", err
	}
	return v.schemeOf(name, "tcp")
}

// HasPort tells whether the member has a port of that name.
func (v *View) HasPort(name string) bool {
	if v.away != nil && v.away.fixed > 0 {
		return false // it is none of ours, whose ports have names
	}
	_, ok := v.member.Ports[name]
	return ok
}

// Setting is the value of one of the member's settings, wherever it was said.
func (v *View) Setting(name string) (string, error) {
	role := v.scene.Field.Role(v.member.Role)
	m := setting.Member{Name: v.member.Name, Role: role, Node: v.scene.Field.Node(v.member.Node)}
	if o := role.Option(name); o != nil && o.From != "" {
		for _, other := range v.scene.Members {
			if other.Role == m.Role.Name && other.Node == v.member.Node {
				m.Here++
			}
		}
	}
	value, ok, err := setting.One(v.scene.Field, m, name)
	switch {
	case err != nil:
		return "", err
	case !ok && value.Option != nil:
		return "", &Missing{Setting: name, Role: m.Role.Name}
	case !ok:
		return "", unknown("setting", name, slices.Concat(role.OptionNames(), slices.Sorted(maps.Keys(role.Settings))))
	}
	if v.trace != nil {
		return v.trace.mark(wordSetting(value), string(value.Value)), nil
	}
	return string(value.Value), nil
}

// Missing says that a setting which its kit requires is not given.
type Missing struct {
	Setting string
	Role    field.RoleName
}

func (e *Missing) Error() string {
	return fmt.Sprintf("the kit of %s requires the setting %s, and nothing says it", e.Role, e.Setting)
}

func capturedNames(m Member) []string { return slices.Sorted(maps.Keys(m.Captured)) }

// ID is the identity under which the cluster itself lists the member: as its roster has it, or as a join captured it
// under the name id.
func (v *View) ID() (string, error) {
	if v.member.ID == "" {
		return "", fmt.Errorf("the cluster has not listed %s yet, so it has no .ID; capture {id: …} as it joins", v.member.Name)
	}
	return v.member.ID, nil
}

// Target is the member that shall lead, where a step hands over.
func (v *View) Target() (*View, error) {
	if v.target == "" {
		return nil, fmt.Errorf("only hand_over has a .Target, who is to lead")
	}
	return v.scene.view(v.target), nil
}

func unknown(what, name string, known []string) error {
	if len(known) == 0 {
		return fmt.Errorf("there is no %s %q; none is declared", what, name)
	}
	if near := field.Nearest(name, known); near != "" {
		return fmt.Errorf("there is no %s %q; did you mean %q?", what, name, near)
	}
	return fmt.Errorf("there is no %s %q; there is %s", what, name, strings.Join(known, ", "))
}

// TemplateNames lists the names that stand behind the dot.
func TemplateNames() []string { return slices.Clone(templateNames) }

// templateNames are the names that stand behind the dot.
var templateNames = []string{"Member", "Role", "Node", "Zone", "Address", "Dir", "Data", "Version", "Founding", "Begins", "Number", "Founders", "Wanted",
	"Joined", "Leader", "Port", "URL", "Calls", "Setting", "Secret", "Captured", "ID", "Target",
	"Everyone", "Leads", "Ready", "Measured", "MetricsPort", "MetricsPath", "HasPort", "PortNamed", "Scheme", "AddressOn", "Listen", "Value", "Space", "Once", "Basic",
	"TLS", "Key", "Certificate", "Authority", "Hosts", "ReadHosts", "User", "Password", "AuthorityFile", "ClientFile", "Access"}

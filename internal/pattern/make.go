package pattern

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/fieldfile"
)

// Survive is what the field shall go on through.
type Survive string

// What a field can be asked to go on through.
const (
	Nothing  Survive = "nothing"
	OneNode  Survive = "node"
	TwoNodes Survive = "two-nodes"
	OneZone  Survive = "zone"
)

// Survives lists the answers, the mildest first.
var Survives = []Survive{Nothing, OneNode, TwoNodes, OneZone}

// String says it for people.
func (s Survive) String() string {
	return map[Survive]string{Nothing: "no loss", OneNode: "the loss of any one node", TwoNodes: "the loss of any two nodes", OneZone: "the loss of any one zone"}[s]
}

// Zone is nodes that fail together.
type Zone struct {
	Name  string
	Nodes int
	Hosts []string // the addresses of its nodes, where they are hosts
}

// Answers are what somebody wants of a new field.
type Answers struct {
	Name      string
	Zones     []Zone
	Ground    field.Ground // of all nodes; this machine where it is empty
	Size      field.Size   // of each node; nothing where it is not known
	Load      string
	Survive   Survive
	Variables map[string]string
	Counts    Counts                               // instead of those that follow from Survive
	Settings  map[field.RoleName]map[string]string // that kits require
}

// ParseZones reads zones with their nodes, such as "north 3, south 3, light 2"; a number alone is nodes without a zone.
func ParseZones(text string) ([]Zone, error) {
	var zones []Zone
	total := 0
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' }) {
		words := strings.Fields(strings.ReplaceAll(part, ":", " "))
		if len(words) == 1 {
			if _, err := strconv.Atoi(words[0]); err == nil {
				words = []string{"", words[0]}
			} else {
				words = append(words, "1")
			}
		}
		if len(words) != 2 {
			return nil, fmt.Errorf("%q is not a zone with a number of nodes; write them like  north 3, south 3, light 2", strings.TrimSpace(part))
		}
		n, err := strconv.Atoi(words[1])
		if err != nil || n < 1 {
			return nil, fmt.Errorf("%q is not a number of nodes; write zones like  north 3, south 3, light 2", words[1])
		}
		if words[0] != "" && !field.NamePattern.MatchString(words[0]) {
			return nil, fmt.Errorf("%q cannot name a zone; %s", words[0], field.NameRule)
		}
		if slices.ContainsFunc(zones, func(z Zone) bool { return z.Name == words[0] }) {
			return nil, fmt.Errorf("the zone %s stands there twice", words[0])
		}
		if total += n; total > field.MostNodes {
			return nil, fmt.Errorf("a field may have at most %d nodes", field.MostNodes)
		}
		zones = append(zones, Zone{Name: words[0], Nodes: n})
	}
	if len(zones) == 0 {
		return nil, fmt.Errorf("at least one node is needed; write zones like  north 3, south 3, light 2, or a number of nodes alone")
	}
	return zones, nil
}

// ParseSize reads the size of a node, such as "2 cores, 4GiB"; nothing where it is empty.
func ParseSize(text string) (field.Size, error) {
	var s field.Size
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' }) {
		part = strings.TrimSpace(part)
		number := strings.TrimSpace(strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(part, "s"), "core"), "cpu"))
		if n, err := strconv.ParseFloat(number, 64); err == nil && n > 0 {
			s.CPU = n
			continue
		}
		b, err := field.ParseBytes(part)
		switch {
		case err != nil || b == 0:
			return s, fmt.Errorf("%q is neither a number of cores nor a size; write  2 cores, 4GiB  or  2 cores, 4GiB, 40GiB", part)
		case s.Memory == 0:
			s.Memory = b
		default:
			s.Disk = b
		}
	}
	return s, nil
}

// Outcome is a field file made from a pattern.
type Outcome struct {
	Data  []byte
	File  *fieldfile.File
	Field *field.Field // what that comes to
	Says  []string     // what it survives and what not, for people
	Kept  bool         // what was asked for is kept
}

// Make makes the field file. It sets the counts and the spread by what shall be survived, and then works out whether it is.
func (p Pattern) Make(a Answers) (*Outcome, error) {
	if p.Err != nil {
		return nil, p.Err
	}
	if !field.NamePattern.MatchString(a.Name) {
		return nil, fmt.Errorf("%q cannot be a field's name; %s", a.Name, field.NameRule)
	}
	puts := []arrange.Put{arrange.At("", "pattern"), arrange.At(a.Name, "field")}
	for name := range p.File.Field.Place {
		puts = append(puts, arrange.At("", "place", string(name)))
	}
	for _, v := range p.File.Variables {
		value, ok := a.Variables[v.Name]
		if !ok || value == string(v.Value) {
			continue
		}
		path := []string{"variables", v.Name}
		if p.File.HasDefault(v.Name) {
			path = append(path, "default")
		}
		puts = append(puts, arrange.Put{Path: path, Value: value})
	}
	if a.Load != "" && a.Load != p.File.Field.Load {
		puts = append(puts, arrange.At(a.Load, "load"))
	}
	if a.Ground.Kind != "" {
		puts = append(puts, arrange.At(a.ground(), "ground"))
	}
	puts = append(puts, arrange.At(a.nodes(), "nodes"))
	for i := range p.File.Field.Roles {
		puts = append(puts, a.counts(&p.File.Field.Roles[i], p.File)...)
	}
	puts = append(puts, a.needed(p)...)
	data, err := p.File.Put(puts...)
	if err != nil {
		return nil, err
	}
	file, err := fieldfile.Parse(a.Name+".field.yaml", data, nil)
	if err != nil {
		return nil, err
	}
	o := &Outcome{Data: data, File: file, Field: resolve.Draft(file.Field, plan.Live{}, nil)}
	o.Says, o.Kept = survives(o.Field, a.Survive)
	return o, nil
}

// ground writes where the nodes come from.
func (a Answers) ground() string {
	text := "kind: " + a.Ground.Kind
	if a.Ground.User != "" {
		text += "\nuser: " + a.Ground.User
	}
	if a.Ground.Sudo != "" {
		text += "\nsudo: " + a.Ground.Sudo
	}
	return text + "\n"
}

// nodes writes the nodes, a range for each zone, or each host.
func (a Answers) nodes() string {
	var b strings.Builder
	for _, z := range a.Zones {
		for i, host := range z.Hosts {
			fmt.Fprintf(&b, "- name: %s-%d\n", cmp.Or(z.Name, "node"), i+1)
			if z.Name != "" {
				fmt.Fprintf(&b, "  zone: %s\n", z.Name)
			}
			fmt.Fprintf(&b, "  address: %q\n", host)
			if size := a.size(); size != "" {
				fmt.Fprintf(&b, "  size: {%s}\n", size)
			}
		}
		if len(z.Hosts) > 0 {
			continue
		}
		name := z.Name
		if name == "" {
			name = "node"
		}
		if z.Nodes > 1 {
			name += fmt.Sprintf("-{1..%d}", z.Nodes)
		} else {
			name += "-1"
		}
		fmt.Fprintf(&b, "- name: %s\n", name)
		if z.Name != "" {
			fmt.Fprintf(&b, "  zone: %s\n", z.Name)
		}
		if size := a.size(); size != "" {
			fmt.Fprintf(&b, "  size: {%s}\n", size)
		}
	}
	return b.String()
}

// size writes the size of a node.
func (a Answers) size() string {
	var size []string
	if a.Size.CPU > 0 {
		size = append(size, "cpu: "+strconv.FormatFloat(a.Size.CPU, 'f', -1, 64))
	}
	if a.Size.Memory > 0 {
		size = append(size, "memory: "+string(field.TypeSize.Word(float64(a.Size.Memory))))
	}
	if a.Size.Disk > 0 {
		size = append(size, "disk: "+string(field.TypeSize.Word(float64(a.Size.Disk))))
	}
	return strings.Join(size, ", ")
}

func (a Answers) total() int {
	n := 0
	for _, z := range a.Zones {
		n += z.Nodes
	}
	return n
}

// counts sets how many members a role has, and what they are spread over, so that what shall be survived is.
func (a Answers) counts(r *field.Role, f *fieldfile.File) []arrange.Put {
	members, spread := r.Members, r.Spread
	said, counted := a.Counts[r.Name]
	switch {
	case r.Each != (field.Each{}):
		return nil
	case r.Kind == field.Monitor && r.Members == 1: // one that watches is missed by nobody who works
		if counted && said != members {
			return []arrange.Put{arrange.OfRole(r.Name, strconv.Itoa(said), "members")}
		}
		return nil
	}
	losses := map[Survive]int{OneNode: 1, TwoNodes: 2, OneZone: 1}[a.Survive]
	switch {
	case r.Votes && a.Survive == Nothing:
		members = 1
	case r.Votes:
		members = 2*losses + 1
		for a.Survive == OneZone && len(a.Zones) >= 3 && !a.quorumWithoutAZone(members) && members < 9 {
			members += 2
		}
	case a.total() == 1, a.Survive == Nothing:
		members = 1 // more are for surviving, or for load, of which nothing was said
	default:
		members = max(members, losses+1)
	}
	if counted {
		members = said
	} else if most := a.total(); r.Votes && members > most { // more on one node would only look like more
		members = most - (most+1)%2
	}
	switch {
	case a.total() == 1:
		spread = field.SpreadNone
	case a.Survive == OneZone:
		spread = field.SpreadZone
	case len(a.Zones) == 1 && spread == field.SpreadZone:
		spread = field.SpreadNode
	}
	var puts []arrange.Put
	if members != r.Members && (counted || !f.IsVariable("roles", string(r.Name), "members") || members > r.Members) {
		puts = append(puts, arrange.OfRole(r.Name, strconv.Itoa(members), "members"))
	}
	if spread != r.Spread {
		puts = append(puts, arrange.OfRole(r.Name, string(spread), "spread"))
	}
	return puts
}

// quorumWithoutAZone tells whether that many voters, spread over the zones, keep a quorum without the fullest of them.
func (a Answers) quorumWithoutAZone(voters int) bool {
	fullest := (voters + len(a.Zones) - 1) / len(a.Zones)
	return voters-fullest >= quorum.Needed(voters)
}

// survives works out what the field goes on through, and whether that is what was asked for.
func survives(f *field.Field, asked Survive) (says []string, kept bool) {
	p := plan.Make(f, plan.Live{})
	if n := len(p.Unplaced); n > 0 {
		return []string{fmt.Sprintf("%d members fit nowhere: %s", n, p.Unplaced[0].Why)}, false
	}
	nodes := f.NodesByName()
	scene := &whatif.Scene{Roles: whatif.RolesOf(f)}
	for _, m := range p.Adds {
		scene.Members = append(scene.Members, whatif.Member{Name: m.Name, Role: m.Role, Node: m.Node, Zone: nodes[m.Node].Zone, Works: true, Votes: true})
	}
	single := map[field.RoleName]bool{} // one of them is enough for what it is: nobody calls it
	called := map[field.RoleName]bool{}
	for i := range f.Roles {
		for _, c := range f.Roles[i].Called() {
			called[c] = true
		}
	}
	for i := range f.Roles {
		if r := &f.Roles[i]; r.Kind == field.Monitor && !called[r.Name] {
			single[r.Name] = true
		}
	}
	harm := func(c whatif.Case) string {
		var names []string
		for _, l := range c.Loss.Roles {
			if (l.Stopped || l.Through != "") && !single[l.Role] {
				names = append(names, string(l.Role))
			}
		}
		return strings.Join(names, ", ")
	}
	singles, doubles := scene.WorstFailures(200)
	worst := map[Survive]string{}
	for _, c := range singles {
		level := OneNode
		if c.Faults[0].Zone != "" {
			level = OneZone
		}
		if h := harm(c); h != "" && worst[level] == "" {
			worst[level] = fmt.Sprintf("without %s%s, %s would stop", c.Faults[0].Zone, c.Faults[0].Node, h)
		}
	}
	for _, c := range doubles {
		if h := harm(c); h != "" && worst[TwoNodes] == "" && c.Faults[0].Node != "" && c.Faults[1].Node != "" {
			worst[TwoNodes] = fmt.Sprintf("without %s and %s, %s would stop", c.Faults[0].Node, c.Faults[1].Node, h)
		}
	}
	if worst[TwoNodes] == "" {
		worst[TwoNodes] = worst[OneNode]
	}
	if len(f.Nodes) == 1 {
		worst[OneNode], worst[TwoNodes] = "there is only one node", "there is only one node"
	}
	if len(f.Zones()) < 2 {
		worst[OneZone] = "there is only one zone"
	}
	for _, s := range Survives[1:] {
		if worst[s] == "" {
			says = append(says, fmt.Sprintf("It survives %s.", s))
		} else {
			says = append(says, fmt.Sprintf("It does not survive %s: %s.", s, worst[s]))
		}
	}
	return says, worst[asked] == ""
}

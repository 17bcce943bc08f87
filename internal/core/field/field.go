// Package field holds the declared topology of one distributed system: its nodes, zones, roles and the programs that
// play them, with the rules that make such a declaration valid.
package field

import (
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Field is a whole declaration. Nodes and Roles keep the order of the file; ranges of nodes have been expanded and kits
// have been filled in, so that every role carries a Program.
type Field struct {
	Name   string                  `json:"field"`
	About  string                  `json:"about,omitempty"`
	Ground Ground                  `json:"ground"`
	Rules  string                  `json:"rules,omitempty"` // managed: the packet filters of hosts let in to members' ports who calls them alone
	Nodes  []Node                  `json:"nodes"`
	Roles  []Role                  `json:"roles"`
	Place  map[RoleName][]NodeName `json:"place,omitempty"` // pins; a node listed twice holds two

	Networks []string          `json:"networks,omitempty"` // on each of which every node has an address; the first is its main one
	Load     string            `json:"load,omitempty"`     // the load profile by which kits set themselves; none when empty
	Settings map[string]Text   `json:"settings,omitempty"` // for every role that has a setting of that name
	InZone   map[ZoneName]Zone `json:"zones,omitempty"`    // what is said of zones
	Accepted []Accept          `json:"accepted,omitempty"`
	History  History           `json:"history,omitzero"`
	Trust    Trust             `json:"trust,omitzero"`

	Backup Backup `json:"backup,omitzero"`

	Notices Notices `json:"notices,omitzero"`

	Secrets map[string]GivenSecret `json:"secrets,omitempty"` // that are given, not made

	// Extras are the nodes of sets that are made when members want them, as they are declared. In what a field comes to (resolve.Draft)
	// those that are wanted stand in Nodes too, after all others.
	Extras []Node `json:"extras,omitempty"`
}

// Backup says where whoever keeps a field backs its state up to, how often, and how many backups stay.
type Backup struct {
	To    string   `json:"to,omitempty"`    // a folder; nothing is backed up when empty
	Every Duration `json:"every,omitempty"` // a day when 0
	Keep  int      `json:"keep,omitempty"`  // 7 when 0
}

// What holds of backups where a field says nothing.
const (
	BackupEvery = 24 * time.Hour
	BackupKeep  = 7
)

// History says how much of what happened is kept in detail. Older detail is condensed: what was deployed, who came and went, who votes and
// what was taken down stay.
type History struct {
	Detail Duration `json:"detail,omitempty"` // how long; 90 days where nothing is said
	Events int      `json:"events,omitempty"` // how many events at most; a million where nothing is said
}

// What is kept in detail where a field says nothing.
const (
	HistoryDetail = 90 * 24 * time.Hour
	HistoryEvents = 1_000_000
)

// Node is a machine that can hold members.
type Node struct {
	Name   NodeName          `json:"name"`
	Zone   ZoneName          `json:"zone,omitempty"`
	Size   Size              `json:"size,omitzero"`
	Labels map[string]string `json:"labels,omitempty"`

	About     string            `json:"about,omitempty"`
	Reserved  Size              `json:"reserved,omitzero"`  // for the system: members get the rest of the size
	Platform  string            `json:"platform,omitempty"` // operating system and architecture, e.g. linux/arm64
	Out       Text              `json:"out,omitempty"`      // taken out: it holds nobody; true, or the reason
	Price     float64           `json:"price,omitempty"`    // money per hour, in the field's one currency
	Settings  map[string]Text   `json:"settings,omitempty"`
	Address   string            `json:"address,omitempty"`   // its main one, where the file says it; the ground gives one otherwise
	Addresses map[string]string `json:"addresses,omitempty"` // by network, likewise
	Ground    Ground            `json:"ground,omitzero"`     // that it comes from, where that is another than the field's
	Set       string            `json:"set,omitempty"`       // of nodes that are made as members want them
	Extra     bool              `json:"extra,omitempty"`     // it is there only while members want it

	Shared bool    `json:"shared,omitempty"` // other fields that say so of a node of this name have the same machine
	Others *Others `json:"others,omitempty"` // what they keep of it; found out by resolve.Surrounded, not declared
	Found  Size    `json:"found,omitzero"`   // what it has as it was looked at last; likewise

	labelled string // the labels in one text, for comparing
}

// Size is an amount of what a node offers or a member takes; zero means that nothing was said.
type Size struct {
	CPU    float64 `json:"cpu,omitempty"`    // cores
	Memory Bytes   `json:"memory,omitempty"` // bytes
	Disk   Bytes   `json:"disk,omitempty"`   // bytes
}

// Role is a part of the system that one program plays.
type Role struct {
	Name     RoleName            `json:"name"`
	About    string              `json:"about,omitempty"`
	Kind     Kind                `json:"kind,omitempty"`
	Kit      string              `json:"kit,omitempty"`
	Version  string              `json:"version,omitempty"`
	Members  int                 `json:"members"`
	Votes    bool                `json:"votes,omitempty"`
	Start    Start               `json:"start,omitempty"`
	Stop     Start               `json:"stop,omitempty"` // how its members are stopped: together or one by one
	Spread   Spread              `json:"spread,omitempty"`
	Where    string              `json:"where,omitempty"` // an expr-lang expression over name, zone, labels, size
	Room     Size                `json:"room,omitzero"`
	Ceiling  Size                `json:"ceiling,omitzero"`
	After    map[RoleName]Gate   `json:"after,omitempty"`
	Calls    map[string]RoleName `json:"calls,omitempty"`
	Knows    map[string]RoleName `json:"knows,omitempty"`
	Settings map[string]Text     `json:"settings,omitempty"`
	Late     *Late               `json:"late,omitempty"` // what becomes of a rollout when a member takes too long
	Logs     *Logs               `json:"logs,omitempty"` // where its members' lines go, besides the file on their node
	Program  *Program            `json:"program,omitempty"`
	Proofs   map[string]Proof    `json:"proofs,omitempty"`   // besides those of its program
	TLS      Switch              `json:"tls,omitempty"`      // whether its members speak TLS, where it says so
	Lease    *Lease              `json:"lease,omitempty"`    // where it says who leads
	Floating *Floating           `json:"floating,omitempty"` // an address that one of its members has at a time
	Names    []string            `json:"names,omitempty"`    // DNS names and addresses under which clients reach it

	Each       Each                           `json:"each,omitzero"`         // what Members follows from, where it is no plain number
	Beside     []RoleName                     `json:"beside,omitempty"`      // roles of which a member must be on the same node
	Apart      []RoleName                     `json:"apart,omitempty"`       // roles of which none may be on the same node
	External   *External                      `json:"external,omitempty"`    // it is not ours: it is only watched
	Data       *Data                          `json:"data,omitempty"`        // what members keep on disk
	SettingsOf map[MemberName]map[string]Text `json:"settings_of,omitempty"` // of single members

	Platforms    []string          `json:"platforms,omitempty"`    // that the program runs on; any when empty
	Provides     []string          `json:"provides,omitempty"`     // what its members are to those who call them
	Wants        map[string]string `json:"wants,omitempty"`        // under which name it calls or knows whom: what that one must provide
	Options      []Option          `json:"options,omitempty"`      // the settings that its kit knows
	Shuns        []string          `json:"shuns,omitempty"`        // what its kit says it must not stand beside: names of kits, or of what roles provide
	Experimental string            `json:"experimental,omitempty"` // why the kit is not to be relied on yet
	Licensed     string            `json:"licensed,omitempty"`     // the licence that counts cores, where there is one
}

// Kind is the part that a role plays in the system.
type Kind string

// The kinds of role.
const (
	Master  Kind = "master"
	Broker  Kind = "broker"
	Worker  Kind = "worker"
	Monitor Kind = "monitor"
	Entry   Kind = "entry"
)

// Start is the order in which the first members of a role are started.
type Start string

// The ways to start a role.
const (
	Together  Start = "together"   // all at once; all of them found the cluster
	OneByOne  Start = "one-by-one" // each when the one before it is ready; the first founds
	SeedFirst Start = "seed-first" // the first alone, then the others at once; the first founds
)

// Spread is what the members of a role are kept apart by.
type Spread string

// The ways to spread members.
const (
	SpreadZone Spread = "zone"
	SpreadNode Spread = "node"
	SpreadNone Spread = "none"
)

// Gate is the condition that a role sets on another before its own members may start: quorum, all, first or a number.
type Gate string

// The gates that have names.
const (
	GateQuorum Gate = "quorum"
	GateAll    Gate = "all"
	GateFirst  Gate = "first"
	GateProof  Gate = "proof" // all are ready, and every proof of the role has passed
)

// Role finds a role by name; nil when there is none.
func (f *Field) Role(name RoleName) *Role {
	if i := slices.IndexFunc(f.Roles, func(r Role) bool { return r.Name == name }); i >= 0 {
		return &f.Roles[i]
	}
	return nil
}

// Node finds a node by name; nil when there is none.
func (f *Field) Node(name NodeName) *Node {
	for i := range f.Nodes { // which are not copied
		if f.Nodes[i].Name == name {
			return &f.Nodes[i]
		}
	}
	return nil
}

// Zones lists the zones in the order in which the nodes name them.
func (f *Field) Zones() []ZoneName {
	var zones []ZoneName
	seen := map[ZoneName]bool{}
	for _, n := range f.Nodes {
		if !seen[n.Zone] {
			seen[n.Zone] = true
			zones = append(zones, n.Zone)
		}
	}
	return zones
}

// Needs gives what the role waits for before its members may start: what `after` says, and for each role that it
// `calls` a quorum where that role's members vote, else one ready member. `after` wins where both name a role.
func (f *Field) Needs(role *Role) map[RoleName]Gate {
	needs := make(map[RoleName]Gate, len(role.After)+len(role.Calls))
	for _, called := range role.Calls {
		needs[called] = GateFirst
		if r := f.Role(called); r != nil && r.Votes {
			needs[called] = GateQuorum
		}
	}
	maps.Copy(needs, role.After)
	return needs
}

// Called lists the roles that this one calls, each once, by name.
func (r *Role) Called() []RoleName {
	return slices.Compact(slices.Sorted(maps.Values(r.Calls)))
}

// Known lists the roles of which this one is told without waiting for them, each once, by name.
func (r *Role) Known() []RoleName {
	return slices.Compact(slices.Sorted(maps.Values(r.Knows)))
}

// Founds tells whether the member at this place among the first members of a role founds the cluster.
func (r *Role) Founds(index int) bool { return r.Start == Together || index == 0 }

// StopsOneByOne tells whether members of the role are stopped one by one: where the role says so, and else where they vote or
// one of them leads.
func (r *Role) StopsOneByOne() bool {
	if r.Stop != "" {
		return r.Stop == OneByOne
	}
	return r.Votes || r.Program != nil && r.Program.Leader != nil
}

// Cycle gives a path of roles that wait for each other, first and last the same, or nil when there is none.
func (f *Field) Cycle() []RoleName {
	return f.cycle(func(r *Role) []RoleName { return slices.Sorted(maps.Keys(f.Needs(r))) })
}

// cycle walks along edges between roles until it meets one again.
func (f *Field) cycle(edges func(*Role) []RoleName) []RoleName {
	const (
		walking = 1
		done    = 2
	)
	mark := map[RoleName]int{}
	var path, cycle []RoleName
	var walk func(name RoleName) bool
	walk = func(name RoleName) bool {
		mark[name] = walking
		path = append(path, name)
		for _, next := range edges(f.Role(name)) {
			if f.Role(next) == nil || mark[next] == done {
				continue
			}
			if mark[next] == walking {
				cycle = append(slices.Clone(path[slices.Index(path, next):]), next)
				return true
			}
			if walk(next) {
				return true
			}
		}
		path = path[:len(path)-1]
		mark[name] = done
		return false
	}
	for _, r := range f.Roles {
		if mark[r.Name] == 0 && walk(r.Name) {
			return cycle
		}
	}
	return nil
}

// Stages orders the roles for deployment: a role stands in the first stage after all that it waits for. Roles of one
// stage keep the order of the file. A field with a cycle has no order; see Cycle.
func (f *Field) Stages() [][]RoleName {
	level := map[RoleName]int{}
	var depth func(name RoleName, above int) int
	depth = func(name RoleName, above int) int {
		if l, ok := level[name]; ok || above > len(f.Roles) {
			return l
		}
		l := 0
		for next := range f.Needs(f.Role(name)) {
			if f.Role(next) != nil {
				l = max(l, depth(next, above+1)+1)
			}
		}
		level[name] = l
		return l
	}
	var stages [][]RoleName
	for _, r := range f.Roles {
		l := depth(r.Name, 0)
		for len(stages) <= l {
			stages = append(stages, nil)
		}
		stages[l] = append(stages[l], r.Name)
	}
	return slices.DeleteFunc(stages, func(s []RoleName) bool { return len(s) == 0 })
}

// Text is a value that the file may write as text, number or truth; it is kept as written.
type Text string

// UnmarshalJSON takes any scalar.
func (t *Text) UnmarshalJSON(data []byte) error {
	s := string(data)
	if strings.HasPrefix(s, `"`) {
		var plain string
		if err := json.Unmarshal(data, &plain); err != nil {
			return err
		}
		s = plain
	}
	*t = Text(s)
	return nil
}

// Number is the count that a gate such as "2" asks for; 0 for the gates that have names.
func (g Gate) Number() int {
	n, err := strconv.Atoi(string(g))
	if err != nil {
		return 0
	}
	return n
}

// UnmarshalJSON takes a name or a number.
func (g *Gate) UnmarshalJSON(data []byte) error {
	*g = Gate(strings.Trim(string(data), `"`))
	return nil
}

package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/footprint"
)

// OfNode lists what can be said of a node.
func OfNode(f *field.Field, n *field.Node, entry string) []Row {
	s := &sheet{group: "the node"}
	at := func(path ...string) []string { return append([]string{"nodes", string(n.Name)}, path...) }
	note, help := "", "a range keeps its length when it is renamed"
	if n.Set != "" {
		note, help = "all of the set", "all its nodes are named after it; what is changed here is changed for all of them"
	} else if entry != string(n.Name) {
		note = "one of a range; what is changed here is changed for it alone"
	}
	s.add(Row{Label: "name", Value: entry, Note: note, Kind: Rename, What: arrange.ANode, Help: help})
	if n.Set == "" {
		s.add(Row{Label: "zone", Value: string(n.Zone), Path: at("zone"), Help: "what fails together; a name that is new makes a new zone"})
	} else {
		s.set(f, n.Set, at)
	}
	s.add(Row{Label: "about", Value: n.About, Path: at("about")})
	s.add(Row{Label: "shared", Value: strconv.FormatBool(n.Shared), Kind: Choice, Options: []string{"true", "false"}, Path: at("shared"), Help: "other fields that say so of a node of this name have the same machine"})
	if n.Address != "" || n.Set == "" && len(n.Addresses) == 0 {
		s.add(Row{Label: "address", Value: n.Address, Kind: Plain, Path: at("address"), Help: "its main one; the ground gives it one when empty"})
	}
	for _, network := range slices.Sorted(maps.Keys(n.Addresses)) {
		s.add(Row{Label: "address on " + network, Value: n.Addresses[network], Kind: Plain, Path: at("addresses", network)})
	}
	s.add(Row{Label: "taken out", Value: string(n.Out), Path: at("out"), Help: "the reason why it holds nobody; empty brings it back"})
	s.add(Row{Label: "platform", Value: n.Platform, Path: at("platform"), Help: "such as linux/arm64"})
	s.add(Row{Label: "labels", Value: labels(n.Labels), Kind: Plain, Path: at("labels"), Help: "such as {disk: nvme}"})
	price := ""
	if n.Price > 0 {
		price = strconv.FormatFloat(n.Price, 'f', -1, 64)
	}
	s.add(Row{Label: "price", Value: price, Kind: Plain, Path: at("price"), Help: "money per hour"})
	s.ground(f, n, at)
	s.group = "size"
	first := len(s.rows)
	s.size("size", n.Size, at, true)
	for i, found := range []string{strconv.FormatFloat(n.Found.CPU, 'f', -1, 64), n.Found.Memory.String(), n.Found.Disk.String()} {
		if r := &s.rows[first+i]; r.Value == "" && n.Found != (field.Size{}) {
			r.Note = found + ", as it was found there"
		}
	}
	s.size("reserved", n.Reserved, at, false)
	s.group = "the end"
	out := "take the node out of the file"
	if n.Set != "" {
		out = "take the whole set out of the file"
	}
	s.add(Row{Label: out, Kind: Drop, Path: at()})
	return s.rows
}

// ground lists where a node comes from, and how it is reached. What the field says holds where the node says nothing.
func (s *sheet) ground(f *field.Field, n *field.Node, at func(...string) []string) {
	s.group = "where it comes from"
	note := ""
	if n.Ground.Kind == "" {
		note = f.GroundOf(n) + ", as the field says"
	}
	s.add(Row{Label: "ground", Value: n.Ground.Kind, Note: note, Path: at("ground", "kind"), Help: "local: this machine; ssh: a host that is reached by SSH; join: a machine that joins by an invitation"})
	if f.GroundOf(n) != field.GroundSSH {
		return
	}
	said := func(label, value, all, help string) {
		note := ""
		if value == "" && all != "" {
			note = all + ", as the field says"
		}
		s.add(Row{Label: label, Value: value, Note: note, Path: at("ground", label), Help: help})
	}
	said("host", n.Ground.Host, "", "by what SSH knows it, where that is not its address")
	said("user", n.Ground.User, f.Ground.User, "as whom it is logged in to")
	said("key", n.Ground.Key, f.Ground.Key, "the file of the private key")
	said("through", n.Ground.Through, f.Ground.Through, "the host through which it is reached")
	said("sudo", n.Ground.Sudo, f.Ground.Sudo, "never, or always: everything there is done as root, through sudo that asks for no password")
	said("folder", n.Ground.Folder, f.Ground.Folder, "there, in which what is ours lies")
}

// set lists what can be said of the set that a node comes from.
func (s *sheet) set(f *field.Field, set string, at func(...string) []string) {
	var zones []string
	for _, n := range f.Possible() {
		if z := string(n.Zone); n.Set == set && z != "" && !slices.Contains(zones, z) {
			zones = append(zones, z)
		}
	}
	count := f.Sets()[set]
	s.add(Row{Label: "least", Value: strconv.Itoa(count.Least), Kind: Plain, Path: at("set", "least"), Help: "so many of its nodes are there whatever members want"})
	s.add(Row{Label: "most", Value: strconv.Itoa(count.Most), Note: fmt.Sprintf("%d wanted", count.There), Kind: Plain, Path: at("set", "most"), Help: "no more than so many are made"})
	s.add(Row{Label: "zones", Value: "[" + strings.Join(zones, ", ") + "]", Kind: Plain, Path: at("zones"), Help: "of its nodes, in turn"})
}

func labels(l map[string]string) string {
	if len(l) == 0 {
		return ""
	}
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(l)) {
		parts = append(parts, k+": "+l[k])
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// OfZone lists what can be said of a zone.
func OfZone(f *field.Field, z field.ZoneName) []Row {
	s := &sheet{group: "the zone"}
	s.add(Row{Label: "name", Value: string(z), Kind: Rename, What: arrange.AZone, Help: "all its nodes follow, and what asks for it"})
	s.add(Row{Label: "about", Value: f.InZone[z].About, Path: []string{"zones", string(z), "about"}})
	return s.rows
}

// Variable is a variable of the file, as package fieldfile has it.
type Variable struct{ Name, About, Value, Note string }

// OfField lists what can be said of the whole field.
func OfField(f *field.Field, variables []Variable, draft, live footprint.Footprint) []Row {
	s := &sheet{group: "the field"}
	s.add(Row{Label: "about", Value: f.About, Path: []string{"about"}, Help: "what it is for"})
	loads := map[string]bool{}
	for _, r := range f.Roles {
		for _, o := range r.Options {
			for l := range o.Loads {
				loads[l] = true
			}
		}
	}
	s.add(Row{Label: "load", Value: f.Load, Kind: Choice, Options: slices.Sorted(maps.Keys(loads)), Path: []string{"load"}, Help: "the load profile by which kits set themselves"})
	if len(variables) > 0 {
		s.group = "variables"
	}
	for _, v := range variables {
		s.add(Row{Label: v.Name, Value: v.Value, Note: v.Note, Help: v.About, Kind: Plain, Path: []string{"variables", v.Name}})
	}
	if len(f.Settings) > 0 {
		s.group = "settings for every role"
	}
	for _, name := range slices.Sorted(maps.Keys(f.Settings)) {
		s.add(Row{Label: name, Value: string(f.Settings[name]), Kind: Plain, Path: []string{"settings", name}})
	}
	s.group = "sets of nodes, made as members want them"
	sets := f.Sets()
	for _, name := range slices.Sorted(maps.Keys(sets)) {
		c, at := sets[name], func(path ...string) []string { return append([]string{"nodes", name}, path...) }
		s.add(Row{Label: name + ", least", Value: strconv.Itoa(c.Least), Kind: Plain, Path: at("set", "least"), Help: "so many of its nodes are there whatever members want"})
		s.add(Row{Label: name + ", most", Value: strconv.Itoa(c.Most), Note: fmt.Sprintf("%d wanted", c.There), Kind: Plain, Path: at("set", "most"), Help: "no more than so many are made"})
		s.add(Row{Label: "take the set out", Kind: Drop, Path: at(), Note: name})
	}
	s.group = "what it takes, and what runs takes"
	running := map[string]string{}
	for _, l := range live.Lines() {
		running[l[0]] = l[1]
	}
	for _, l := range draft.Lines() {
		note := ""
		if live.Members > 0 && running[l[0]] != l[1] {
			note = "now " + running[l[0]]
		}
		s.add(Row{Label: l[0], Value: l[1], Note: note, Kind: Told, Help: "kept free for the members of the draft, and the most that they may take"})
	}
	s.group = "for later"
	s.add(Row{Label: "keep the field as a pattern", Kind: Keep, Help: "of your own, with its variables; `lanternfield new` offers it then"})
	return s.rows
}

// Package tosca carries a field over to OASIS TOSCA, the Simple Profile in YAML version 1.3
// (docs.oasis-open.org/tosca/TOSCA-Simple-Profile-YAML/v1.3), and back.
//
// Nodes become node templates of tosca.nodes.Compute, zones groups of them, and roles node templates of a type of our own
// that is derived from tosca.nodes.SoftwareComponent and defined in the template itself.
package tosca

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"lanternfield/internal/core/field"
)

// Version is the one that is written, and read.
const Version = "tosca_simple_yaml_1_3"

// The types of our own.
const (
	roleType  = "lanternfield.nodes.Role"
	callsType = "lanternfield.relationships.Calls"
	knowsType = "lanternfield.relationships.Knows"
	afterType = "lanternfield.relationships.After"
	zoneType  = "tosca.groups.Root"
)

type m = yaml.MapSlice

func item(key string, value any) yaml.MapItem { return yaml.MapItem{Key: key, Value: value} }

// Export writes a field as a service template, and lists what a template of this version has no words for.
func Export(f *field.Field) (data []byte, lost []string, err error) {
	e := &exporter{f: f}
	templates := m{}
	for i := range f.Nodes {
		templates = append(templates, item(string(f.Nodes[i].Name), e.node(&f.Nodes[i])))
	}
	for i := range f.Roles {
		name := string(f.Roles[i].Name)
		if f.Node(field.NodeName(name)) != nil {
			return nil, nil, fmt.Errorf("a role and a node are both named %s, and in a service template names are unique; rename one of them", name)
		}
		templates = append(templates, item(name, e.role(&f.Roles[i])))
	}
	topology := m{}
	if f.About != "" {
		topology = append(topology, item("description", f.About))
	}
	topology = append(topology, item("node_templates", templates))
	if zones := e.zones(); len(zones) > 0 {
		topology = append(topology, item("groups", zones))
	}
	doc := m{item("tosca_definitions_version", Version), item("metadata", m{item("template_name", f.Name), item("template_author", "Lantern Field"), item("template_version", "1.0")}),
		item("description", "The field "+f.Name+"."), item("node_types", nodeTypes()), item("relationship_types", relationshipTypes()), item("topology_template", topology)}
	e.also()
	var b bytes.Buffer
	if err := yaml.NewEncoder(&b, yaml.IndentSequence(true), yaml.UseLiteralStyleIfMultiline(true)).Encode(doc); err != nil {
		return nil, nil, fmt.Errorf("the service template cannot be written: %w", err)
	}
	return b.Bytes(), e.lost, nil
}

func nodeTypes() m {
	prop := func(typ string) m { return m{item("type", typ), item("required", false)} }
	requirement := func(name, relationship string) m {
		return m{item(name, m{item("capability", "tosca.capabilities.Node"), item("node", roleType), item("relationship", relationship), item("occurrences", []any{0, "UNBOUNDED"})})}
	}
	return m{item(roleType, m{
		item("derived_from", "tosca.nodes.SoftwareComponent"),
		item("description", "A part of the system that one program plays, with its members."),
		item("properties", m{item("kind", prop("string")), item("kit", prop("string")), item("members", prop("integer")), item("each", prop("tosca.datatypes.json")),
			item("votes", prop("boolean")), item("start", prop("string")), item("spread", prop("string")), item("where", prop("string")),
			item("room_cpu", prop("float")), item("room_memory", prop("scalar-unit.size")), item("room_disk", prop("scalar-unit.size")),
			item("settings", m{item("type", "map"), item("required", false), item("entry_schema", m{item("type", "string")})}),
			item("beside", list()), item("apart", list()), item("pinned", list()), item("program", prop("tosca.datatypes.json"))}),
		item("requirements", []any{requirement("calls", callsType), requirement("knows", knowsType), requirement("after", afterType)}),
	})}
}

func list() m {
	return m{item("type", "list"), item("required", false), item("entry_schema", m{item("type", "string")})}
}

func relationshipTypes() m {
	named := func(base, prop, about string) m {
		return m{item("derived_from", base), item("description", about), item("properties", m{item(prop, m{item("type", "string")})})}
	}
	return m{item(callsType, named("tosca.relationships.ConnectsTo", "name", "Waits for it, and is told its addresses under a name.")),
		item(knowsType, named("tosca.relationships.ConnectsTo", "name", "Is told its addresses under a name.")),
		item(afterType, named("tosca.relationships.DependsOn", "gate", "Starts once the gate is open."))}
}

type exporter struct {
	f    *field.Field
	lost []string
}

func (e *exporter) lose(format string, args ...any) {
	e.lost = append(e.lost, fmt.Sprintf(format, args...))
}

// size writes bytes as a scalar-unit.size, which knows KiB, MiB and so on.
func size(b field.Bytes) string {
	word := string(field.TypeSize.Word(float64(b)))
	for i := range word {
		if word[i] > '9' {
			return word[:i] + " " + word[i:]
		}
	}
	return word + " B"
}

func (e *exporter) node(n *field.Node) m {
	out := m{item("type", "tosca.nodes.Compute")}
	if n.About != "" {
		out = append(out, item("description", n.About))
	}
	host, caps := m{}, m{}
	if n.Size.CPU > 0 {
		if n.Size.CPU != float64(int(n.Size.CPU)) {
			e.lose("node %s: %g cores (a template counts whole ones; the nearest is written)", n.Name, n.Size.CPU)
		}
		host = append(host, item("num_cpus", max(1, int(n.Size.CPU+0.5))))
	}
	if n.Size.Memory > 0 {
		host = append(host, item("mem_size", size(n.Size.Memory)))
	}
	if n.Size.Disk > 0 {
		host = append(host, item("disk_size", size(n.Size.Disk)))
	}
	if len(host) > 0 {
		caps = append(caps, item("host", m{item("properties", host)}))
	}
	if os, arch, ok := strings.Cut(n.Platform, "/"); ok {
		caps = append(caps, item("os", m{item("properties", m{item("architecture", arch), item("type", os)})}))
	}
	if len(caps) > 0 {
		out = append(out, item("capabilities", caps))
	}
	if len(n.Labels) > 0 {
		labels := m{}
		for _, k := range slices.Sorted(maps.Keys(n.Labels)) {
			labels = append(labels, item(k, n.Labels[k]))
		}
		out = append(out, item("metadata", labels))
	}
	for what, set := range map[string]bool{"reserved": n.Reserved != field.Size{}, "out": n.Out != "", "price": n.Price > 0, "settings": len(n.Settings) > 0,
		"addresses": n.Address != "" || len(n.Addresses) > 0, "shared": n.Shared} {
		if set {
			e.lose("node %s: %s", n.Name, what)
		}
	}
	return out
}

func (e *exporter) role(r *field.Role) m {
	p := m{item("kind", string(r.Kind)), item("members", r.Members), item("votes", r.Votes), item("start", string(r.Start)), item("spread", string(r.Spread))}
	add := func(key string, value any, set bool) {
		if set {
			p = append(p, item(key, value))
		}
	}
	add("kit", r.Kit, r.Kit != "")
	if r.Each != (field.Each{}) {
		text, _ := json.Marshal(r.Each)
		add("each", string(text), true)
	}
	add("where", r.Where, r.Where != "")
	add("room_cpu", r.Room.CPU, r.Room.CPU > 0)
	add("room_memory", size(r.Room.Memory), r.Room.Memory > 0)
	add("room_disk", size(r.Room.Disk), r.Room.Disk > 0)
	if len(r.Settings) > 0 {
		settings := m{}
		for _, k := range slices.Sorted(maps.Keys(r.Settings)) {
			settings = append(settings, item(k, string(r.Settings[k])))
		}
		add("settings", settings, true)
	}
	add("beside", words(r.Beside), len(r.Beside) > 0)
	add("apart", words(r.Apart), len(r.Apart) > 0)
	add("pinned", words(e.f.Place[r.Name]), len(e.f.Place[r.Name]) > 0)
	if r.Kit == "" && r.Program != nil {
		text, _ := json.Marshal(r.Program)
		add("program", string(text), true)
	}
	out := m{item("type", roleType)}
	if r.About != "" {
		out = append(out, item("description", r.About))
	}
	if r.Version != "" {
		p = append(m{item("component_version", r.Version)}, p...)
	}
	out = append(out, item("properties", p))
	var requirements []any
	wire := func(kind, typ, prop, value string, to field.RoleName) {
		requirements = append(requirements, m{item(kind, m{item("node", string(to)), item("relationship", m{item("type", typ), item("properties", m{item(prop, value)})})})})
	}
	for _, k := range slices.Sorted(maps.Keys(r.Calls)) {
		wire("calls", callsType, "name", k, r.Calls[k])
	}
	for _, k := range slices.Sorted(maps.Keys(r.Knows)) {
		wire("knows", knowsType, "name", k, r.Knows[k])
	}
	for _, on := range slices.Sorted(maps.Keys(r.After)) {
		wire("after", afterType, "gate", string(r.After[on]), on)
	}
	if len(requirements) > 0 {
		out = append(out, item("requirements", requirements))
	}
	for what, set := range map[string]bool{"ceiling": r.Ceiling != field.Size{}, "data": r.Data != nil, "external": r.External != nil, "settings_of": len(r.SettingsOf) > 0} {
		if set {
			e.lose("role %s: %s", r.Name, what)
		}
	}
	return out
}

func words[T ~string](list []T) []any {
	out := make([]any, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

func (e *exporter) zones() m {
	var out m
	for _, z := range e.f.Zones() {
		if z == "" {
			continue
		}
		var members []any
		for _, n := range e.f.Nodes {
			if n.Zone == z {
				members = append(members, string(n.Name))
			}
		}
		group := m{item("type", zoneType)}
		if about := e.f.InZone[z].About; about != "" {
			group = append(group, item("description", about))
		}
		if len(e.f.InZone[z].Settings) > 0 {
			e.lose("zone %s: settings", z)
		}
		out = append(out, item(string(z), append(group, item("members", members))))
	}
	return out
}

// also lists what of the field as a whole is not carried over.
func (e *exporter) also() {
	for set, n := range e.f.Sets() {
		e.lose("nodes of the set %s are made as members want them: the %d that are wanted now are written, each by itself", set, n.There)
	}
	for what, set := range map[string]bool{"load": e.f.Load != "", "settings": len(e.f.Settings) > 0, "accepted": len(e.f.Accepted) > 0} {
		if set {
			e.lose("the field's %s", what)
		}
	}
	slices.Sort(e.lost)
}

// number reads what a property says as a number.
func number(v any) (float64, bool) {
	switch x := v.(type) {
	case json.Number:
		n, err := x.Float64()
		return n, err == nil
	case string:
		n, err := strconv.ParseFloat(x, 64)
		return n, err == nil
	}
	return 0, false
}

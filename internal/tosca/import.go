package tosca

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/fieldfile"
)

// mostBytes is how large a service template may be.
const mostBytes = 4 << 20

// Imported is a field file made from a service template.
type Imported struct {
	Data []byte
	File *fieldfile.File
	Lost []string // what could not be carried over, with where it stands and why
}

// Import makes a field file out of a service template. What has no place in a field file is listed, never dropped
// silently. The error says what keeps the template from being read at all.
func Import(name string, data []byte) (*Imported, error) {
	plain, err := fieldfile.Plain(name, data, mostBytes)
	if err != nil {
		return nil, err
	}
	root, ok := plain.(map[string]any)
	if !ok {
		return nil, fmt.Errorf("%s: a service template is a set of keys, beginning with tosca_definitions_version: %s", name, Version)
	}
	switch v, _ := root["tosca_definitions_version"].(string); v {
	case Version, "tosca_simple_yaml_1_2", "tosca_simple_yaml_1_1", "tosca_simple_yaml_1_0":
	case "":
		return nil, fmt.Errorf("%s: this is no service template: it lacks tosca_definitions_version", name)
	default:
		return nil, fmt.Errorf("%s: its tosca_definitions_version is %q; %s is read", name, v, Version)
	}
	i := &importer{root: root, types: object(root["node_types"]), names: map[string]string{}, templates: map[string]map[string]any{}}
	topology := object(root["topology_template"])
	i.templatesOf(object(topology["node_templates"]))
	if len(i.roles) == 0 {
		return nil, fmt.Errorf("%s: its topology_template has no node template that could be a role: nothing but machines, or nothing at all", name)
	}
	i.groups(object(topology["groups"]))
	i.policies(topology["policies"])
	i.rest(topology)
	text := i.write(topology)
	file, err := fieldfile.Parse(i.fieldName()+".field.yaml", []byte(text), nil)
	if err != nil {
		return nil, fmt.Errorf("the field file that comes of %s would not be right: %w", name, err)
	}
	slices.Sort(i.lost)
	return &Imported{Data: []byte(text), File: file, Lost: slices.Compact(i.lost)}, nil
}

func object(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

type importer struct {
	root      map[string]any
	types     map[string]any
	names     map[string]string // of templates, as the field has them
	templates map[string]map[string]any
	nodes     []string
	roles     []string
	zone      map[string]string
	members   map[string]int
	place     map[string][]string
	beside    map[string][]string
	lost      []string
}

func (i *importer) lose(format string, args ...any) {
	i.lost = append(i.lost, fmt.Sprintf(format, args...))
}

var notInNames = regexp.MustCompile(`[^a-z0-9-]+`)

// rename makes a name that a field may have, and no other has.
func (i *importer) rename(name string) string {
	out := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
	if out == "" || out[0] < 'a' {
		out = "x-" + out
	}
	out = strings.Trim(out[:min(len(out), 50)], "-")
	taken := func(n string) bool {
		for _, other := range i.names {
			if other == n {
				return true
			}
		}
		return false
	}
	try := out
	for n := 2; taken(try); n++ {
		try = fmt.Sprintf("%s-%d", out, n)
	}
	if try != name {
		i.lose("node_templates.%s: its name; a field has %s for it", name, try)
	}
	return try
}

// base follows derived_from to the first type that the standard itself defines.
func (i *importer) base(typ string) (string, bool) {
	for range 64 {
		if standard[typ] != "" {
			return typ, true
		}
		def := object(i.types[typ])
		next, _ := def["derived_from"].(string)
		if next == "" {
			return typ, false
		}
		typ = next
	}
	return typ, false
}

// standard are the node types of the Simple Profile, with what they are to a field.
var standard = map[string]string{
	"tosca.nodes.Root": "worker", "tosca.nodes.SoftwareComponent": "worker", "tosca.nodes.WebServer": "entry", "tosca.nodes.WebApplication": "worker",
	"tosca.nodes.DBMS": "master", "tosca.nodes.Database": "master", "tosca.nodes.LoadBalancer": "entry", "tosca.nodes.Container.Runtime": "worker",
	"tosca.nodes.Container.Application": "worker", "tosca.nodes.Compute": "node", "tosca.nodes.Abstract.Compute": "node",
	"tosca.nodes.Network": "none", "tosca.nodes.network.Network": "none", "tosca.nodes.network.Port": "none", "tosca.nodes.BlockStorage": "none",
	"tosca.nodes.Storage.BlockStorage": "none", "tosca.nodes.ObjectStorage": "none", "tosca.nodes.Storage.ObjectStorage": "none", "tosca.nodes.Abstract.Storage": "none",
}

func (i *importer) templatesOf(all map[string]any) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		t := object(all[name])
		typ, _ := t["type"].(string)
		if typ == "" {
			i.lose("node_templates.%s: it has no type", name)
			continue
		}
		base, known := i.base(typ)
		if !known {
			i.lose("node_templates.%s: its type %s is defined nowhere in this file; it is taken for a role", name, typ)
		}
		switch standard[base] {
		case "none":
			i.lose("node_templates.%s: a field has nothing like a %s", name, typ)
			continue
		case "node":
			i.names[name] = i.rename(name)
			i.nodes = append(i.nodes, name)
		default:
			i.names[name] = i.rename(name)
			i.roles = append(i.roles, name)
		}
		i.templates[name] = t
	}
	i.members, i.place, i.beside, i.zone = map[string]int{}, map[string][]string{}, map[string][]string{}, map[string]string{}
}

// groups of machines are zones.
func (i *importer) groups(all map[string]any) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		members, _ := object(all[name])["members"].([]any)
		machines := len(members) > 0
		for _, m := range members {
			machines = machines && slices.Contains(i.nodes, fmt.Sprint(m))
		}
		if !machines {
			i.lose("groups.%s: only groups of machines are carried over, as zones", name)
			continue
		}
		zone := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
		if !field.NamePattern.MatchString(zone) {
			i.lose("groups.%s: its name cannot name a zone", name)
			continue
		}
		for _, m := range members {
			i.zone[fmt.Sprint(m)] = zone
		}
	}
}

// policies of scaling say how many members there are.
func (i *importer) policies(list any) {
	all, _ := list.([]any)
	for _, p := range all {
		for name, v := range object(p) {
			policy := object(v)
			typ, _ := policy["type"].(string)
			props := object(policy["properties"])
			n, ok := number(cmp.Or[any](props["default_instances"], props["min_instances"]))
			targets, _ := policy["targets"].([]any)
			if typ != "tosca.policies.Scaling" || !ok || len(targets) == 0 {
				i.lose("policies.%s: a field has nothing like a %s", name, cmp.Or(typ, "policy without a type"))
				continue
			}
			for _, t := range targets {
				i.members[fmt.Sprint(t)] = int(n)
			}
			for key := range props {
				if key != "default_instances" {
					i.lose("policies.%s.properties.%s: a field wants one number of members", name, key)
				}
			}
		}
	}
}

// rest lists the parts of a template that a field has no words for.
func (i *importer) rest(topology map[string]any) {
	for _, key := range slices.Sorted(maps.Keys(i.root)) {
		switch key {
		case "tosca_definitions_version", "topology_template", "description", "metadata":
		case "node_types", "relationship_types":
			for _, typ := range slices.Sorted(maps.Keys(object(i.root[key]))) {
				if !strings.HasPrefix(typ, "lanternfield.") {
					i.lose("%s.%s: types are not carried over, only what is made of them", key, typ)
				}
			}
		default:
			i.lose("%s: a field file has nothing like it", key)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(topology)) {
		if !slices.Contains([]string{"description", "inputs", "node_templates", "groups", "policies"}, key) {
			i.lose("topology_template.%s: a field file has nothing like it", key)
		}
	}
}

func (i *importer) fieldName() string {
	name, _ := object(i.root["metadata"])["template_name"].(string)
	name = strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
	if !field.NamePattern.MatchString(name) {
		return "imported"
	}
	return name
}

// value writes a plain value, or a reference to an input, as YAML.
func (i *importer) value(path string, v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return strconv.Quote(x)
	case bool:
		return strconv.FormatBool(x)
	case json.Number:
		return x.String()
	case map[string]any:
		if input, ok := x["get_input"].(string); ok && len(x) == 1 {
			return "${" + strings.Trim(notInNames.ReplaceAllString(strings.ToLower(input), "-"), "-") + "}"
		}
	}
	i.lose("%s: its value is worked out by the standard's functions, which a field file does not have", path)
	return ""
}

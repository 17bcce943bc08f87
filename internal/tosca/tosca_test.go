package tosca

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/fieldfile"
)

// conforms checks a service template against the rules of the standard that a parser refuses over: the known keys of each
// part (3.10, 3.8, 3.7), types that exist, properties that their type declares, requirements that lead to a template.
func conforms(t *testing.T, data []byte) []string {
	t.Helper()
	plain, err := fieldfile.Plain("t.yaml", data, 8<<20)
	if err != nil {
		t.Fatal(err)
	}
	var wrong []string
	say := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	keys := func(what string, v any, known ...string) map[string]any {
		m := object(v)
		for k := range m {
			if !slices.Contains(known, k) {
				say("%s has the key %s", what, k)
			}
		}
		return m
	}
	root := keys("the template", plain, "tosca_definitions_version", "namespace", "metadata", "description", "dsl_definitions", "repositories", "imports",
		"artifact_types", "data_types", "capability_types", "interface_types", "relationship_types", "node_types", "group_types", "policy_types", "topology_template")
	if root["tosca_definitions_version"] != "tosca_simple_yaml_1_3" {
		say("its version is %v", root["tosca_definitions_version"])
	}
	plainTypes := []string{"string", "integer", "float", "boolean", "timestamp", "list", "map", "scalar-unit.size", "scalar-unit.time", "tosca.datatypes.json"}
	declared := map[string]map[string]any{}
	types := func(section string, more ...string) {
		for name, v := range object(root[section]) {
			def := keys(section+"."+name, v, append(more, "derived_from", "version", "metadata", "description", "attributes", "properties", "capabilities", "requirements", "interfaces", "artifacts")...)
			base, _ := def["derived_from"].(string)
			if !strings.HasPrefix(base, "tosca.") && object(root[section])[base] == nil {
				say("%s.%s is derived from %q", section, name, base)
			}
			declared[name] = object(def["properties"])
			for p, d := range declared[name] {
				prop := keys(name+"."+p, d, "type", "description", "required", "default", "status", "constraints", "key_schema", "entry_schema", "metadata")
				if !slices.Contains(plainTypes, fmt.Sprint(prop["type"])) {
					say("%s.%s has the type %v", name, p, prop["type"])
				}
				if (prop["type"] == "list" || prop["type"] == "map") && prop["entry_schema"] == nil {
					say("%s.%s has no entry_schema", name, p)
				}
			}
		}
	}
	types("node_types")
	types("relationship_types", "valid_target_types")
	topology := keys("topology_template", root["topology_template"], "description", "inputs", "node_templates", "relationship_templates", "groups", "policies", "outputs", "substitution_mappings", "workflows")
	templates := object(topology["node_templates"])
	for name, v := range templates {
		tmpl := keys(name, v, "type", "description", "metadata", "directives", "properties", "attributes", "requirements", "capabilities", "interfaces", "artifacts", "node_filter", "copy")
		typ := fmt.Sprint(tmpl["type"])
		if standard[typ] == "" && declared[typ] == nil {
			say("%s has the type %s", name, typ)
		}
		for p := range object(tmpl["properties"]) {
			if declared[typ][p] == nil && p != "component_version" && p != "admin_credential" {
				say("%s has the property %s, which %s does not declare", name, p, typ)
			}
		}
		requirements, _ := tmpl["requirements"].([]any)
		for _, r := range requirements {
			if len(object(r)) != 1 {
				say("%s has a requirement with %d names", name, len(object(r)))
			}
			for kind, def := range object(r) {
				full := keys(name+" "+kind, def, "node", "capability", "relationship", "node_filter", "occurrences")
				if templates[fmt.Sprint(full["node"])] == nil {
					say("%s %s leads to %v", name, kind, full["node"])
				}
				rel := object(full["relationship"])
				for p := range object(rel["properties"]) {
					if declared[fmt.Sprint(rel["type"])][p] == nil {
						say("%s %s: %v has no property %s", name, kind, rel["type"], p)
					}
				}
			}
		}
	}
	for name, v := range object(topology["groups"]) {
		group := keys(name, v, "type", "description", "metadata", "properties", "members")
		members, _ := group["members"].([]any)
		for _, m := range members {
			if templates[fmt.Sprint(m)] == nil {
				say("the group %s has %v", name, m)
			}
		}
	}
	return wrong
}

func fields(t *testing.T) map[string]*fieldfile.File {
	t.Helper()
	out := map[string]*fieldfile.File{}
	for _, glob := range []string{"../../examples/*.field.yaml", "../fieldfile/testdata/*.field.yaml", "../fieldfile/testdata/good/*.field.yaml"} {
		names, _ := filepath.Glob(glob)
		for _, name := range names {
			f, err := fieldfile.Load(name, "")
			if err != nil {
				t.Fatal(err)
			}
			out[filepath.Base(name)] = f
		}
	}
	return out
}

// TestAFieldGoesThereAndBack exports every field that there is, checks the template, imports it again and compares.
func TestAFieldGoesThereAndBack(t *testing.T) {
	for name, file := range fields(t) {
		data, lost, err := Export(file.Field)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if wrong := conforms(t, data); len(wrong) > 0 {
			t.Errorf("%s: %v", name, wrong)
		}
		again, _, _ := Export(file.Field)
		if string(again) != string(data) {
			t.Errorf("%s: it is not always the same", name)
		}
		back, err := Import(name, data)
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, data)
		}
		if len(back.Lost) > 0 {
			t.Errorf("%s: on the way back these were lost: %v", name, back.Lost)
		}
		a, b := file.Field, back.File.Field
		if len(a.Nodes) != len(b.Nodes) || len(a.Roles) != len(b.Roles) || a.Name != b.Name {
			t.Fatalf("%s: %d nodes and %d roles became %d and %d", name, len(a.Nodes), len(a.Roles), len(b.Nodes), len(b.Roles))
		}
		for _, n := range a.Nodes {
			if m := b.Node(n.Name); m == nil || m.Zone != n.Zone || m.Size != n.Size || m.Platform != n.Platform || !maps.Equal(m.Labels, n.Labels) {
				t.Errorf("%s: %+v became %+v", name, n, m)
			}
		}
		for i := range a.Roles {
			x := &a.Roles[i]
			y := b.Role(x.Name)
			if y == nil || x.Kind != y.Kind || x.Votes != y.Votes || x.Spread != y.Spread || x.Start != y.Start || x.Where != y.Where || x.Room != y.Room || x.Each != y.Each ||
				x.Kit != y.Kit || !maps.Equal(x.Calls, y.Calls) || !maps.Equal(x.Knows, y.Knows) || !maps.Equal(x.After, y.After) || !slices.Equal(x.Apart, y.Apart) || len(a.Place[x.Name]) != len(b.Place[x.Name]) {
				t.Errorf("%s: %+v\nbecame\n%+v", name, x, y)
			}
			if x.Each.Node == false && x.Members != y.Members && x.Each.Zone == 0 && x.Each.Beside == "" {
				t.Errorf("%s: %s has %d members, and had %d", name, x.Name, y.Members, x.Members)
			}
		}
		if strings.Contains(name, "whole") != (len(lost) > 0) {
			t.Errorf("%s: lost %v", name, lost)
		}
	}
}

const foreign = `tosca_definitions_version: tosca_simple_yaml_1_3
description: A shop.
metadata: {template_name: Web Shop}
imports: [other.yaml]
node_types:
  shop.Web: {derived_from: tosca.nodes.WebApplication}
topology_template:
  inputs:
    size: {type: integer, default: 3, description: how many, constraints: [{greater_than: 1}]}
    secret: {type: string}
  node_templates:
    Server_1: {type: tosca.nodes.Compute, capabilities: {host: {properties: {num_cpus: 4, mem_size: 8 GB, cpu_frequency: 2 GHz}}, os: {properties: {type: Linux, architecture: x86_64, version: 12}}}}
    server-2: {type: tosca.nodes.Compute}
    db: {type: tosca.nodes.Database, properties: {port: 5432}, requirements: [{host: Server_1}]}
    web:
      type: shop.Web
      requirements: [{database_endpoint: db}, {dependency: db}, {host: mystery}]
      interfaces: {Standard: {operations: {create: a.sh, start: run.sh}}}
    lb: {type: tosca.nodes.LoadBalancer, requirements: [{application: {node: web}}]}
    disk: {type: tosca.nodes.Storage.BlockStorage}
    odd: {type: acme.Thing, requirements: [{dependency: lb}]}
  groups: {west: {type: tosca.groups.Root, members: [Server_1]}, all: {type: tosca.groups.Root, members: [web, db]}}
  policies: [{scale: {type: tosca.policies.Scaling, targets: [web], properties: {min_instances: 1, default_instances: 4}}}, {near: {type: tosca.policies.Placement, targets: [web]}}]
  outputs: {url: {value: {get_attribute: [lb, ip]}}}
`

func TestAForeignTemplateBecomesAField(t *testing.T) {
	i, err := Import("shop.yaml", []byte(foreign))
	if err != nil {
		t.Fatal(err)
	}
	f := i.File.Field
	if f.Name != "web-shop" || len(f.Nodes) != 2 || f.Nodes[0].Zone != "west" || f.Nodes[0].Size.CPU != 4 || f.Nodes[0].Size.Memory != 8e9 || f.Nodes[0].Platform != "linux/x86_64" {
		t.Errorf("got %+v", f.Nodes)
	}
	web, db, lb := f.Role("web"), f.Role("db"), f.Role("lb")
	if web == nil || db == nil || lb == nil || web.Members != 4 || web.Calls["database-endpoint"] != "db" || web.After["db"] != "all" || db.Kind != field.Master || lb.Kind != field.Entry ||
		lb.Calls["application"] != "web" || f.Place["db"][0] != "server-1" || web.Program.Command[0] != "run.sh" {
		t.Errorf("got %+v\n%s", f.Roles, i.Data)
	}
	lost := strings.Join(i.Lost, "\n")
	for _, want := range []string{"imports:", "node_types.shop.Web", "cpu_frequency", "os.properties.version", "db.properties.port", "mystery", "disk: a field has nothing like a tosca.nodes.Storage.BlockStorage",
		"odd: its type acme.Thing is defined nowhere", "groups.all", "policies.near", "min_instances", "outputs", "inputs.secret: it has no default", "inputs.size.constraints", "Server_1: its name", "only the operation that starts it"} {
		if !strings.Contains(lost, want) {
			t.Errorf("nothing is said of %q:\n%s", want, lost)
		}
	}
}

func TestWhatCannotBeImportedIsSaid(t *testing.T) {
	head := "tosca_definitions_version: tosca_simple_yaml_1_3\n"
	bomb := head + "x:\n  a: &a [1,1,1,1,1,1,1,1,1,1]\n"
	for i := 'b'; i < 'k'; i++ {
		bomb += fmt.Sprintf("  %c: &%c [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c,", i-1), 10), ","))
	}
	for name, test := range map[string]struct{ data, want string }{
		"empty":   {"", "the file is empty"},
		"other":   {"a: 1\n", "lacks tosca_definitions_version"},
		"newer":   {"tosca_definitions_version: tosca_2_0\n", "tosca_simple_yaml_1_3 is read"},
		"list":    {"[1]\n", "is a set of keys"},
		"nothing": {head, "no node template that could be a role"},
		"bomb":    {bomb, "aliases"},
		"large":   {head + strings.Repeat("# x\n", 13<<20), "KiB are read at most"},
		"deep":    {head + "x: " + strings.Repeat("[", 10000), "nested"},
		"binary":  {"\x00\x01", "binary"},
		"endless": {head + "node_types: {a: {derived_from: b}, b: {derived_from: a}}\ntopology_template: {node_templates: {x: {type: a, requirements: [{dependency: x}]}}}\n", ""},
	} {
		i, err := Import(name, []byte(test.data))
		if test.want == "" {
			if err != nil || !strings.Contains(strings.Join(i.Lost, "\n"), "it leads to itself") {
				t.Errorf("%s: got %v", name, err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: got %v, want %q", name, err, test.want)
		}
	}
}

func FuzzImport(f *testing.F) {
	f.Add([]byte(foreign))
	if data, err := os.ReadFile("../../examples/saltmarsh-ferries.field.yaml"); err == nil {
		if file, err := fieldfile.Parse("x", data, nil); err == nil {
			template, _, _ := Export(file.Field)
			f.Add(template)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 1<<16 {
			return
		}
		if i, err := Import("fuzz.yaml", data); err == nil && i.File == nil {
			t.Error("neither a field nor an error")
		}
	})
}

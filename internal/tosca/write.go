package tosca

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/kit"
)

// write makes the text of the field file.
func (i *importer) write(topology map[string]any) string {
	var b strings.Builder
	b.WriteString("# Carried over from a TOSCA service template.\nformat: 1\n")
	fmt.Fprintf(&b, "field: %s\n", i.fieldName())
	if about, _ := topology["description"].(string); strings.TrimSpace(about) != "" {
		fmt.Fprintf(&b, "about: %s\n", strconv.Quote(strings.TrimSpace(about)))
	} else if about, _ := i.root["description"].(string); strings.TrimSpace(about) != "" {
		fmt.Fprintf(&b, "about: %s\n", strconv.Quote(strings.TrimSpace(about)))
	}
	i.inputs(&b, object(topology["inputs"]))
	b.WriteString("\nground:\n  kind: local\n\nnodes:\n")
	for _, name := range i.nodes {
		i.node(&b, name)
	}
	if len(i.nodes) == 0 {
		b.WriteString("  - name: node-1   # the template names no machine\n")
		i.lose("node_templates: there is no machine among them; one node is made up")
	}
	b.WriteString("\nroles:\n")
	for _, name := range i.roles {
		i.role(&b, name)
	}
	if len(i.place) > 0 {
		b.WriteString("\nplace:\n")
		for _, role := range slices.Sorted(maps.Keys(i.place)) {
			fmt.Fprintf(&b, "  %s: [%s]\n", role, strings.Join(i.place[role], ", "))
		}
	}
	return b.String()
}

func (i *importer) inputs(b *strings.Builder, inputs map[string]any) {
	if len(inputs) == 0 {
		return
	}
	b.WriteString("\nvariables:\n")
	types := map[string]string{"integer": "whole", "float": "number", "boolean": "truth", "string": "text", "scalar-unit.size": "text", "scalar-unit.time": "text"}
	for _, name := range slices.Sorted(maps.Keys(inputs)) {
		input := object(inputs[name])
		typ, _ := input["type"].(string)
		word := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
		parts := []string{}
		if d, has := input["default"]; has {
			if v := i.value("inputs."+name+".default", d); v != "" {
				parts = append(parts, "default: "+v)
			}
		} else {
			parts = append(parts, `default: ""`)
			i.lose("inputs.%s: it has no default; the variable is empty until somebody says otherwise", name)
		}
		switch t := types[typ]; {
		case t == "":
			i.lose("inputs.%s: variables have no type %s", name, typ)
		case t != "text":
			parts = append(parts, "type: "+t)
		}
		if about, _ := input["description"].(string); about != "" {
			parts = append(parts, "about: "+strconv.Quote(about))
		}
		for key := range input {
			if key != "type" && key != "default" && key != "description" && key != "required" {
				i.lose("inputs.%s.%s: variables have nothing like it", name, key)
			}
		}
		fmt.Fprintf(b, "  %s: {%s}\n", word, strings.Join(parts, ", "))
	}
}

// bytesOf reads a scalar-unit.size, such as "4 GB" or "512 MiB".
func bytesOf(v any) (field.Bytes, bool) {
	text := strings.ToLower(strings.ReplaceAll(fmt.Sprint(v), " ", ""))
	for _, u := range []struct {
		unit string
		size float64
	}{{"tib", 1 << 40}, {"gib", 1 << 30}, {"mib", 1 << 20}, {"kib", 1 << 10}, {"tb", 1e12}, {"gb", 1e9}, {"mb", 1e6}, {"kb", 1e3}, {"b", 1}} {
		if rest, ok := strings.CutSuffix(text, u.unit); ok {
			n, err := strconv.ParseFloat(rest, 64)
			return field.Bytes(n * u.size), err == nil && n >= 0 && n < 1e9
		}
	}
	return 0, false
}

func word(b field.Bytes) string {
	if b%(1<<10) == 0 && b > 0 {
		return string(field.TypeSize.Word(float64(b)))
	}
	return strconv.FormatInt(int64(b), 10)
}

func (i *importer) node(b *strings.Builder, name string) {
	t, at := i.templates[name], "node_templates."+name
	fmt.Fprintf(b, "  - name: %s\n", i.names[name])
	if z := i.zone[name]; z != "" {
		fmt.Fprintf(b, "    zone: %s\n", z)
	}
	if about, _ := t["description"].(string); about != "" {
		fmt.Fprintf(b, "    about: %s\n", strconv.Quote(about))
	}
	host := object(object(object(t["capabilities"])["host"])["properties"])
	var size []string
	for _, key := range slices.Sorted(maps.Keys(host)) {
		path := at + ".capabilities.host.properties." + key
		switch key {
		case "num_cpus":
			if n, ok := number(host[key]); ok {
				size = append(size, "cpu: "+strconv.FormatFloat(n, 'f', -1, 64))
				continue
			}
		case "mem_size", "disk_size":
			if n, ok := bytesOf(host[key]); ok {
				size = append(size, map[string]string{"mem_size": "memory: ", "disk_size": "disk: "}[key]+word(n))
				continue
			}
		}
		i.lose("%s: %v has no place in the size of a node", path, host[key])
	}
	if len(size) > 0 {
		fmt.Fprintf(b, "    size: {%s}\n", strings.Join(size, ", "))
	}
	os := object(object(object(t["capabilities"])["os"])["properties"])
	arch, _ := os["architecture"].(string)
	system, _ := os["type"].(string)
	if arch != "" && system != "" {
		fmt.Fprintf(b, "    platform: %s/%s\n", strings.ToLower(system), strings.ToLower(arch))
	}
	for key := range os {
		if key != "architecture" && key != "type" {
			i.lose("%s.capabilities.os.properties.%s: a node's platform is a system and an architecture", at, key)
		}
	}
	var labels []string
	for _, k := range slices.Sorted(maps.Keys(object(t["metadata"]))) {
		labels = append(labels, fmt.Sprintf("%q: %s", k, strconv.Quote(fmt.Sprint(object(t["metadata"])[k]))))
	}
	if len(labels) > 0 {
		fmt.Fprintf(b, "    labels: {%s}\n", strings.Join(labels, ", "))
	}
	i.others(at, t, "type", "description", "capabilities", "metadata")
	for _, c := range slices.Sorted(maps.Keys(object(t["capabilities"]))) {
		if c != "host" && c != "os" {
			i.lose("%s.capabilities.%s: a node has nothing like it", at, c)
		}
	}
}

// others lists the keys of a template that nothing was made of.
func (i *importer) others(at string, t map[string]any, known ...string) {
	for _, key := range slices.Sorted(maps.Keys(t)) {
		if !slices.Contains(known, key) {
			i.lose("%s.%s: a field file has nothing like it", at, key)
		}
	}
}

func (i *importer) role(b *strings.Builder, name string) {
	t, at := i.templates[name], "node_templates."+name
	typ, _ := t["type"].(string)
	props := object(t["properties"])
	fmt.Fprintf(b, "  %s:\n", i.names[name])
	line := func(key, value string) {
		if value != "" {
			fmt.Fprintf(b, "    %s: %s\n", key, value)
		}
	}
	if about, _ := t["description"].(string); about != "" {
		line("about", strconv.Quote(about))
	}
	base, _ := i.base(typ)
	kind := standard[base]
	if typ == roleType {
		kind, _ = props["kind"].(string)
	}
	if kind == "" {
		kind = "worker"
	}
	line("kind", kind)
	known := []string{"component_version", "kind"}
	if v := props["component_version"]; v != nil {
		line("version", i.value(at+".properties.component_version", v))
	}
	i.program(b, name, typ, props)
	known = append(known, "kit", "program")
	members := "1"
	if n, ok := i.members[name]; ok {
		members = strconv.Itoa(n)
	}
	if typ == roleType {
		known = append(known, "members", "each", "votes", "start", "spread", "where", "room_cpu", "room_memory", "room_disk", "settings", "beside", "apart", "pinned")
		if v := props["members"]; v != nil {
			members = i.value(at+".properties.members", v)
		}
		if each, ok := props["each"].(string); ok {
			members = strings.Replace(each, `{"node":true}`, "each-node", 1)
		}
	}
	line("members", members)
	if typ == roleType {
		i.ours(line, name, at, props)
	}
	for _, key := range slices.Sorted(maps.Keys(props)) {
		if !slices.Contains(known, key) {
			i.lose("%s.properties.%s: only a kit knows what becomes of it; say it under settings where there is one", at, key)
		}
	}
	i.requirements(line, name, at, t["requirements"])
	i.others(at, t, "type", "description", "properties", "requirements")
}

// program finds what is to be run: a kit or program of ours, or the operation by which the standard starts it.
func (i *importer) program(b *strings.Builder, name, typ string, props map[string]any) {
	at := "node_templates." + name
	if k, ok := props["kit"].(string); ok && slices.Contains(kit.Of(i.fieldName()+".field.yaml").Names(), k) {
		fmt.Fprintf(b, "    kit: %s\n", k)
		return
	}
	if text, ok := props["program"].(string); ok {
		var program field.Program
		if json.Unmarshal([]byte(text), &program) == nil && len(program.Command) > 0 {
			fmt.Fprintf(b, "    program: %s\n", text) // JSON is YAML
			return
		}
	}
	start := object(object(object(i.templates[name]["interfaces"])["Standard"])["operations"])["start"]
	if start == nil {
		start = object(object(i.templates[name]["interfaces"])["Standard"])["start"]
	}
	script, _ := start.(string)
	if script == "" {
		script, _ = object(start)["implementation"].(string)
	}
	if script != "" {
		fmt.Fprintf(b, "    program: {command: [%s]}   # the operation that starts it\n", strconv.Quote(script))
		i.lose("%s.interfaces: only the operation that starts it is carried over, as the program's command", at)
		return
	}
	fmt.Fprintf(b, "    program: {command: [%s]}   # the template does not say how it is run\n", strconv.Quote(name))
	i.lose("%s: how a %s is run; its command is a guess", at, typ)
}

// ours writes the properties of a role that was exported from a field.
func (i *importer) ours(line func(key, value string), name, at string, props map[string]any) {
	for _, key := range []string{"votes", "start", "spread", "where"} {
		if v := props[key]; v != nil {
			line(key, i.value(at+".properties."+key, v))
		}
	}
	var room []string
	if n, ok := number(props["room_cpu"]); ok {
		room = append(room, "cpu: "+strconv.FormatFloat(n, 'f', -1, 64))
	}
	for _, d := range []string{"memory", "disk"} {
		if n, ok := bytesOf(props["room_"+d]); ok {
			room = append(room, d+": "+word(n))
		}
	}
	if len(room) > 0 {
		line("room", "{"+strings.Join(room, ", ")+"}")
	}
	if settings := object(props["settings"]); len(settings) > 0 {
		var parts []string
		for _, k := range slices.Sorted(maps.Keys(settings)) {
			parts = append(parts, k+": "+i.value(at+".properties.settings."+k, settings[k]))
		}
		line("settings", "{"+strings.Join(parts, ", ")+"}")
	}
	names := func(key string) []string {
		var out []string
		list, _ := props[key].([]any)
		for _, v := range list {
			if n := i.names[fmt.Sprint(v)]; n != "" {
				out = append(out, n)
			} else {
				i.lose("%s.properties.%s: %v is no node template", at, key, v)
			}
		}
		return out
	}
	for _, key := range []string{"beside", "apart"} {
		if list := names(key); len(list) > 0 {
			line(key, "["+strings.Join(list, ", ")+"]")
		}
	}
	if list := names("pinned"); len(list) > 0 {
		i.place[i.names[name]] = list
	}
}

// requirements are pins, neighbours, calls and gates.
func (i *importer) requirements(line func(key, value string), name, at string, list any) {
	wires := map[string][]string{}
	taken := map[string]bool{}
	all, _ := list.([]any)
	for _, r := range all {
		for kind, v := range object(r) {
			to, _ := v.(string)
			full := object(v)
			if to == "" {
				to, _ = full["node"].(string)
			}
			path := at + ".requirements." + kind
			target := i.names[to]
			machine := slices.Contains(i.nodes, to)
			relationship := object(full["relationship"])
			relation, _ := full["relationship"].(string)
			if relation == "" {
				relation, _ = relationship["type"].(string)
			}
			props := object(relationship["properties"])
			key, word := "after", "all"
			switch {
			case target == "":
				i.lose("%s: it leads to %q, which is carried over as nothing", path, to)
				continue
			case target == i.names[name]:
				i.lose("%s: it leads to itself", path)
				continue
			case machine:
				i.place[i.names[name]] = []string{target}
				continue
			case kind == "host" || relation == "tosca.relationships.HostedOn":
				line("beside", "["+target+"]")
				continue
			case relation == callsType, relation == knowsType:
				key = map[string]string{callsType: "calls", knowsType: "knows"}[relation]
				word, _ = props["name"].(string)
			case relation == afterType:
				if gate, _ := props["gate"].(string); gate != "" {
					word = gate
				}
			case kind == "dependency" || relation == "tosca.relationships.DependsOn":
			default:
				key, word = "calls", strings.Trim(notInNames.ReplaceAllString(strings.ToLower(kind), "-"), "-")
			}
			if key == "after" {
				wires[key] = append(wires[key], target+": "+word)
				continue
			}
			for n := 2; taken[word]; n++ {
				word = fmt.Sprintf("%s-%d", strings.TrimRight(word, "-0123456789"), n)
			}
			taken[word] = true
			wires[key] = append(wires[key], word+": "+target)
		}
	}
	for _, key := range []string{"calls", "knows", "after"} {
		if len(wires[key]) > 0 {
			line(key, "{"+strings.Join(wires[key], ", ")+"}")
		}
	}
}

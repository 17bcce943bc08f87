package fieldfile

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"lanternfield/internal/core/field"
)

// Schema is the published JSON Schema of the field file. It is also what this package checks files with.
//
//go:embed field.schema.json
var Schema []byte

// KitSchema is the JSON Schema of a kit.yaml: what the field file's schema says of kits, as a document of its own.
func KitSchema() []byte {
	defs := compiled().raw["$defs"].(map[string]any)
	whole := map[string]any{"$schema": compiled().raw["$schema"], "$id": "https://lanternfield.example/kit-1.schema.json", "title": "Lantern Field kit, version 1",
		"$ref": "#/$defs/kitFile", "$defs": defs}
	data, err := json.MarshalIndent(whole, "", "  ")
	if err != nil {
		panic(err) // it was JSON before
	}
	return append(data, '\n')
}

const schemaURL = "https://lanternfield.example/field-1.schema.json"

type schemas struct {
	raw        map[string]any
	field, kit *jsonschema.Schema
	nodeName   *regexp.Regexp
}

var compiled = sync.OnceValue(func() schemas {
	raw, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		panic(err) // the embedded schema is part of the program; its test compiles it
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(schemaURL, raw); err != nil {
		panic(err)
	}
	pattern := raw.(map[string]any)["$defs"].(map[string]any)["nodeName"].(map[string]any)["pattern"].(string)
	return schemas{nodeName: regexp.MustCompile(pattern), raw: raw.(map[string]any), field: c.MustCompile(schemaURL), kit: c.MustCompile(schemaURL + "#/$defs/kitFile")}
})

// conform checks the tree against a schema and words what does not fit.
func (d *document) conform(schema *jsonschema.Schema) {
	err := schema.Validate(d.root.plain())
	var invalid *jsonschema.ValidationError
	if errors.As(err, &invalid) {
		d.collect(invalid)
	}
}

// fewEntries is up to how many nodes each is looked at by itself.
const fewEntries = 200

// conformField checks a field file against its schema. Of many nodes that say the same but for their names, one is looked
// at, unless something is wrong: then all are, so that everything wrong is said where it stands.
func (d *document) conformField() {
	nodes := d.root.get("nodes")
	if nodes == nil || len(nodes.list) <= fewEntries {
		d.conform(compiled().field)
		return
	}
	few := &node{isList: true}
	seen := map[string]bool{}
	for _, entry := range nodes.list {
		word, named := entry.get("name").text()
		if !named || !compiled().nodeName.MatchString(word) {
			d.conform(compiled().field)
			return
		}
		if body := entry.body(); !seen[body] {
			seen[body] = true
			few.list = append(few.list, entry)
		}
	}
	whole := &node{isMap: true, values: map[string]*node{}}
	for _, k := range d.root.keys {
		whole.set(k, d.root.values[k])
	}
	whole.values["nodes"] = few
	if compiled().field.Validate(whole.plain()) != nil {
		d.conform(compiled().field)
	}
}

// body is what an entry says besides its name, as JSON.
func (n *node) body() string {
	if n.said == "" && n.isMap {
		rest := &node{isMap: true, values: n.values}
		for _, k := range n.keys {
			if k != "name" {
				rest.keys = append(rest.keys, k)
			}
		}
		var b bytes.Buffer
		rest.canonical(&b)
		n.said = b.String()
	}
	return n.said
}

func (d *document) collect(e *jsonschema.ValidationError) {
	if names, ok := e.ErrorKind.(*kind.PropertyNames); ok {
		at := d.root.keyed(names.Property) // the library does not always give the place of a name
		what, rule := "a name", "; "+field.NameRule
		if len(names.Property) > 200 && strings.Contains(e.SchemaURL, "files") {
			d.errs = append(d.errs, d.at(at, true, fmt.Sprintf("the name of the file %q has %d characters; 200 are the most", shorten(names.Property), len(names.Property)), ""))
			return
		}
		if names.Property != "" && strings.Contains(e.SchemaURL, "files") {
			what, rule = "a file below the member's folder", "; write a relative path without .. and blanks"
		}
		d.errs = append(d.errs, d.at(at, true, fmt.Sprintf("%q cannot be %s%s", shorten(names.Property), what, rule), ""))
		return
	}
	if len(e.Causes) > 0 {
		for _, c := range e.Causes {
			d.collect(c)
		}
		return
	}
	at, _ := d.root.find(e.InstanceLocation)
	what := strings.Join(e.InstanceLocation, ".")
	if what == "" {
		what = "the file"
	}
	switch k := e.ErrorKind.(type) {
	case *kind.AdditionalProperties:
		known := d.wordsAt(e.SchemaURL)
		for _, p := range k.Properties {
			hint := "known here: " + strings.Join(known, ", ")
			if here := otherWords[p]; here != "" && slices.Contains(known, here) {
				hint = fmt.Sprintf("here that is called %s. Known here: %s", here, strings.Join(known, ", "))
			} else if near := field.Nearest(p, known); near != "" {
				hint = fmt.Sprintf("did you mean %q? Known here: %s", near, strings.Join(known, ", "))
			}
			unknown, _ := d.root.find(append(slices.Clone(e.InstanceLocation), p))
			d.errs = append(d.errs, d.at(unknown, true, fmt.Sprintf("unknown key %q in %s", shorten(p), what), hint))
		}
	case *kind.Required:
		d.errs = append(d.errs, d.at(at, true, fmt.Sprintf("%s lacks %s", what, strings.Join(k.Missing, " and ")), ""))
	case *kind.Type:
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s must be %s, and this is %s", what, orList(k.Want), typeWord(k.Got)), d.typeHint(at, e.InstanceLocation, k.Want)))
	case *kind.Enum:
		words := make([]string, len(k.Want))
		for i, w := range k.Want {
			words[i] = fmt.Sprint(w)
		}
		hint := ""
		if near := field.Nearest(fmt.Sprint(k.Got), words); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s is %q; it must be one of %s", what, shorten(fmt.Sprint(k.Got)), strings.Join(words, ", ")), hint))
	case *kind.Const:
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s is %v; this version reads %v", what, k.Got, k.Want), ""))
	case *kind.Pattern:
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s cannot be %q; %s", what, shorten(k.Got), patternWords(k.Want)), ""))
	case *kind.Minimum:
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s is %s; it must be at least %s", what, k.Got.RatString(), k.Want.RatString()), ""))
	case *kind.Maximum:
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s is %s; it may be at most %s", what, k.Got.RatString(), k.Want.RatString()), ""))
	case *kind.MinItems, *kind.MinProperties:
		d.errs = append(d.errs, d.at(at, true, fmt.Sprintf("%s is empty; it needs one entry at least", what), ""))
	default:
		d.errs = append(d.errs, d.at(at, false, fmt.Sprintf("%s does not fit the schema: %s", what, e.Error()), ""))
	}
}

// wordsAt lists the keys that the schema at that place knows.
func (d *document) wordsAt(url string) []string {
	var at any = compiled().raw
	_, pointer, _ := strings.Cut(url, "#")
	for _, step := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		if m, ok := at.(map[string]any); ok && step != "" {
			at = m[step]
		}
	}
	m, _ := at.(map[string]any)
	properties, _ := m["properties"].(map[string]any)
	return slices.Sorted(maps.Keys(properties))
}

// otherWords are words for what a field file says, by those that many people try first.
var otherWords = map[string]string{"replicas": "members", "count": "members", "instances": "members", "environment": "env", "depends_on": "after",
	"requires": "after", "needs": "after", "cmd": "command", "args": "command", "exec": "command", "entrypoint": "command", "volumes": "data",
	"config": "files", "configs": "files", "healthcheck": "ready", "health": "ready", "readiness": "ready", "liveness": "alive", "tags": "labels",
	"hosts": "nodes", "machines": "nodes", "services": "roles", "host": "address", "ip": "address", "resources": "room", "limits": "ceiling",
	"description": "about", "name": "field", "interval": "every", "delay": "after", "signal": "stop"}

// typeHint shows how a value of another type than was expected is written.
func (d *document) typeHint(at *node, path, want []string) string {
	last := ""
	if len(path) > 0 {
		last = path[len(path)-1]
	}
	word := func(n *node) string {
		if n.raw != "" {
			return n.raw
		}
		return fmt.Sprint(n.scalar)
	}
	switch {
	case at.raw != "" && slices.Contains([]string{"within", "every", "timeout", "retry_for", "after", "most"}, last):
		return fmt.Sprintf("a length of time has a unit: %ss, or %sms", at.raw, at.raw)
	case last == "after" && at.isList:
		parts := []string{}
		for _, item := range at.list {
			parts = append(parts, word(item)+": first")
		}
		return fmt.Sprintf("say for each role what it waits for: {%s}; a gate is quorum, all, first or a number", strings.Join(parts, ", "))
	case (last == "calls" || last == "knows") && at.isList:
		return "give each role the name by which templates ask for it: {store: wardens}"
	case slices.Contains(want, "array") && at.scalar != nil:
		words := strings.Fields(word(at))
		for i, w := range words {
			if strings.ContainsAny(w, ",[]{}:#&*!|>'\"%@\x60") || isNumber(w) {
				words[i] = fmt.Sprintf("%q", w)
			}
		}
		return fmt.Sprintf("write a list: [%s]", strings.Join(words, ", "))
	case at.raw != "" && slices.Contains(want, "string"):
		return fmt.Sprintf("put it in quotes: %q", at.raw)
	case at.isMap && at.line >= 1 && at.line <= len(d.lines) && strings.Contains(d.lines[at.line-1], "{{"):
		return templateHint
	}
	return ""
}

func isNumber(s string) bool {
	_, err := strconv.ParseFloat(s, 64)
	return err == nil
}

func patternWords(pattern string) string {
	defs := compiled().raw["$defs"].(map[string]any)
	is := func(name string) bool {
		p, _ := defs[name].(map[string]any)["pattern"].(string)
		return p == pattern
	}
	switch {
	case is("name"):
		return field.NameRule
	case is("nodeName"):
		return field.NameRule + ", and may hold one range such as {1..3}"
	case is("bytes"):
		return "write a size such as 512MiB or 4GiB"
	case is("duration"):
		return "write a length of time such as 500ms, 10s or 1m30s"
	case is("gate"):
		return "a gate is quorum, all, first or a number"
	}
	switch pattern {
	case "^each-node$":
		return "write a number, each-node, {per-zone: N}, or {beside: ROLE}"
	case "^[a-z0-9]+/[a-z0-9_]+$":
		return "write an operating system and an architecture, such as linux/amd64"
	}
	return "it must match " + pattern
}

func typeWord(t string) string {
	words := map[string]string{"null": "nothing", "object": "a set of keys", "array": "a list", "string": "a text", "number": "a number",
		"integer": "a whole number", "boolean": "true or false"}
	if w := words[t]; w != "" {
		return w
	}
	return t
}

func orList(types []string) string {
	words := make([]string, len(types))
	for i, t := range types {
		words[i] = typeWord(t)
	}
	return strings.Join(words, " or ")
}

func shorten(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}

// canonical writes the tree as JSON, keys in the order of the file.
func (n *node) canonical(b *bytes.Buffer) {
	switch {
	case n.isMap:
		b.WriteByte('{')
		for i, k := range n.keys {
			if i > 0 {
				b.WriteByte(',')
			}
			key, _ := json.Marshal(k)
			b.Write(key)
			b.WriteByte(':')
			n.values[k].canonical(b)
		}
		b.WriteByte('}')
	case n.isList:
		b.WriteByte('[')
		for i, item := range n.list {
			if i > 0 {
				b.WriteByte(',')
			}
			item.canonical(b)
		}
		b.WriteByte(']')
	default:
		value, err := json.Marshal(n.plain())
		if n.written && n.raw != "" {
			value, err = json.Marshal(n.raw)
		}
		if err != nil {
			value = []byte("null")
		}
		b.Write(value)
	}
}

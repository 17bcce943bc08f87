package fieldfile

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/kit"
)

// Tried is what came of trying a kit without running anything.
type Tried struct {
	Members  int               // of it were rendered: as founders at their first start, as ones that join, and started again
	Beside   map[string]string // under each of its calls, what stood there: another kit, or a program made up for that
	Warnings []string          // what is risky, and not wrong
}

// CheckKit reads a kit, checks it against its schema, and tries it in a field made for that: every expression is compiled, and every template
// executed for members that found their cluster, that join, and that are started again. What is wrong comes back as Errors, each with its line
// in kit.yaml.
func CheckKit(k kit.Kit, library kit.Library) (*Tried, error) {
	d := readKit(k)
	if len(d.errs) > 0 {
		return nil, sorted(d.errs)
	}
	info, err := k.Info()
	if err != nil {
		return nil, err
	}
	library = library.With(k)
	t := &Tried{Members: 3, Beside: map[string]string{}}
	f, err := parseWith("trial.field.yaml", []byte(t.field(info, d.samples(), library)), nil, &library)
	if err != nil {
		return nil, d.ofTrial(err, k.Name)
	}
	draft := resolve.Draft(f.Field, plan.Live{}, nil)
	var errs Errors
	for _, found := range finding.Whole(draft) {
		if len(found.Path) < 3 || found.Path[1] != k.Name {
			continue
		}
		if found.Severity != finding.Error {
			t.Warnings = append(t.Warnings, found.What+": "+found.Text)
			continue
		}
		at, whole := d.root.find(found.Path[2:])
		errs = append(errs, d.at(at, !whole || at.isMap || at.isList, found.Text, found.Mend))
	}
	if len(errs) > 0 {
		return t, sorted(errs)
	}
	return t, nil
}

// field writes a field of three nodes with the kit as a role, and a role for each of its calls.
func (t *Tried) field(info kit.Info, samples []string, library kit.Library) string {
	var b strings.Builder
	b.WriteString("format: 1\nfield: trial\nnetworks: [front, back]\nnodes:\n  - {name: node-1, zone: a}\n  - {name: node-2, zone: b}\n  - {name: node-3, zone: c, size: {cpu: 4, memory: 8GiB, disk: 80GiB}}\nroles:\n")
	fmt.Fprintf(&b, "  %s:\n    kit: %s\n    members: %d\n", info.Name, info.Name, t.Members)
	if len(samples) > 0 {
		fmt.Fprintf(&b, "    settings: {%s}\n", strings.Join(samples, ", "))
	}
	calls := info.CallNames()
	if len(calls) > 0 {
		b.WriteString("    knows:\n")
	}
	for i, call := range calls {
		fmt.Fprintf(&b, "      %s: called-%d\n", call, i+1)
	}
	for i, call := range calls {
		service := info.Calls[call]
		if other, ok := providing(library, service, info.Name); ok {
			t.Beside[call] = "the kit " + other
			fmt.Fprintf(&b, "  called-%d: {kit: %s, members: 3}\n", i+1, other)
			continue
		}
		t.Beside[call] = "a program with the ports main, client and http"
		fmt.Fprintf(&b, "  called-%d: {members: 3, program: {command: [sleep, '600'], ports: {main: {port: 17001}, client: {port: 17002}, http: {port: 17003}}}}\n", i+1)
	}
	return b.String()
}

// samples gives a value for each setting that is required.
func (d *document) samples() []string {
	settings := d.root.get("settings")
	if settings == nil {
		return nil
	}
	var out []string
	for _, name := range settings.keys {
		o := optionOf(name, settings.values[name])
		if !o.Required {
			continue
		}
		value := map[field.OptionType]field.Text{field.TypeNumber: "1", field.TypeWhole: "1", field.TypeTruth: "true", field.TypeSize: "1GiB", field.TypeDuration: "1s"}[o.Type]
		for _, better := range []field.Text{"given", o.Most, o.Least} {
			if better != "" && o.Check(better) == nil {
				value = better
			}
		}
		if len(o.OneOf) > 0 {
			value = o.OneOf[0]
		}
		out = append(out, fmt.Sprintf("%s: %q", name, value))
	}
	return out
}

// providing finds a kit, without calls of its own, that provides a service.
func providing(library kit.Library, service, but string) (string, bool) {
	for _, k := range library.All() {
		if info, err := k.Info(); err == nil && k.Name != but && len(info.Calls) == 0 && slices.Contains(info.Provides, service) {
			return k.Name, true
		}
	}
	return "", false
}

// ofTrial puts what is wrong with a trial where it stands in the kit.
func (d *document) ofTrial(err error, name string) error {
	errs, ok := err.(Errors)
	if !ok {
		return err
	}
	var out Errors
	for _, e := range errs {
		if e.File == d.name {
			out = append(out, e)
			continue
		}
		path := e.path
		if len(path) > 2 && path[0] == "roles" && path[1] == name {
			at, whole := d.root.find(path[2:])
			out = append(out, d.at(at, !whole || at.isMap || at.isList, e.Text, e.Hint))
			continue
		}
		out = append(out, &Error{File: d.name, Text: e.Text, Hint: e.Hint})
	}
	return sorted(out)
}

// Package setting finds the value of every setting of a member, and where it comes from.
package setting

import (
	"fmt"
	"maps"
	"slices"

	"github.com/expr-lang/expr"

	"lanternfield/internal/core/field"
)

// Level is where a value was said. A later one outranks all before it.
type Level string

// The levels, the weakest first.
const (
	Kit      Level = "the kit's default"
	Hardware Level = "the node's hardware"
	Load     Level = "the load profile"
	OfField  Level = "the field"
	OfRole   Level = "the role"
	OfZone   Level = "the zone"
	OfNode   Level = "the node"
	OfMember Level = "the member"
)

// Said is a value as one level says it.
type Said struct {
	Level Level
	Value field.Text
	Path  []string // where in the field file; nil for what a kit says
}

// Value is a setting as it holds for one member.
type Value struct {
	Name   string
	Said          // what holds
	Over   []Said // what it outranks, the strongest first
	Option *field.Option
}

// Member is whose settings are looked for. Here is how many members of its role its node holds, itself among them.
type Member struct {
	Name field.MemberName
	Role *field.Role
	Node *field.Node // nil when it has none
	Here int
}

// Of gives all settings of a member, in the order in which its kit lists them, others after them by name. An error is an
// expression of a kit that cannot be evaluated on the node.
func Of(f *field.Field, m Member) ([]Value, error) {
	names := m.Role.OptionNames()
	more := slices.Sorted(maps.Keys(m.Role.Settings))
	if m.Role.Kit == "" { // without a kit, whatever is said at any level is a setting
		for _, level := range levels(f, m) {
			more = append(more, slices.Sorted(maps.Keys(level.values))...)
		}
	}
	for _, n := range more {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	values := make([]Value, 0, len(names))
	for _, name := range names {
		v, _, err := One(f, m, name)
		if err != nil {
			return nil, err
		}
		values = append(values, v)
	}
	return values, nil
}

// One gives one setting of a member; false when nobody says anything of it, which is wrong where its kit requires it.
func One(f *field.Field, m Member, name string) (Value, bool, error) {
	v := Value{Name: name, Option: m.Role.Option(name)}
	var said []Said
	if o := v.Option; o != nil {
		if !o.Required {
			said = append(said, Said{Level: Kit, Value: o.Default})
		}
		if o.From != "" && m.Node != nil {
			derived, ok, err := derive(o, m)
			if err != nil {
				return v, false, fmt.Errorf("setting %s of %s: %w", name, m.Role.Name, err)
			}
			if ok {
				said = append(said, Said{Level: Hardware, Value: derived})
			}
		}
		if value, ok := o.Loads[f.Load]; ok && f.Load != "" {
			said = append(said, Said{Level: Load, Value: value, Path: []string{"load"}})
		}
	}
	for _, level := range levels(f, m) {
		if value, ok := level.values[name]; ok {
			said = append(said, Said{Level: level.is, Value: value, Path: append(slices.Clone(level.path), name)})
		}
	}
	if len(said) == 0 {
		return v, false, nil
	}
	slices.Reverse(said)
	v.Said, v.Over = said[0], said[1:]
	return v, true, nil
}

type level struct {
	is     Level
	values map[string]field.Text
	path   []string
}

// levels are the places in the field file that can say something of a member, the weakest first.
func levels(f *field.Field, m Member) []level {
	out := []level{{OfField, f.Settings, []string{"settings"}}, {OfRole, m.Role.Settings, []string{"roles", string(m.Role.Name), "settings"}}}
	if m.Node != nil {
		out = append(out, level{OfZone, f.InZone[m.Node.Zone].Settings, []string{"zones", string(m.Node.Zone), "settings"}},
			level{OfNode, m.Node.Settings, []string{"nodes", string(m.Node.Name), "settings"}})
	}
	return append(out, level{OfMember, m.Role.SettingsOf[m.Name], []string{"roles", string(m.Role.Name), "settings_of", string(m.Name)}})
}

// Env is what an expression by which a value follows from the hardware sees: what the node has for members (cores,
// bytes), how many members the role has, and how many of them are on this node.
type Env struct {
	CPU     float64 `expr:"cpu"`
	Memory  float64 `expr:"memory"`
	Disk    float64 `expr:"disk"`
	Members int     `expr:"members"`
	Here    int     `expr:"here"`
	Room    float64 `expr:"room"` // the memory kept free for the member
	Ceiling float64 `expr:"ceiling"`
}

// derive evaluates what follows from the hardware, within the option's bounds. Where the node's size is not known
// nothing follows.
func derive(o *field.Option, m Member) (field.Text, bool, error) {
	offered := m.Node.Said()
	if offered.CPU == 0 && offered.Memory == 0 {
		return "", false, nil
	}
	env := Env{CPU: offered.CPU, Memory: float64(offered.Memory), Disk: float64(offered.Disk), Members: m.Role.Members, Here: max(1, m.Here),
		Room: float64(m.Role.Room.Memory), Ceiling: float64(m.Role.Ceiling.Memory)}
	program, err := expr.Compile(o.From, expr.Env(Env{}), expr.AsFloat64())
	if err != nil {
		return "", false, err
	}
	out, err := expr.Run(program, env)
	if err != nil {
		return "", false, err
	}
	n := out.(float64)
	value := o.Type.Word(n)
	if err := o.Check(value); err != nil { // beyond a bound: the bound
		if o.Least != "" && below(o, n) {
			return o.Least, true, nil
		}
		if o.Most != "" {
			return o.Most, true, nil
		}
		return "", false, err
	}
	return value, true, nil
}

func below(o *field.Option, n float64) bool {
	probe := *o
	probe.Most, probe.OneOf = "", nil
	return probe.Check(o.Type.Word(n)) != nil
}

package field

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/types"
)

// Sight is what an expression sees, by name and type.
type Sight types.Map

// SightOf is what expressions see of the answer to a call.
func SightOf(c Call) Sight {
	text := types.String
	switch {
	case c.HTTP != nil:
		return Sight{"status": types.Int, "body": types.Any, "headers": types.Map{types.Extra: text}, "me": text}
	case c.TLS != nil:
		return Sight{"body": types.Any, "me": text}
	case c.TCP != nil:
		return Sight{"output": text, "body": text, "me": text}
	}
	return Sight{"code": types.Int, "output": text, "body": types.Any, "me": text}
}

// SightOfItem is what expressions see of one entry of a roster.
func SightOfItem() Sight { return Sight{"item": types.Any, "me": types.String} }

// Yields is what an expression must give.
type Yields int

// What expressions give.
const (
	YieldsAny    Yields = iota
	YieldsTruth         // true or false
	YieldsList          // a list
	YieldsNumber        // a number, or digits
)

var unknownName = regexp.MustCompile(`^unknown name (\w+)`)

// CheckExpression compiles an expression against what it will see. The error says what is wrong in one line.
func CheckExpression(text string, sees Sight, yields Yields) error {
	env := types.Map(sees)
	env["$env"] = types.Any
	program, err := expr.Compile(text, expr.Env(env))
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		if i := strings.LastIndex(first, " ("); i > 0 {
			first = first[:i] // its place, within one line, is no help
		}
		if m := unknownName.FindStringSubmatch(first); m != nil {
			names := sees.names()
			first = fmt.Sprintf("there is no %s here", m[1])
			if near := Nearest(m[1], names); near != "" {
				return fmt.Errorf("%s; did you mean %q? There is %s", first, near, strings.Join(names, ", "))
			}
			return fmt.Errorf("%s; there is %s", first, strings.Join(names, ", "))
		}
		return fmt.Errorf("%s", first)
	}
	nature := program.Node().Nature()
	given := program.Node().Type()
	if given == nil || nature.IsUnknown(nil) || given.Kind().String() == "interface" {
		return nil
	}
	kind := given.Kind().String()
	switch yields {
	case YieldsTruth:
		if kind != "bool" {
			return fmt.Errorf("it must give true or false, and gives %s", kindWord(kind))
		}
	case YieldsList:
		if kind != "slice" && kind != "array" {
			return fmt.Errorf("it must give a list, and gives %s", kindWord(kind))
		}
	case YieldsNumber:
		if kind != "string" && !strings.HasPrefix(kind, "int") && !strings.HasPrefix(kind, "uint") && !strings.HasPrefix(kind, "float") {
			return fmt.Errorf("it must give a number, and gives %s", kindWord(kind))
		}
	}
	return nil
}

func kindWord(kind string) string {
	switch {
	case kind == "string":
		return "a text"
	case kind == "bool":
		return "true or false"
	case kind == "map":
		return "a set of keys"
	case kind == "slice", kind == "array":
		return "a list"
	}
	return "a number"
}

func (s Sight) names() []string {
	var names []string
	for name := range s {
		if name != "$env" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Expression is one expression of a program: where it stands, what it sees and must give.
type Expression struct {
	Path   []string
	Text   string
	Sees   Sight
	Yields Yields
}

// Expressions lists all expressions of a program.
func (p *Program) Expressions() []Expression {
	var out []Expression
	add := func(text string, sees Sight, yields Yields, path ...string) {
		if text != "" {
			out = append(out, Expression{Path: path, Text: text, Sees: sees, Yields: yields})
		}
	}
	for key, probe := range map[string]*Probe{"ready": p.Ready, "alive": p.Alive} {
		if probe != nil {
			add(probe.Expect, SightOf(probe.Call), YieldsTruth, key, "expect")
		}
	}
	for i := range p.Apply {
		add(p.Apply[i].Expect, SightOf(p.Apply[i].Call), YieldsTruth, "apply", fmt.Sprint(i), "expect")
	}
	for i, v := range p.Vacant {
		add(v.Expect, SightOf(Call{Exec: v.Exec}), YieldsTruth, "vacant", fmt.Sprint(i), "expect")
	}
	for key, gauge := range map[string]*Gauge{"progress": p.Progress, "lag": p.Lag} {
		if gauge != nil {
			add(gauge.Value, SightOf(gauge.Call), YieldsNumber, key, "value")
		}
	}
	if l := p.Leader; l != nil {
		add(l.IsMe, SightOf(l.Call), YieldsTruth, "leader", "is_me")
		add(l.Term, SightOf(l.Call), YieldsNumber, "leader", "term")
	}
	var roster Sight
	if r := p.Roster; r != nil {
		roster = SightOf(r.Call)
		add(r.Each, roster, YieldsList, "roster", "each")
		add(r.ID, SightOfItem(), YieldsAny, "roster", "id")
		add(r.Name, SightOfItem(), YieldsAny, "roster", "name")
		add(r.Voter, SightOfItem(), YieldsTruth, "roster", "voter")
	}
	for _, procedure := range p.Procedures() {
		for i, step := range procedure.Steps {
			at := func(rest ...string) []string { return append([]string{procedure.Key, fmt.Sprint(i)}, rest...) }
			add(step.Expect, SightOf(step.Call), YieldsTruth, at("expect")...)
			if roster != nil {
				add(step.DoneWhen, roster, YieldsTruth, at("done_when")...)
			}
			sees := SightOf(step.Call)
			if step.DoneWhen != "" && roster != nil { // it may be read from either answer
				both := Sight{}
				for _, s := range []Sight{sees, roster} {
					for name, t := range s {
						if both[name] != nil && !both[name].Equal(t) {
							t = types.Any
						}
						both[name] = t
					}
				}
				sees = both
			}
			for name, text := range step.Capture {
				add(text, sees, YieldsAny, at("capture", name)...)
			}
		}
	}
	if c := p.ColdStart; c != nil {
		add(c.Rank, SightOf(Call{Exec: c.Exec}), YieldsNumber, "cold_start", "rank")
	}
	slices.SortFunc(out, func(a, b Expression) int { return slices.Compare(a.Path, b.Path) })
	return out
}

// NamedSteps are the steps of one procedure of a program, under the key of the field file.
type NamedSteps struct {
	Key   string
	Steps []Step
}

// Procedures lists the procedures of a program.
func (p *Program) Procedures() []NamedSteps {
	return []NamedSteps{{"found", p.Found}, {"join", p.Join}, {"leave", p.Leave}, {"promote", p.Promote}, {"hand_over", p.HandOver}, {"change_secret", p.ChangeSecret}}
}

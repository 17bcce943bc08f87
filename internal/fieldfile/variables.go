package fieldfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// Variable is a value that a file names once, and that an environment may choose otherwise.
type Variable struct {
	Name   string
	About  string
	Value  field.Text
	Chosen bool // by the environment, not by the file's default
}

// Pattern is what a file says of itself that others are made from.
type Pattern struct{ About string }

// HasDefault tells whether a variable is declared with more than its value.
func (f *File) HasDefault(variable string) bool {
	return f.doc.root.get("variables").get(variable).get("default") != nil
}

// IsVariable tells whether the value at a path is a variable's.
func (f *File) IsVariable(path ...string) bool {
	n, whole := f.doc.root.find(path)
	return whole && n.variable != ""
}

// Choices are the values that an environment chooses for a file's variables: a YAML file of names and values beside the
// field file, NAME.ENVIRONMENT.choices.yaml.
type Choices struct {
	Env  string
	Name string // of the file
	doc  *document
}

// Env is the environment that the file was read for; empty without one.
func (f *File) Env() string {
	if f.Choices == nil {
		return ""
	}
	return f.Choices.Env
}

// ChoicesName gives the name of the file with an environment's choices.
func ChoicesName(file, env string) string {
	return strings.TrimSuffix(file, ".field.yaml") + "." + env + ".choices.yaml"
}

// LoadChoices reads the choices of an environment; nil where env is empty.
func LoadChoices(file, env string) (*Choices, error) {
	if env == "" {
		return nil, nil
	}
	if !field.NamePattern.MatchString(env) {
		return nil, fmt.Errorf("%q cannot name an environment; %s", env, field.NameRule)
	}
	c := &Choices{Env: env, Name: ChoicesName(file, env)}
	data, err := os.ReadFile(c.Name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, Errors{{File: c.Name, Text: "there is no such file, and it would hold what " + env + " chooses for the variables of " + file,
			Hint: "write it with lines like `crews: 6`, or leave --env out"}}
	case err != nil:
		return nil, Errors{{File: c.Name, Text: "cannot be read: " + plainCause(err)}}
	}
	c.doc = parse(c.Name, data)
	if c.doc.root != nil && !c.doc.root.isMap {
		c.doc.errs = append(c.doc.errs, c.doc.at(c.doc.root, false, "choices are written as NAME: VALUE, a line each", ""))
	}
	if len(c.doc.errs) > 0 {
		return nil, sorted(c.doc.errs)
	}
	return c, nil
}

var reference = regexp.MustCompile(`\$\{([^{}]*)\}`)

// substitution puts the values of variables into a tree.
type substitution struct {
	d       *document
	choices *Choices
	decl    *node
	values  map[string]*node
	open    []string // variables being worked out
	made    int      // bytes of text with variables in it, so far
	over    bool     // that was too much, which is said once
}

// substitute works out the variables of a file and puts them where they are referred to.
func (d *document) substitute(choices *Choices) []Variable {
	s := &substitution{d: d, choices: choices, decl: d.root.get("variables"), values: map[string]*node{}}
	if choices != nil {
		for _, key := range choices.doc.root.keys {
			if s.decl.get(key) == nil {
				known := []string(nil)
				if s.decl != nil {
					known = s.decl.keys
				}
				hint := "it has no variables"
				if len(known) > 0 {
					hint = "it has " + strings.Join(known, ", ")
				}
				if near := field.Nearest(key, known); near != "" {
					hint = fmt.Sprintf("did you mean %q?", near)
				}
				d.errs = append(d.errs, choices.doc.at(choices.doc.root.values[key], true, fmt.Sprintf("%s has no variable %q", d.name, shorten(key)), hint))
			}
		}
	}
	if s.decl == nil || !s.decl.isMap {
		return nil
	}
	var all []Variable
	for _, name := range s.decl.keys {
		v := s.value(name)
		if v == nil {
			continue
		}
		about, _ := s.decl.values[name].get("about").text()
		all = append(all, Variable{Name: name, About: about, Value: v.word(), Chosen: choices != nil && choices.doc.root.get(name) != nil})
	}
	for _, key := range d.root.keys {
		if key != "variables" {
			s.walk(d.root.values[key], false)
		}
	}
	return all
}

// How much text variables may make: in one value, and in the whole file.
const (
	mostValue = 64 << 10
	mostMade  = 8 << 20
)

// value works out one variable; nil, with the error noted, when that cannot be done.
func (s *substitution) value(name string) *node {
	if v, known := s.values[name]; known {
		return v
	}
	s.values[name] = nil // an error is noted once
	decl := s.decl.values[name]
	v, doc := decl, s.d
	if decl.isMap {
		v = decl.get("default")
	}
	if s.choices != nil {
		if chosen := s.choices.doc.root.get(name); chosen != nil {
			v, doc = chosen, s.choices.doc
		}
	}
	fail := func(at *node, text, hint string) *node {
		s.d.errs = append(s.d.errs, doc.at(at, v == nil, text, hint))
		return nil
	}
	switch {
	case v == nil:
		hint := "give it a default, or a value in NAME.ENVIRONMENT.choices.yaml, and say --env ENVIRONMENT"
		if s.choices != nil {
			hint = "give it one in " + s.choices.Name
		}
		return fail(decl, fmt.Sprintf("the variable %s has no value", name), hint)
	case v.isMap || v.isList:
		return fail(v, fmt.Sprintf("the variable %s must be a plain value", name), "")
	}
	s.open = append(s.open, name)
	defer func() { s.open = s.open[:len(s.open)-1] }()
	out := *v
	delete(s.values, name)
	if !s.put(&out, doc, false) {
		s.values[name] = nil
		return nil
	}
	if decl.isMap {
		o := optionOf(name, decl)
		if err := o.Check(out.word()); err != nil {
			s.values[name] = nil
			return fail(v, "the variable "+err.Error(), o.About)
		}
	}
	s.values[name] = &out
	return &out
}

// walk puts values into everything below a node. In a program, ${…} that names no variable is left to the shell.
func (s *substitution) walk(n *node, program bool) {
	for _, k := range n.keys {
		s.walk(n.values[k], program || k == "program")
	}
	for _, item := range n.list {
		s.walk(item, program)
	}
	if !n.isMap && !n.isList {
		s.put(n, s.d, program)
	}
}

// put replaces the references in one value. A value that is nothing but a reference takes the variable's type.
func (s *substitution) put(n *node, doc *document, program bool) bool {
	text, ok := n.scalar.(string)
	if !ok || !strings.Contains(text, "${") {
		return true
	}
	good := true
	get := func(name string) *node {
		if i := slices.Index(s.open, name); i >= 0 {
			s.d.errs = append(s.d.errs, doc.at(n, false, "variables refer to each other in a circle: "+strings.Join(append(slices.Clone(s.open[i:]), name), " of "), "give one of them a value of its own"))
			good = false
			return nil
		}
		if s.decl.get(name) == nil {
			if program {
				return nil
			}
			hint := "it has " + strings.Join(s.decl.keys, ", ")
			if near := field.Nearest(name, s.decl.keys); near != "" {
				hint = fmt.Sprintf("did you mean ${%s}?", near)
			}
			s.d.errs = append(s.d.errs, doc.at(n, false, fmt.Sprintf("there is no variable %q", shorten(name)), hint))
			good = false
			return nil
		}
		v := s.value(name)
		good = good && v != nil
		return v
	}
	if m := reference.FindStringSubmatch(text); m != nil && m[0] == text {
		if v := get(m[1]); v != nil {
			n.scalar, n.variable = v.scalar, m[1]
		}
		return good
	}
	grown := len(text)
	whole := reference.ReplaceAllStringFunc(text, func(ref string) string {
		if grown > mostValue {
			return ""
		}
		if v := get(ref[2 : len(ref)-1]); v != nil {
			n.variable = ref[2 : len(ref)-1]
			word := string(v.word())
			grown += len(word)
			return word
		}
		return ref
	})
	if s.made += grown; good && (grown > mostValue || s.made > mostMade) {
		if !s.over {
			s.d.errs = append(s.d.errs, doc.at(n, false, fmt.Sprintf("with its variables put in, this has more than %d KiB, or the file with this more than %d MiB", mostValue>>10, mostMade>>20),
				"variables that are made of variables multiply; write less of them"))
		}
		s.over = true
		n.scalar = ""
		return false
	}
	n.scalar = whole
	return good
}

// word is a plain value as text.
func (n *node) word() field.Text {
	if n.scalar == nil {
		return ""
	}
	return field.Text(fmt.Sprint(n.plain()))
}

// optionOf reads what a variable, or a setting of a kit, is declared as.
func optionOf(name string, decl *node) field.Option {
	o := field.Option{Name: name}
	word := func(key string) field.Text {
		if n := decl.get(key); n != nil {
			return n.word()
		}
		return ""
	}
	if !decl.isMap {
		o.Default = decl.word()
		return o
	}
	o.Default, o.Least, o.Most = word("default"), word("least"), word("most")
	o.Type, o.About, o.From = field.OptionType(word("type")), string(word("about")), string(word("from"))
	o.Required = word("required") == "true"
	o.Simple, o.Experimental = word("simple") == "true", string(word("experimental"))
	for key, list := range map[string]*[]string{"needs": &o.Needs, "excludes": &o.Excludes} {
		if n := decl.get(key); n != nil {
			for _, item := range n.list {
				*list = append(*list, string(item.word()))
			}
		}
	}
	if n := decl.get("one_of"); n != nil {
		for _, item := range n.list {
			o.OneOf = append(o.OneOf, item.word())
		}
	}
	if n := decl.get("loads"); n != nil {
		o.Loads = map[string]field.Text{}
		for _, key := range n.keys {
			o.Loads[key] = n.values[key].word()
		}
	}
	return o
}

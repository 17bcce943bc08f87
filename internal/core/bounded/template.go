package bounded

import (
	"io"
	"sync"
	"text/template"
	"text/template/parse"
)

// mostTemplateSteps is how often the ranges of a template, and the templates that it calls, may be gone through.
const mostTemplateSteps = 300_000

// Template is a template that ends.
type Template struct {
	whole *template.Template
	idle  sync.Pool
}

// NewTemplate parses a template with those functions; check, if any, sees it as it was written.
func NewTemplate(text string, funcs template.FuncMap, check func(*template.Template) error) (*Template, error) {
	t, err := template.New("").Option("missingkey=error").Funcs(funcs).Funcs(template.FuncMap{tick: func() (string, error) { return "", nil }}).Parse(text)
	if err == nil && check != nil {
		err = check(t)
	}
	if err != nil {
		return nil, err
	}
	counted, err := template.New("").Funcs(template.FuncMap{tick: func() string { return "" }}).Parse("{{" + tick + "}}")
	if err != nil {
		return nil, err
	}
	count := counted.Root.Nodes[0]
	for _, one := range t.Templates() {
		if one.Tree != nil {
			countIn(one.Root, count)
			if one.Name() != "" {
				one.Root.Nodes = append([]parse.Node{count.Copy()}, one.Root.Nodes...)
			}
		}
	}
	return &Template{whole: t}, nil
}

// countIn counts each turn of the ranges below a node.
func countIn(n parse.Node, count parse.Node) {
	branch := func(b *parse.BranchNode) {
		countIn(b.List, count)
		if b.ElseList != nil {
			countIn(b.ElseList, count)
		}
	}
	switch x := n.(type) {
	case *parse.ListNode:
		if x == nil {
			return
		}
		for _, inner := range x.Nodes {
			countIn(inner, count)
		}
	case *parse.IfNode:
		branch(&x.BranchNode)
	case *parse.WithNode:
		branch(&x.BranchNode)
	case *parse.RangeNode:
		branch(&x.BranchNode)
		x.List.Nodes = append([]parse.Node{count.Copy()}, x.List.Nodes...)
	}
}

// Execute writes what the template makes of some data. It may be called by several at once, and within itself.
func (t *Template) Execute(to io.Writer, data any) error {
	one, _ := t.idle.Get().(*counting)
	if one == nil {
		one = &counting{}
		var err error
		if one.t, err = t.whole.Clone(); err != nil {
			return err
		}
		one.t.Funcs(template.FuncMap{tick: one.step})
	}
	one.steps = 0
	defer t.idle.Put(one)
	return one.t.Execute(to, data)
}

// counting is a copy of a template with a count of its own.
type counting struct {
	t     *template.Template
	steps int
}

func (c *counting) step() (string, error) {
	if c.steps++; c.steps > mostTemplateSteps {
		return "", ErrTooMuch
	}
	return "", nil
}

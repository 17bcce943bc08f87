package field

import (
	"slices"
	"strings"
	"text/template/parse"
)

// asksFor tells whether a template asks for one of those names of the member that it is executed for, and not of something else: {{.Key}} does, and
// {{(.Access "store").Key}} and {{with .Access "store"}}{{.Key}}{{end}} do not. One that cannot be read is taken to.
func asksFor(text string, names ...string) bool {
	if !slices.ContainsFunc(names, func(name string) bool { return strings.Contains(text, "."+name) }) {
		return false
	}
	tree := parse.New("template")
	tree.Mode = parse.SkipFuncCheck
	tree, err := tree.Parse(text, "", "", map[string]*parse.Tree{})
	if err != nil {
		return true
	}
	a := asking{names}
	return a.in(tree.Root, true)
}

type asking struct{ names []string }

// in looks at a node and all below it. Own says whether the dot is the member there.
func (a asking) in(node parse.Node, own bool) bool {
	each := func(nodes []parse.Node) bool {
		return slices.ContainsFunc(nodes, func(n parse.Node) bool { return a.in(n, own) })
	}
	switch n := node.(type) {
	case *parse.ListNode:
		return n != nil && each(n.Nodes)
	case *parse.ActionNode:
		return a.in(n.Pipe, own)
	case *parse.PipeNode:
		return n != nil && slices.ContainsFunc(n.Cmds, func(c *parse.CommandNode) bool { return a.in(c, own) })
	case *parse.CommandNode:
		return each(n.Args)
	case *parse.ChainNode:
		return a.in(n.Node, own)
	case *parse.FieldNode:
		return own && slices.Contains(a.names, n.Ident[0])
	case *parse.VariableNode: // $ is the member everywhere
		return n.Ident[0] == "$" && len(n.Ident) > 1 && slices.Contains(a.names, n.Ident[1])
	case *parse.IfNode:
		return a.in(n.Pipe, own) || a.in(n.List, own) || a.in(n.ElseList, own)
	case *parse.RangeNode:
		return a.in(n.Pipe, own) || a.in(n.List, false) || a.in(n.ElseList, own)
	case *parse.WithNode:
		return a.in(n.Pipe, own) || a.in(n.List, false) || a.in(n.ElseList, own)
	case *parse.TemplateNode:
		return a.in(n.Pipe, own)
	}
	return false
}

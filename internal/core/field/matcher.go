package field

import (
	"maps"
	"slices"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"
)

// Matcher evaluates `where` expressions, each only once for nodes that look the same to it. It is not for several
// goroutines.
type Matcher struct {
	programs map[string]*compiledWhere
	classes  map[nodeClass]int
}

// NewMatcher makes a matcher.
func NewMatcher() *Matcher {
	return &Matcher{programs: map[string]*compiledWhere{}, classes: map[nodeClass]int{}}
}

// Fits tells whether `where` lets a node hold members; everything does where it is empty.
func (m *Matcher) Fits(where string, n *Node) (bool, error) {
	if where == "" {
		return true, nil
	}
	return m.FitsClass(where, n, m.Class(n))
}

// Class numbers what an expression that does not ask for the name can see of a node: nodes of one class are alike to it.
func (m *Matcher) Class(n *Node) int {
	key := nodeClass{n.Zone, n.Has(), n.Platform, n.labelKey()}
	class, known := m.classes[key]
	if !known {
		class = len(m.classes)
		m.classes[key] = class
	}
	return class
}

// FitsClass is Fits for a node whose class is known.
func (m *Matcher) FitsClass(where string, n *Node, class int) (bool, error) {
	if where == "" {
		return true, nil
	}
	c := m.programs[where]
	if c == nil {
		c = &compiledWhere{byName: usesName(where)}
		c.program, c.err = CompileWhere(where)
		m.programs[where] = c
	}
	if c.err != nil {
		return false, c.err
	}
	if c.byName {
		return c.run(n)
	}
	for len(c.seen) <= class {
		c.seen = append(c.seen, nil)
	}
	if c.seen[class] == nil {
		fits, err := c.run(n)
		c.seen[class] = &whereAnswer{fits, err}
	}
	return c.seen[class].fits, c.seen[class].err
}

type compiledWhere struct {
	program *vm.Program
	err     error
	byName  bool // it asks for the name, so that no two nodes are alike
	seen    []*whereAnswer
}

type nodeClass struct {
	zone     ZoneName
	size     Size
	platform string
	labels   string
}

type whereAnswer struct {
	fits bool
	err  error
}

func (c *compiledWhere) run(n *Node) (bool, error) {
	out, err := expr.Run(c.program, n.WhereEnv())
	if err != nil {
		return false, err
	}
	return out.(bool), nil
}

func (n *Node) labelKey() string {
	if len(n.Labels) == 0 {
		return ""
	}
	if n.labelled != "" {
		return n.labelled // by FillDefaults; nothing is written here, since fields are shared
	}
	key := ""
	for _, k := range slices.Sorted(maps.Keys(n.Labels)) {
		key += k + "\x00" + n.Labels[k] + "\x00"
	}
	return key
}

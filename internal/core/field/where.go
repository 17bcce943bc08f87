package field

import (
	"regexp"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"
)

// WhereEnv is what a `where` expression sees of a node: cores, and sizes in bytes.
type WhereEnv struct {
	Name   string            `expr:"name"`
	Zone   string            `expr:"zone"`
	Labels map[string]string `expr:"labels"`
	CPU    float64           `expr:"cpu"`
	Memory float64           `expr:"memory"`
	Disk   float64           `expr:"disk"`
	OS     string            `expr:"os"`
	Arch   string            `expr:"arch"`
}

// CompileWhere reads a `where` expression; it must yield true or false.
func CompileWhere(where string) (*vm.Program, error) {
	return expr.Compile(where, expr.Env(WhereEnv{}), expr.AsBool())
}

var nameWord = regexp.MustCompile(`(^|[^.\w])name\b`)

// usesName tells whether an expression might tell nodes apart by their names.
func usesName(where string) bool {
	return nameWord.MatchString(where) || strings.Contains(where, "$env")
}

// WhereEnv gives what a `where` expression sees of this node.
func (n *Node) WhereEnv() WhereEnv {
	os, arch, _ := strings.Cut(n.Platform, "/")
	has := n.Has()
	return WhereEnv{Name: string(n.Name), Zone: string(n.Zone), Labels: n.Labels, CPU: has.CPU,
		Memory: float64(has.Memory), Disk: float64(has.Disk), OS: os, Arch: arch}
}

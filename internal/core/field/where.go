package field

import (
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
}

// CompileWhere reads a `where` expression; it must yield true or false.
func CompileWhere(where string) (*vm.Program, error) {
	return expr.Compile(where, expr.Env(WhereEnv{}), expr.AsBool())
}

// WhereEnv gives what a `where` expression sees of this node.
func (n *Node) WhereEnv() WhereEnv {
	return WhereEnv{Name: string(n.Name), Zone: string(n.Zone), Labels: n.Labels, CPU: n.Size.CPU,
		Memory: float64(n.Size.Memory), Disk: float64(n.Size.Disk)}
}

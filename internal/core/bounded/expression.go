// Package bounded evaluates what other people wrote within limits: expressions and templates end after so many steps, and make no more
// than so many bytes, whatever they are asked to go through.
package bounded

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm"
)

// MostSteps is how often the inner part of an expression, as of all(…), may be gone through. A list of a thousand in a list of a
// thousand is within it.
const MostSteps = 2_000_000

// ErrTooMuch says that something takes more steps than it may.
var ErrTooMuch = errors.New("it takes too many steps")

// Expression is a compiled expression that ends.
type Expression struct {
	*vm.Program
	mu    sync.Mutex
	steps int
	ctx   context.Context
}

const tick = "__step"

// Compile compiles an expression.
func Compile(text string, options ...expr.Option) (*Expression, error) {
	e := &Expression{}
	options = append(options, expr.Function(tick, func(...any) (any, error) { return true, e.step() }, new(func() bool)), expr.Patch(counter{}))
	var err error
	e.Program, err = expr.Compile(text, options...)
	if err != nil {
		return nil, err
	}
	return e, nil
}

// counter counts the steps of everything that goes through a list.
type counter struct{}

// Visit puts the counting in front of what is done for each entry.
func (counter) Visit(node *ast.Node) {
	p, ok := (*node).(*ast.PredicateNode)
	if !ok {
		return
	}
	if s, counted := p.Node.(*ast.SequenceNode); counted && len(s.Nodes) == 2 {
		if c, ok := s.Nodes[0].(*ast.CallNode); ok {
			if name, ok := c.Callee.(*ast.IdentifierNode); ok && name.Value == tick {
				return
			}
		}
	}
	inner := p.Node
	p.Node = &ast.SequenceNode{Nodes: []ast.Node{&ast.CallNode{Callee: &ast.IdentifierNode{Value: tick}}, inner}}
	p.Node.SetType(inner.Type())
}

func (e *Expression) step() error {
	e.steps++
	if e.steps > MostSteps {
		return ErrTooMuch
	}
	if e.steps%1024 == 0 {
		return e.ctx.Err()
	}
	return nil
}

// Run evaluates the expression until the context ends, or it has taken too many steps. Runs of one expression wait for each other.
func (e *Expression) Run(ctx context.Context, env any) (out any, err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.steps, e.ctx = 0, ctx
	out, err = expr.Run(e.Program, env)
	if e.steps > MostSteps {
		return nil, ErrTooMuch
	}
	if e.steps >= 1024 && ctx.Err() != nil {
		return nil, fmt.Errorf("it was not done in time: %w", ctx.Err())
	}
	return out, err
}

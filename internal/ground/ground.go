// Package ground brings nodes: it gives them addresses, sees to it that an agent runs on each, and frees them again.
package ground

import (
	"context"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// Ground is where nodes of one kind come from. What it needs to find a node again is in the node's binding; a ground keeps nothing of its own
// that a new process would miss.
type Ground interface {
	// Check says what speaks against asking for nodes, as far as that is known at once. It asks for nothing.
	Check(ctx context.Context, wants []Want, have Bindings) error
	// Give asks for a node and waits until it is there, as long as that takes. It may be asked again for the same want, also after the process
	// that asked has died, and gives then what came of it. Where have holds the node already, it is to be given more addresses.
	Give(ctx context.Context, want Want, have Bindings) (state.Binding, error)
	// Ensure gives a client of the node's agent, starting the agent when none runs.
	Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error)
	// Find gives a client of the node's agent as it was last known, and starts nothing.
	Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error)
	// Abandon ends the agent of a node whose folder is gone (ErrAdrift). It may be repeated.
	Abandon(ctx context.Context, node field.NodeName, at state.Binding) error
	// Found gives the nodes of which something is left where nodes are, by their folders, whoever made them.
	Found(ctx context.Context) Bindings
	// SetAside takes down what runs on such a node, and moves its folder to where it is kept, which it gives.
	SetAside(ctx context.Context, node field.NodeName, at state.Binding) (kept string, err error)
	// Left looks for what is still there of nodes, and of what was made on them: in words, each thing once. It also looks for nodes that are
	// not among them.
	Left(ctx context.Context, nodes Bindings, made []Made) []string
	// Release gives a node back: it ends the node's agent and removes its folder. It may be repeated. A node that was never given has a binding
	// without an address: what was asked for is withdrawn.
	Release(ctx context.Context, node field.NodeName, at state.Binding) error
}

// Foresight is what some grounds have: they can tell what a node would lack before they have given it.
type Foresight interface {
	// Foresee tells what members would lack on such nodes, a sentence for each.
	Foresee(nodes map[field.NodeName][]order.Lookup) []string
}

// Bindings are what grounds have given, by node.
type Bindings = map[field.NodeName]state.Binding

// Want is a node that is asked for.
type Want struct {
	Node     field.Node // as it is declared
	Times    int        // which asking for a node of that name it is: with the field's name, the identity of what is asked for
	Place    int        // of the node among all that the field may have, from 0 on, for grounds that number addresses
	Address  string     // its main one, where the file says it
	Networks []string   // on each of which it is to have an address; the first is its main one
}

// Made is a member that ran on a node, with what was made for it.
type Made struct {
	Member field.MemberName
	Node   field.NodeName
	Folder string
	PIDs   []int // of all its processes
}

// Package ground brings nodes: it gives them addresses, sees to it that an agent runs on each, and frees them again.
package ground

import (
	"context"

	"lanternfield/internal/agentapi"

	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

// Ground is where nodes come from.
type Ground interface {
	// Bind gives an address and a folder to each node of the draft, also those that it could have made, that has none in
	// bound.
	Bind(ctx context.Context, draft *field.Field, bound map[field.NodeName]state.Binding) (map[field.NodeName]state.Binding, error)
	// Ensure gives a client of the node's agent, starting the agent when none runs.
	Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error)
	// Find gives a client of the node's agent as it was last known, and starts nothing.
	Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error)
	// Abandon ends the agent of a node whose folder is gone (ErrAdrift). It may be repeated.
	Abandon(ctx context.Context, node field.NodeName, at state.Binding) error
	// Found gives the nodes of which something is left where nodes are, by their folders, whoever made them.
	Found(ctx context.Context) map[field.NodeName]state.Binding
	// SetAside takes down what runs on such a node, and moves its folder to where it is kept, which it gives.
	SetAside(ctx context.Context, node field.NodeName, at state.Binding) (kept string, err error)
	// Left looks for what is still there of nodes, and of what was made on them: in words, each thing once. It also looks for nodes that are
	// not among them.
	Left(ctx context.Context, nodes map[field.NodeName]state.Binding, made []Made) []string
	// Release ends the node's agent and removes its folder. It may be repeated.
	Release(ctx context.Context, node field.NodeName, at state.Binding) error
}

// Made is a member that ran on a node, with what was made for it.
type Made struct {
	Member field.MemberName
	Node   field.NodeName
	Folder string
	PIDs   []int // of all its processes
}

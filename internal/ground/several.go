package ground

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground/kind"
)

// Several is a ground of grounds, by kind: each node comes from the one that its declaration names, and stays with the one in its binding.
type Several map[string]Ground

func (s Several) of(name string) (Ground, error) {
	if g := s[cmp.Or(name, kind.Local)]; g != nil {
		return g, nil
	}
	return nil, fmt.Errorf("there is no ground of the kind %q here; there is %s", name, strings.Join(slices.Sorted(maps.Keys(s)), ", "))
}

// Foresee asks those that can tell; the nodes are all of one that can.
func (s Several) Foresee(nodes map[field.NodeName][]order.Lookup) []string {
	if f, is := s[kind.Local].(Foresight); is {
		return f.Foresee(nodes)
	}
	return nil
}

// Check asks each ground about its own.
func (s Several) Check(ctx context.Context, wants []Want, have Bindings) error {
	kinds := map[string][]Want{}
	for _, w := range wants {
		kinds[w.Node.Ground.Kind] = append(kinds[w.Node.Ground.Kind], w)
	}
	for _, name := range slices.Sorted(maps.Keys(kinds)) {
		g, err := s.of(name)
		if err != nil {
			return fmt.Errorf("%s cannot be had: %w", kinds[name][0].Node.Name, err)
		}
		if err := g.Check(ctx, kinds[name], s.only(name, have)); err != nil {
			return err
		}
	}
	return nil
}

// only gives what a ground of one kind has given.
func (s Several) only(name string, have Bindings) Bindings {
	out := Bindings{}
	for node, at := range have {
		if cmp.Or(at.Kind, kind.Local) == cmp.Or(name, kind.Local) {
			out[node] = at
		}
	}
	return out
}

// Give asks the ground that the node's declaration names.
func (s Several) Give(ctx context.Context, want Want, have Bindings) (state.Binding, error) {
	g, err := s.of(want.Node.Ground.Kind)
	if err != nil {
		return state.Binding{}, err
	}
	at, err := g.Give(ctx, want, s.only(want.Node.Ground.Kind, have))
	at.Kind, at.Ground = cmp.Or(want.Node.Ground.Kind, kind.Local), want.Node.Ground
	at.Ground.Kind = ""
	return at, err
}

// Ensure asks the ground that gave the node; so do the others that are about one node.
func (s Several) Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	g, err := s.of(at.Kind)
	if err != nil {
		return nil, err
	}
	return g.Ensure(ctx, node, at)
}

// Find gives a client of the node's agent.
func (s Several) Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	g, err := s.of(at.Kind)
	if err != nil {
		return nil, err
	}
	return g.Find(ctx, node, at)
}

// Abandon ends the agent of a node whose folder is gone.
func (s Several) Abandon(ctx context.Context, node field.NodeName, at state.Binding) error {
	g, err := s.of(at.Kind)
	if err != nil {
		return err
	}
	return g.Abandon(ctx, node, at)
}

// Found gives what all grounds find.
func (s Several) Found(ctx context.Context) Bindings {
	found := Bindings{}
	for _, name := range slices.Sorted(maps.Keys(s)) {
		for node, at := range s[name].Found(ctx) {
			at.Kind = name
			found[node] = at
		}
	}
	return found
}

// SetAside takes down what runs on a node that was found.
func (s Several) SetAside(ctx context.Context, node field.NodeName, at state.Binding) (string, error) {
	g, err := s.of(at.Kind)
	if err != nil {
		return "", err
	}
	return g.SetAside(ctx, node, at)
}

// Left asks each ground for its own nodes, and for those that nobody knows.
func (s Several) Left(ctx context.Context, nodes Bindings, made []Made) []string {
	var left []string
	for _, name := range slices.Sorted(maps.Keys(s)) {
		own := s.only(name, nodes)
		left = append(left, s[name].Left(ctx, own, slices.DeleteFunc(slices.Clone(made), func(m Made) bool {
			_, ours := own[m.Node]
			return !ours
		}))...)
	}
	for node, at := range nodes {
		if _, err := s.of(at.Kind); err != nil {
			left = append(left, fmt.Sprintf("%s, which cannot be looked for: %v", node, err))
		}
	}
	return left
}

// Release gives a node back to its ground.
func (s Several) Release(ctx context.Context, node field.NodeName, at state.Binding) error {
	g, err := s.of(at.Kind)
	if err != nil {
		return err
	}
	return g.Release(ctx, node, at)
}

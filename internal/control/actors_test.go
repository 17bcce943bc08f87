package control

import (
	"context"
	"errors"
	"io"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
)

// As a ground, a stage gives nodes when the world does.

func (s *stage) Check(context.Context, []ground.Want, ground.Bindings) error { return nil }

func (s *stage) Give(ctx context.Context, want ground.Want, _ ground.Bindings) (at state.Binding, err error) {
	var takes time.Duration
	s.in(func(w *rehearse.World) { takes = w.GivenAfter[want.Node.Name] })
	select {
	case <-time.After(takes):
	case <-ctx.Done():
		return at, ctx.Err()
	}
	s.in(func(w *rehearse.World) {
		if why := w.NotGiven[want.Node.Name]; why != "" {
			err = errors.New(why)
			return
		}
		at = w.Binding(want.Node.Name)
	})
	return at, err
}

func (s *stage) Ensure(_ context.Context, node field.NodeName, _ state.Binding) (agentapi.Agent, error) {
	return &actor{s, node}, nil
}

func (s *stage) Find(_ context.Context, node field.NodeName, _ state.Binding) (agentapi.Agent, error) {
	return &actor{s, node}, nil
}

func (s *stage) Release(_ context.Context, node field.NodeName, at state.Binding) (err error) {
	if at.Address != "" {
		s.in(func(w *rehearse.World) { err = w.Free(node) })
	}
	return err
}

func (s *stage) Abandon(context.Context, field.NodeName, state.Binding) error  { return nil }
func (s *stage) Found(context.Context) ground.Bindings                         { return nil }
func (s *stage) Left(context.Context, ground.Bindings, []ground.Made) []string { return nil }
func (s *stage) SetAside(context.Context, field.NodeName, state.Binding) (string, error) {
	return "", nil
}

// actor is the agent of a node of the world.
type actor struct {
	*stage
	node field.NodeName
}

// reach does something on the node. Where that cannot be reached, or the question or its answer is lost, it waits until the caller has had enough.
func (a *actor) reach(ctx context.Context, do func(w *rehearse.World)) error {
	arrives, reached := !a.lost(), false
	a.in(func(w *rehearse.World) {
		if reached = arrives && w.Reaches(a.node); reached {
			do(w)
		}
	})
	if reached && !a.lost() {
		return ctx.Err()
	}
	<-ctx.Done()
	return ctx.Err()
}

func (a *actor) Standing(ctx context.Context) (st order.Standing, err error) {
	err = a.reach(ctx, func(w *rehearse.World) { st = order.Standing{Agent: w.Agent(a.node), Life: w.Agent(a.node)} })
	return st, err
}

func (a *actor) Claim(ctx context.Context, _ order.Claim) error {
	return a.reach(ctx, func(*rehearse.World) {})
}

func (a *actor) Put(ctx context.Context, o order.Order) error {
	return a.reach(ctx, func(w *rehearse.World) { w.Receive(a.node, o) })
}

func (a *actor) Operate(ctx context.Context, o order.Operation) error {
	return a.reach(ctx, func(w *rehearse.World) { w.Operate(a.node, o) })
}

func (a *actor) Reports(ctx context.Context, life string, after, heard uint64, wait time.Duration) (*agentapi.News, error) {
	for patience := time.After(wait); ; {
		news := &agentapi.News{}
		var woken chan struct{}
		err := a.reach(ctx, func(w *rehearse.World) {
			news.Agent = w.Agent(a.node)
			if life != news.Agent {
				after, heard = 0, 0
			}
			news.Reports = w.Reports(a.node, after, heard)
			if woken = a.news[a.node]; woken == nil {
				woken = make(chan struct{})
				a.news[a.node] = woken
			}
		})
		if err != nil || len(news.Reports) > 0 {
			return news, err
		}
		select {
		case <-woken:
		case <-patience:
			return news, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (a *actor) Series(context.Context, time.Time) (agentapi.Series, error) { return nil, nil }
func (a *actor) Search(context.Context, agentapi.Search) (*agentapi.Found, error) {
	return &agentapi.Found{}, nil
}

func (a *actor) Samples(context.Context, time.Time) (agentapi.Samples, error) {
	return agentapi.Samples{}, nil
}
func (a *actor) Inspect(context.Context) (io.ReadWriteCloser, error) {
	return nil, errors.ErrUnsupported
}
func (a *actor) Lookups(context.Context, []order.Lookup) ([]string, error) { return nil, nil }
func (a *actor) Account(context.Context) ([]string, error)                 { return nil, nil }
func (a *actor) Copy(context.Context, []byte) error                        { return nil }
func (a *actor) Quit(context.Context) error                                { return nil }
func (a *actor) Close()                                                    {}
func (a *actor) Ask(context.Context, field.MemberName, order.Question) (order.Said, error) {
	return order.Said{OK: true}, nil
}
func (a *actor) Visit(context.Context, field.MemberName, agentapi.Visit) (*agentapi.Frames, error) {
	return nil, errors.New("nobody is at home")
}
func (a *actor) Log(context.Context, field.MemberName, int64, int) (*agentapi.Log, error) {
	return &agentapi.Log{}, nil
}

package control

import (
	"context"
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// cutOff is a paper of whose nodes one cannot be reached: looking for it takes as long as it may.
type cutOff struct {
	*paper
	away field.NodeName

	mu    sync.Mutex
	tried int
}

func (g *cutOff) Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	g.mu.Lock()
	away := node == g.away
	if away {
		g.tried++
	}
	g.mu.Unlock()
	if away {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return g.paper.Find(ctx, node, at)
}

// TestANodeThatIsAwayKeepsNobodyWaiting: whoever asks for another node is answered at once, all who ask for the one that is away share one search for it, and it
// is found once it is back.
func TestANodeThatIsAwayKeepsNobodyWaiting(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		away, here := &paperAgent{wake: make(chan struct{})}, &paperAgent{wake: make(chan struct{})}
		g := &cutOff{paper: &paper{nodes: map[field.NodeName]*paperAgent{"gull": away, "skua": here}}, away: "gull"}
		r := newReach(g, &state.State{Nodes: map[field.NodeName]*state.Node{"gull": {}, "skua": {}}})
		defer r.close()
		within := func(limit time.Duration, node field.NodeName) (agentapi.Agent, error) {
			ctx, cancel := context.WithTimeout(t.Context(), limit)
			defer cancel()
			return r.agent(ctx, node)
		}
		var asking sync.WaitGroup
		asking.Go(func() {
			if _, err := within(2*time.Second, "gull"); !errors.Is(err, context.DeadlineExceeded) {
				t.Errorf("gull is found: %v", err)
			}
		})
		synctest.Wait()
		began := time.Now()
		asking.Go(func() {
			if _, err := within(time.Second, "gull"); !errors.Is(err, context.DeadlineExceeded) || time.Since(began) != time.Second {
				t.Errorf("who waits for the search of another waits %s: %v", time.Since(began), err)
			}
		})
		if a, err := within(time.Second, "skua"); a != here || err != nil || time.Since(began) > 0 {
			t.Errorf("skua is found after %s: %v %v", time.Since(began), a, err)
		}
		asking.Wait()
		if g.tried != 1 {
			t.Errorf("gull was looked for %d times at once", g.tried)
		}
		g.mu.Lock()
		g.away = ""
		g.mu.Unlock()
		if a, err := within(time.Second, "gull"); a != away || err != nil {
			t.Errorf("gull is back, and is not found: %v %v", a, err)
		}
	})
}

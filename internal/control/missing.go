package control

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
)

// lookupWait is how long an agent may take to say what is missing on its node.
const lookupWait = 3 * time.Second

// missing asks the nodes concerned what they lack to carry a draft out. A node that does not answer is not waited for: what it
// lacks shows when its members are started.
func missing(ctx context.Context, g ground.Ground, at map[field.NodeName]state.Binding, lookups, soon map[field.NodeName][]order.Lookup) []string {
	ctx, cancel := context.WithTimeout(ctx, lookupWait)
	defer cancel()
	var (
		mu     sync.Mutex
		asking sync.WaitGroup
		out    = foreseen(g, soon)
	)
	for node, list := range lookups {
		asking.Add(1)
		go func() {
			defer asking.Done()
			client, err := g.Find(ctx, node, at[node])
			if err != nil {
				return
			}
			defer client.Close()
			if lacks, err := client.Lookups(ctx, list); err == nil {
				mu.Lock()
				defer mu.Unlock()
				out = append(out, lacks...)
			}
		}()
	}
	asking.Wait()
	slices.Sort(out)
	return out
}

// soonOf leaves those of the nodes that are made of this machine: what others will be like, nobody knows yet.
func soonOf(draft *field.Field, soon map[field.NodeName][]order.Lookup) map[field.NodeName][]order.Lookup {
	local := map[field.NodeName][]order.Lookup{}
	for i := range draft.Nodes {
		n := &draft.Nodes[i]
		if list := soon[n.Name]; len(list) > 0 && draft.GroundOf(n) == kind.Local {
			local[n.Name] = list
		}
	}
	return local
}

// foreseen asks who gives nodes what those will lack that are not there yet.
func foreseen(g ground.Ground, soon map[field.NodeName][]order.Lookup) []string {
	if f, is := g.(ground.Foresight); is && len(soon) > 0 {
		return f.Foresee(soon)
	}
	return nil
}

// bindings gives where the nodes of a state are that are there.
func bindings(s *state.State) ground.Bindings {
	at := ground.Bindings{}
	for name, n := range s.Nodes {
		if !n.Released && n.There() {
			at[name] = n.Binding()
		}
	}
	return at
}

// lacks asks what the nodes lack to carry out a draft; the controller's state is not held meanwhile.
func (c *Controller) lacks(ctx context.Context, draft *field.Field) ([]string, error) {
	s := c.current()
	there, soon, err := review.Lookups(s, draft)
	if err != nil || len(there)+len(soon) == 0 {
		return nil, err
	}
	return missing(ctx, c.ground, bindings(s), there, soonOf(draft, soon)), nil
}

// MissingError says what nodes lack to carry out a draft.
type MissingError struct{ Lacks []string }

func (e *MissingError) Error() string {
	lacks, more := e.Lacks, ""
	if n := len(lacks); n > 5 {
		more = fmt.Sprintf("; and %d more", n-5)
		lacks = lacks[:5]
	}
	return fmt.Sprintf("nodes lack what the draft needs: %s%s; nothing has been changed", strings.Join(lacks, "; "), more)
}

func missingError(lacks []string) error {
	if len(lacks) == 0 {
		return nil
	}
	return &MissingError{lacks}
}

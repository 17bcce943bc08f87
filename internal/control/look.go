package control

import (
	"context"
	"errors"
	"maps"
	"path/filepath"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/keyring"
)

// ErrNothing says that nothing is known of a field.
var ErrNothing = eventlog.ErrNone

// lookWait is how long an agent may take to answer a look.
const lookWait = 700 * time.Millisecond

// Look gives the field as it is, taking hold of nothing and storing nothing: through the controller where there is one,
// else from the log and the agents.
func Look(ctx context.Context, f Folder) (*snapshot.Snapshot, error) {
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if s, err := r.Snapshot(ctx); err == nil {
			return s, nil
		} // it has just let go
	}
	s, err := readState(f)
	if err != nil && !errors.Is(err, ErrNothing) {
		return nil, err
	}
	if unknown := f.unknownTo(s); unknown != nil {
		return nil, unknown
	}
	if err != nil {
		return nil, err
	}
	measures := askAgents(ctx, f, s)
	snap := snapshot.Of(s, time.Now().UTC())
	addMeasures(snap, measures)
	if holder, _ := f.Holder(); holder != nil { // it is starting, ending, or does not answer
		snap.Keeper = Keeper{Holder: *holder}.view()
	}
	snap.Due = snap.Keeper == nil && !engine.Settled(s)
	return snap, nil
}

// LookReview reviews a draft against what is stored and what the agents tell, taking hold of nothing.
func LookReview(ctx context.Context, f Folder, draft *field.Field) (*plan.Review, error) {
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if _, err := r.Snapshot(ctx); err == nil {
			return r.Review(ctx, draft)
		}
	}
	s, err := stateOrNew(f)
	if err != nil {
		return nil, err
	}
	askAgents(ctx, f, s)
	if err := f.unlinked(s, draft); err != nil {
		return nil, err
	}
	draft = resolve.Surrounded(draft, f.Around)
	r, err := review.Of(s, draft)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	rollout.Ahead(s, draft, r, now)
	rollout.Consequences(s, r, now)
	if there, soon, err := review.Lookups(s, draft); err == nil && len(there)+len(soon) > 0 {
		if g, err := f.ground(s); err == nil {
			r.Missing = missing(ctx, g, bindings(s), there, soonOf(draft, soon))
		}
	}
	return r, nil
}

// stateOrNew gives the state of a field, and that of one that was never deployed where nothing is known.
func stateOrNew(f Folder) (*state.State, error) {
	s, err := readState(f)
	if errors.Is(err, ErrNothing) {
		return state.NewState(), nil
	}
	return s, err
}

// Ungiven lists the secrets that a draft says are given, and that have not been, taking hold of nothing.
func Ungiven(f Folder, draft *field.Field) ([]string, error) {
	s, err := stateOrNew(f)
	if err != nil {
		return nil, err
	}
	return engine.UngivenIn(s, draft), nil
}

// LookPreview renders what a member would be run with by a draft, and what it runs with, taking hold of nothing.
func LookPreview(ctx context.Context, f Folder, draft *field.Field, member field.MemberName) (*review.Files, error) {
	all, err := LookPreviews(ctx, f, draft, []field.MemberName{member})
	return all[member], err
}

// LookPreviews renders that of several members.
func LookPreviews(ctx context.Context, f Folder, draft *field.Field, members []field.MemberName) (map[field.MemberName]*review.Files, error) {
	var preview func(field.MemberName) (*review.Files, error)
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if _, err := r.Snapshot(ctx); err == nil {
			preview = func(m field.MemberName) (*review.Files, error) { return r.Preview(ctx, draft, m) }
		}
	}
	if preview == nil {
		s, err := stateOrNew(f)
		if err != nil {
			return nil, err
		}
		askAgents(ctx, f, s)
		surrounded := resolve.Surrounded(draft, f.Around)
		preview = func(m field.MemberName) (*review.Files, error) { return review.Preview(s, surrounded, m) }
	}
	out := map[field.MemberName]*review.Files{}
	for _, m := range members {
		files, err := preview(m)
		if err != nil {
			return nil, err
		}
		out[m] = files
	}
	return out, nil
}

// unknownTo finds nodes by their folders that a log does not know although something of them is there.
func (f Folder) unknownTo(s *state.State) error {
	if s == nil {
		s = state.NewState()
	}
	if found := strangeTo(s, (&ground.Local{Dir: f.nodes()}).Found(context.Background())); len(found) > 0 {
		return &LacksError{fieldName(f), lost(nil, found)}
	}
	return nil
}

// readState folds the log, taking hold of nothing.
func readState(f Folder) (*state.State, error) {
	fold, done, err := f.folder(f.Progress)
	if err != nil {
		return nil, err
	}
	defer done()
	s, _, err := fold.Fold(nil)
	return s, err
}

// askAgents folds what the agents have to tell into the state, which is thrown away afterwards.
func askAgents(ctx context.Context, f Folder, s *state.State) map[field.MemberName]agentapi.Measure {
	if !s.Deployed() {
		return nil
	}
	measures := map[field.MemberName]agentapi.Measure{}
	g, failed := f.ground(s)
	ctx, cancel := context.WithTimeout(ctx, lookWait)
	defer cancel()
	var inputs []engine.Input
	var mu sync.Mutex
	var asking sync.WaitGroup
	for _, n := range s.Nodes {
		if n.Released || !n.There() {
			continue
		}
		asking.Add(1)
		go func() {
			defer asking.Done()
			var in []engine.Input
			var seen map[field.MemberName]agentapi.Measure
			var client agentapi.Agent
			refuses := false
			err := failed
			if err == nil {
				client, err = g.Find(ctx, n.Name, n.Binding())
			}
			if err == nil {
				defer client.Close()
				standing, failed := client.Standing(ctx)
				if err = failed; err == nil {
					if why := s.Claim(n, standing).Lacks(standing); why != "" {
						err, refuses = errors.New(why), true
					}
				}
				var news *agentapi.News
				if err == nil {
					news, err = client.Reports(ctx, n.Agent, n.Heard, 0, 0)
				}
				if err == nil {
					if all, err := client.Series(ctx, time.Time{}); err == nil {
						seen = newestOf(all)
					}
					in = []engine.Input{engine.NodeFound{Node: n.Name}, engine.Reports{Node: n.Name, Agent: news.Agent, Reports: news.Reports}}
				}
			}
			if err != nil {
				in = []engine.Input{engine.NodeLost{Node: n.Name, Why: err.Error(), Refuses: refuses}}
			}
			mu.Lock()
			defer mu.Unlock()
			inputs = append(inputs, in...)
			maps.Copy(measures, seen)
		}()
	}
	asking.Wait()
	for _, in := range inputs {
		_, _ = engine.Observe(s, time.Now().UTC(), in) // neither input can be refused
	}
	return measures
}

// ground gives the field's ground to look at, making nothing: as a controller where the keyring can be opened without asking anybody, else as who only
// watches. Where there is neither, its agents are of an older version. The state says which certificates were revoked.
func (f Folder) ground(s *state.State) (ground.Ground, error) {
	ring, err := f.opened()
	var sealed *SealedError
	switch {
	case errors.Is(err, keyring.ErrNone) && f.Grounds == nil:
		return ground.Several{kind.Local: &ground.Local{Dir: f.nodes()}}, nil
	case errors.As(err, &sealed):
		ring = nil
	case err != nil:
		return nil, err
	}
	g, follows, err := f.groundWith(ring)
	if err != nil {
		return nil, err
	}
	follows.set(s)
	return g, nil
}

// groundToAct gives the field's ground for doing something at its members: a person is asked for the passphrase, where there is one.
func (f Folder) groundToAct(s *state.State) (ground.Ground, error) {
	f, err := f.Unsealed()
	if err != nil {
		return nil, err
	}
	return f.ground(s)
}

// AgentPID finds the process of a node's agent on this machine.
func AgentPID(f Folder, node field.NodeName) (int, error) {
	return ground.AgentPID(filepath.Join(f.nodes(), string(node)))
}

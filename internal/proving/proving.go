// Package proving carries out proofs: it asks members, through their agents, and databases, one step after the other, and says what came of it.
package proving

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// Asker puts a question to a member through the agent of its node.
type Asker func(ctx context.Context, node field.NodeName, m field.MemberName, q order.Question) (order.Said, error)

// Prover carries out proofs of one field.
type Prover struct {
	State *state.State // as it is now: who is there, ready, and leads; not changed, and nobody else changes it
	Ask   Asker
	Kept  render.Kept // what stands where texts have marks
}

// How long proofs and their steps may take where they say nothing, and how soon a step is tried again.
const (
	wholeWithin = time.Minute
	stepWithin  = 5 * time.Second
	firstRetry  = 50 * time.Millisecond
	mostRetry   = time.Second
	mostResults = 60   // of steps at members that are kept of one proof
	mostWhy     = 1000 // bytes of a reason
)

// run is one proof under way.
type run struct {
	Prover
	scene  *render.Scene
	role   *field.Role
	proof  field.NamedProof
	scope  render.ProofScope
	single map[field.MemberName]bool // who was asked by one or leader
	result state.ProofResult

	mu      sync.Mutex
	secrets map[string]bool // that were put into steps
}

// Run carries out a proof, cleans up after it whatever came of it, and says what that was.
func (p Prover) Run(ctx context.Context, which *state.ProofRun) state.ProofResult {
	began := time.Now()
	role := p.State.Field.Role(which.Role)
	if role == nil {
		return state.ProofResult{Why: fmt.Sprintf("there is no role %s any more", which.Role)}
	}
	proof, is := role.Proof(which.Name)
	if !is {
		return state.ProofResult{Why: fmt.Sprintf("%s has no proof %s any more", which.Role, which.Name)}
	}
	r := &run{Prover: p, scene: p.State.Scene(), role: role, proof: proof, single: map[field.MemberName]bool{}, secrets: map[string]bool{},
		scope: render.ProofScope{Space: render.SpaceOf(role.Name, proof.Name), Once: rand.Text(), Values: map[string]string{}}}
	within := proof.Within.Or(wholeWithin)
	whole, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("it has taken longer than %s", field.Span(within)))
	defer cancel()
	err := r.steps(whole, "clean", proof.Clean)
	if err != nil {
		err = fmt.Errorf("what an earlier proof may have left could not be removed: %w", err)
	} else {
		err = r.steps(whole, "steps", proof.Steps)
	}
	after, stop := context.WithTimeout(ctx, wholeWithin)
	defer stop()
	r.single = map[field.MemberName]bool{}
	if left := r.steps(after, "clean", proof.Clean); left != nil && err == nil {
		err = fmt.Errorf("all steps held, but what they wrote could not be removed: %w", left)
	}
	r.result.OK, r.result.Took = err == nil, time.Since(began).Round(time.Millisecond)
	if err != nil {
		r.result.Why = shorten(err.Error())
	}
	return r.result
}

// steps carries out steps until one fails.
func (r *run) steps(ctx context.Context, key string, steps []field.ProofStep) error {
	for i, s := range steps {
		of := cmp.Or(s.Of, r.role.Name)
		asked, err := r.targets(s.To, of)
		if err != nil {
			return r.note(key, state.StepResult{Say: s.Say}, err)
		}
		path := slices.Concat(r.proof.Path, []string{key, strconv.Itoa(i)})
		if err := r.all(ctx, key, s, path, asked); err != nil {
			return err
		}
	}
	return nil
}

// all asks several members at the same time, and waits for all.
func (r *run) all(ctx context.Context, key string, s field.ProofStep, path []string, asked []*state.Member) error {
	results := make([]state.StepResult, len(asked))
	captured := make([]map[string]string, len(asked))
	errs := make([]error, len(asked))
	var wait sync.WaitGroup
	for i, m := range asked {
		wait.Go(func() { results[i], captured[i], errs[i] = r.one(ctx, s, path, m) })
	}
	wait.Wait()
	for i := range asked {
		for name, value := range captured[i] {
			r.scope.Values[name] = value
		}
	}
	errs, enough := r.enough(s, asked, results, errs)
	if enough != nil {
		return enough
	}
	var failed error
	for i := range asked {
		if err := r.note(key, results[i], errs[i]); failed == nil {
			failed = err
		}
	}
	return failed
}

// note keeps what came of a step, and words why it failed.
func (r *run) note(key string, s state.StepResult, err error) error {
	s.OK = err == nil && !s.Borne
	if err != nil {
		s.Why = shorten(err.Error())
	}
	if len(r.result.Steps) < mostResults && (key == "steps" || err != nil) {
		r.result.Steps = append(r.result.Steps, s)
	}
	if err == nil {
		return nil
	}
	what := cmp.Or(s.Say, "a step without a name")
	if s.Member != "" && !strings.Contains(what, string(s.Member)) {
		return fmt.Errorf("%s, asked of %s: %w", what, s.Member, err)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// targets are the members that a step asks, in the order of their names.
func (r *run) targets(to field.To, of field.RoleName) ([]*state.Member, error) {
	ready, err := r.ready(of)
	if err != nil {
		return nil, err
	}
	switch to {
	case field.ToEach:
		return ready, nil
	case field.ToOthers:
		return slices.DeleteFunc(ready, func(m *state.Member) bool { return r.single[m.Name] }), nil
	case field.ToLeader:
		leader := r.State.Member(r.State.RoleOf(of).Leader)
		if r.State.RoleOf(of).Leader == "" || leader == nil {
			return nil, fmt.Errorf("nobody leads %s", of)
		}
		r.single[leader.Name] = true
		return []*state.Member{leader}, nil
	}
	r.single[ready[0].Name] = true
	return ready[:1], nil
}

// ready are the members of a role that can be asked, in the order of their names.
func (r *run) ready(of field.RoleName) ([]*state.Member, error) {
	var ready []*state.Member
	for _, m := range state.SortedMembers(r.State) {
		if m.Role == of && r.State.Works(m) && !m.Leaving {
			ready = append(ready, m)
		}
	}
	if len(ready) == 0 {
		return nil, fmt.Errorf("nobody of %s is ready to be asked", of)
	}
	return ready, nil
}

// one asks one member until it answers as expected, or the time for that is over.
func (r *run) one(ctx context.Context, s field.ProofStep, path []string, m *state.Member) (result state.StepResult, captured map[string]string, err error) {
	result = state.StepResult{Say: s.Say, Member: m.Name}
	step, err := r.scene.ProofStep(m.Name, r.role.Name, s, path, r.scope)
	result.Say = step.Say
	if err != nil {
		return result, nil, err
	}
	from := m
	if s.From != "" {
		others, err := r.ready(s.From)
		if err != nil {
			return result, nil, err
		}
		from = others[0]
		result.From = from.Name
	}
	var seen *variety
	if step.Different != "" {
		seen = newVariety(&step)
	}
	r.unseal(&step)
	began, pause := time.Now(), firstRetry
	for {
		result.Tries++
		if captured, err = r.try(ctx, m, from, step); err == nil && seen != nil {
			err = seen.take(captured)
		}
		if err != nil {
			err = errors.New(r.hide(err.Error()))
		}
		result.Took = time.Since(began).Round(100 * time.Microsecond)
		switch {
		case err == nil:
			return result, captured, nil
		case ctx.Err() != nil:
			return result, nil, fmt.Errorf("%w; last, %w", context.Cause(ctx), err)
		case time.Since(began)+pause > time.Duration(s.RetryFor):
			if s.RetryFor > 0 {
				err = fmt.Errorf("not within %s: %w", field.Span(time.Duration(s.RetryFor)), err)
			}
			return result, nil, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		if pause = min(2*pause, mostRetry); seen != nil {
			pause = firstRetry
		}
	}
}

// try asks once.
func (r *run) try(ctx context.Context, m, from *state.Member, step field.ProofStep) (map[string]string, error) {
	within := step.Timeout.Or(stepWithin)
	if step.SQL != nil {
		return sqlStep(ctx, within, m.Name, step, r.authority())
	}
	q := order.Question{Call: step.Call, Expect: step.Expect, Capture: step.Capture, Timeout: within}
	if from != m {
		spec, err := r.scene.Spec(m.Name)
		if err != nil {
			return nil, err
		}
		q.At = &order.Place{Address: spec.Address, Ports: spec.Ports}
		if asks, err := r.scene.Spec(from.Name); err == nil && asks.TLS != nil { // whoever asks shows its own certificate
			q.At.TLS = r.shown(asks.TLS)
		} else {
			q.At.TLS = r.shown(r.scene.Believes(m.Name))
		}
	}
	said, err := r.Ask(ctx, from.Node, from.Name, q)
	if err != nil {
		return nil, err
	}
	if !said.OK {
		return nil, errors.New(said.Why)
	}
	return said.Captured, nil
}

// shown puts into what is shown what its marks stand for.
func (r *run) shown(t *order.TLS) *order.TLS {
	if t == nil {
		return nil
	}
	put := func(text string) string { return render.Put(text, r.Kept) }
	return &order.TLS{Authority: put(t.Authority), Certificate: put(t.Certificate), Key: put(t.Key)}
}

// authority is whom a database that speaks TLS must be vouched for by; empty where no member of the field has a certificate.
func (r *run) authority() string {
	if len(r.scene.Authorities) == 0 {
		return ""
	}
	return render.Put(r.scene.Authority(), r.Kept)
}

// unseal puts secrets where their marks are.
func (r *run) unseal(s *field.ProofStep) {
	kept := r.Kept
	kept.Secret = func(s render.Secret) string {
		value := r.Kept.Secret(s)
		r.mu.Lock()
		defer r.mu.Unlock()
		r.secrets[value] = true
		return value
	}
	put := func(text *string) { *text = render.Put(*text, kept) }
	if h := s.HTTP; h != nil {
		put(&h.Path)
		put(&h.Body)
		for name, value := range h.Headers {
			text := render.Put(string(value), kept)
			if written, basic := strings.CutPrefix(text, "Basic "); basic && text != string(value) {
				r.mu.Lock()
				r.secrets[written] = true
				r.mu.Unlock()
			}
			h.Headers[name] = field.Text(text)
		}
	}
	if t := s.TCP; t != nil {
		put(&t.Send)
		put(&t.Expect)
	}
	if s.SQL != nil {
		put(&s.SQL.URL)
		put(&s.SQL.Statement)
	}
	put(&s.Expect)
}

// hide takes secrets out of what is shown and stored.
func (r *run) hide(text string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	for secret := range r.secrets {
		text = strings.ReplaceAll(text, secret, "(secret)")
	}
	return text
}

func shorten(text string) string {
	if len(text) > mostWhy {
		return strings.ToValidUTF8(text[:mostWhy], "") + "…"
	}
	return text
}

package control

import (
	"context"
	"encoding/base64"
	"fmt"
	"sync"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// withSecrets puts the field's secrets, and its members' certificates, where templates asked for them. Where one of them cannot be made, nothing is to be
// sent: a member would be given a file without it.
func (c *Controller) withSecrets(o order.Order) (order.Order, error) {
	if o.Spec == nil {
		return o, nil
	}
	spec, err := c.specWithSecrets(o.Spec)
	if err != nil {
		return o, fmt.Errorf("%s is not given its order: %w", o.Member, err)
	}
	o.Spec = spec
	return o, nil
}

// withOperationSecrets does the same for an operation: commands that it runs have the member's environment.
func (c *Controller) withOperationSecrets(o order.Operation) (order.Operation, error) {
	spec, err := c.specWithSecrets(o.Spec)
	if err == nil {
		o.Spec = spec
		o.Do.Call = render.Filled(o.Do.Call, c.kept(&err))
	}
	if err != nil {
		return o, fmt.Errorf("a step of %s cannot be asked for: %w", o.Member, err)
	}
	return o, nil
}

func (c *Controller) specWithSecrets(from *order.Spec) (*order.Spec, error) {
	var failed error
	kept := c.kept(&failed)
	put := func(text string) string { return render.Put(text, kept) }
	spec := *from
	spec.Files = append([]order.File(nil), spec.Files...)
	for i := range spec.Files {
		spec.Files[i].Content = put(spec.Files[i].Content)
	}
	if spec.Env != nil {
		env := map[string]string{}
		for k, v := range spec.Env {
			env[k] = put(v)
		}
		spec.Env = env
	}
	tls := func(t *order.TLS) *order.TLS {
		if t == nil {
			return nil
		}
		return &order.TLS{Authority: put(t.Authority), Certificate: put(t.Certificate), Key: put(t.Key)}
	}
	spec.TLS = tls(spec.TLS)
	if spec.Floating != nil {
		f := *spec.Floating
		f.Password, f.TLS = put(f.Password), tls(f.TLS)
		spec.Floating = &f
	}
	return &spec, failed
}

// kept is what stands where texts have marks. Why a certificate, or a secret, cannot be had is noted, where anybody wants to know.
func (c *Controller) kept(failed *error) render.Kept {
	fail := func(err error) {
		if failed != nil {
			*failed = err
		}
	}
	return render.Kept{Secret: func(s render.Secret) string {
		value, err := secretIn(c.ring, s)
		if err != nil {
			fail(err)
		}
		return s.In(value)
	}, Trust: func(m trust.Mark) string {
		text, err := c.minted.of(c.members, m)
		if err != nil {
			fail(err)
		}
		return text
	}, Sealed: func(node field.NodeName, data string) string {
		text, err := c.openCaptured(node, data)
		if err != nil {
			fail(fmt.Errorf("what was captured by the agent of %s cannot be read: %w", node, err))
		}
		return text
	}}
}

// openCaptured opens what the agent of a node has encrypted.
func (c *Controller) openCaptured(node field.NodeName, data string) (string, error) {
	raw, err := base64.StdEncoding.DecodeString(data)
	if err != nil {
		return "", err
	}
	sealer, err := identity.NewSealer(sealOf(c.ring, node))
	if err != nil {
		return "", err
	}
	text, err := sealer.Open(raw)
	return string(text), err
}

// sealOf is the key with which the agent of a node seals.
func sealOf(ring *keyring.Keyring, node field.NodeName) []byte {
	return sum(ring.Key(), "seal of "+string(node))
}

// secretIn is what a secret is: what was given, or what is made of the field's key.
func secretIn(ring *keyring.Keyring, s render.Secret) (string, error) {
	if s.Given {
		value, ok := ring.Given(s.Name, s.Number)
		if !ok {
			return "", fmt.Errorf("the secret %s that was given (number %d) is not in the keyring: put that back from a newer copy, or give another with `lanternfield trust change`", s.Name, s.Number)
		}
		return value, nil
	}
	name := "secret " + s.Name
	if s.Number > 1 {
		name += fmt.Sprintf(" number %d", s.Number)
	}
	return derive(ring.Key(), name), nil
}

// SecretAsked asks for another secret in the place of one.
type SecretAsked struct {
	Name   string `json:"name"`
	Given  bool   `json:"given,omitempty"` // it is that value; else it is made
	Value  string `json:"value,omitempty"`
	By     string `json:"by,omitempty"`
	Review bool   `json:"review,omitempty"` // only say what would follow
}

// ChangeSecret has another secret take the place of one, and says what follows; nothing where nothing is deployed that has it.
func (c *Controller) ChangeSecret(ctx context.Context, ask SecretAsked) (*plan.Review, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	if err := c.heard(ctx); err != nil {
		return nil, err
	}
	if err := c.trusted(); err != nil {
		return nil, err
	}
	s := c.current()
	number, err := engine.NextSecret(s, ask.Name)
	if err != nil {
		return nil, err
	}
	r := &plan.Review{}
	if s.Deployed() {
		if ask.Given && ask.Value != "" {
			err = s.Field.CheckSecret(ask.Name, ask.Value)
		}
		if err == nil {
			r, err = review.ChangedSecret(s, ask.Name, ask.Given)
		}
	}
	if err != nil || ask.Review {
		return r, err
	}
	if ask.Given {
		if err := c.ring.Give(ask.Name, number, ask.Value); err != nil {
			return nil, err
		}
	}
	return r, c.submit(ctx, input{in: engine.ChangeSecret{Name: ask.Name, Given: ask.Given, By: ask.By}})
}

// minted remembers what marks stand for: orders are filled anew whenever they are repeated.
type minted struct {
	mu   sync.Mutex
	made map[string]string
}

// mostMinted is how many are remembered.
const mostMinted = 20_000

func (k *minted) of(members *identity.Members, m trust.Mark) (string, error) {
	name := m.String()
	k.mu.Lock()
	text, known := k.made[name]
	k.mu.Unlock()
	if known {
		return text, nil
	}
	text, err := members.Of(m)
	if err != nil {
		return "", err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.made == nil || len(k.made) >= mostMinted {
		k.made = map[string]string{}
	}
	k.made[name] = text
	return text, nil
}

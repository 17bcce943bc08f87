package state

import (
	"bytes"
	"compress/flate"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// Version is that of the folding: it rises whenever the same events lead to another state than before, or a state is made of other
// parts. Encoded states of other versions are of no use.
const Version = 10

// encoded is a state with each spec once, by its hash.
type encoded struct {
	State *State
	Specs map[string]*order.Spec `json:",omitempty"`
}

// Encode gives a state as bytes, to be had back by Decode.
func Encode(s *State) ([]byte, error) {
	specs := map[string]*order.Spec{}
	hashes := map[*order.Spec]string{}
	var failed error
	refer := func(spec *order.Spec) *order.Spec {
		if spec == nil {
			return nil
		}
		hash, known := hashes[spec]
		if !known {
			_, h, err := EncodeSpec(spec)
			if err != nil {
				failed = err
			}
			hash, hashes[spec], specs[h] = h, h, spec
		}
		return &order.Spec{Ref: hash}
	}
	copied := *s
	copied.Members, copied.Former = eachMember(s.Members, refer), eachMember(s.Former, refer)
	copied.Roles = eachRole(s.Roles, refer)
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, flate.BestSpeed)
	if err == nil {
		err = json.NewEncoder(w).Encode(encoded{&copied, specs})
	}
	if err == nil {
		err = w.Close()
	}
	if err == nil {
		err = failed
	}
	return b.Bytes(), err
}

// Decode gives the state that was encoded.
func Decode(data []byte) (*State, error) {
	e := encoded{State: NewState()}
	if err := json.NewDecoder(flate.NewReader(bytes.NewReader(data))).Decode(&e); err != nil && err != io.EOF {
		return nil, fmt.Errorf("a stored state cannot be read: %w", err)
	}
	var missing error
	resolve := func(spec *order.Spec) *order.Spec {
		if spec == nil || spec.Ref == "" {
			return spec
		}
		if e.Specs[spec.Ref] == nil {
			missing = fmt.Errorf("a stored state lacks the spec %s", spec.Ref)
		}
		return e.Specs[spec.Ref]
	}
	e.State.Members, e.State.Former = eachMember(e.State.Members, resolve), eachMember(e.State.Former, resolve)
	e.State.Roles = eachRole(e.State.Roles, resolve)
	return e.State, missing
}

// Clone gives a copy that shares nothing that folding changes.
func (s *State) Clone() *State {
	c := *s
	c.drawn = nil
	same := func(spec *order.Spec) *order.Spec { return spec }
	c.Members, c.Former, c.Roles, c.Nodes = eachMember(s.Members, same), eachMember(s.Former, same), eachRole(s.Roles, same), maps.Clone(s.Nodes)
	for name, n := range s.Nodes {
		copied := *n
		copied.Strays = maps.Clone(n.Strays)
		c.Nodes[name] = &copied
	}
	c.Marks, c.Lasted, c.Judged, c.Rendered = maps.Clone(s.Marks), maps.Clone(s.Lasted), maps.Clone(s.Judged), maps.Clone(s.Rendered)
	return &c
}

// eachMember gives copies of members with other specs.
func eachMember(members map[field.MemberName]*Member, change func(*order.Spec) *order.Spec) map[field.MemberName]*Member {
	out := maps.Clone(members)
	for name, m := range members {
		c := *m
		c.Ordered.Spec, c.Running, c.Was = change(m.Ordered.Spec), change(m.Running), change(m.Was)
		c.Specs = nil
		for _, o := range m.Specs {
			c.Specs = append(c.Specs, OrderedSpec{o.Revision, change(o.Spec)})
		}
		out[name] = &c
	}
	return out
}

// eachRole gives copies of roles with other specs.
func eachRole(roles map[field.RoleName]*Role, change func(*order.Spec) *order.Spec) map[field.RoleName]*Role {
	out := maps.Clone(roles)
	for name, r := range roles {
		c := *r
		if r.Op != nil {
			op := *r.Op
			op.Spec = change(op.Spec)
			c.Op = &op
		}
		out[name] = &c
	}
	return out
}

// EncodeSpec gives a spec as bytes with the hash by which it is known.
func EncodeSpec(spec *order.Spec) (data []byte, hash string, err error) {
	if data, err = json.Marshal(spec); err != nil {
		return nil, "", err
	}
	sum := sha256.Sum256(data)
	return data, hex.EncodeToString(sum[:16]), nil
}

// WithSpecs gives a fact with other specs in it, where it has any.
func WithSpecs(f Fact, change func(*order.Spec) (*order.Spec, error)) (Fact, error) {
	var err error
	switch x := f.(type) {
	case MemberOrdered:
		if x.Order.Spec != nil {
			x.Order.Spec, err = change(x.Order.Spec)
		}
		return x, err
	case OperationAsked:
		if x.Operation.Spec != nil {
			x.Operation.Spec, err = change(x.Operation.Spec)
		}
		return x, err
	}
	return f, nil
}

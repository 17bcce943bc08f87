package render

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// Floating is the address that one member of the role has at a time; empty where there is none.
func (v *View) Floating() string { return v.scene.Field.FloatingOf(v.member.Role) }

// floating says how the agents of a role's members find out who has its floating address.
func (r *renderer) floating(spec *order.Spec, role *field.Role) {
	f, v := role.Floating, r.view
	if f == nil {
		return
	}
	a := r.store(&f.Lease, "floating", "")
	out := &order.Floating{Address: f.Address, Key: fmt.Sprintf("/lanternfield/%s/%s/floating", v.scene.Field.Name, role.Name), For: field.Duration(f.FloatingLease()),
		URLs: a.URLs, User: a.User, Password: a.Password, File: a.Authority}
	store := v.scene.Field.Role(f.Store)
	switch {
	case store == nil:
	case store.Linked():
		r.storeOfAnother(out)
	case store.External == nil && v.scene.Field.Secure(store):
		out.TLS = v.shows()
	}
	spec.Floating = out
}

// storeOfAnother says how a store is reached that is a role of another field.
func (r *renderer) storeOfAnother(out *order.Floating) {
	way, err := r.view.Access(field.LeaseCall)
	if r.fail(err, "floating", "store"); err != nil {
		return
	}
	out.User = way.User
	out.Password, err = way.Password()
	r.fail(err, "floating", "store")
	if !way.TLS {
		return
	}
	out.TLS = &order.TLS{}
	for _, part := range []struct {
		into *string
		of   func() (string, error)
	}{{&out.TLS.Authority, way.Authority}, {&out.TLS.Certificate, way.Certificate}, {&out.TLS.Key, way.Key}} {
		*part.into, err = part.of()
		r.fail(err, "floating", "store")
	}
}

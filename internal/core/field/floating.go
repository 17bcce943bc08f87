package field

import (
	"net/netip"
	"slices"
	"time"
)

// Floating is an address that one member of a role has at a time: who holds a lease, and is ready. Clients that know it find the role wherever it is.
type Floating struct {
	Address string `json:"address"`
	Lease
}

// FloatingLeast is how long its lease has to last at the least: the address is gone from who held it before that has ended, whatever hangs there.
const FloatingLeast = 3 * time.Second

// FloatingLease is how long the lease lasts.
func (f *Floating) FloatingLease() time.Duration { return f.For.Or(LeaseFor) }

// floating checks what a role says of an address that its members share.
func (v *validator) floating(r *Role, at func(rest ...string) []string) {
	f := r.Floating
	if f == nil {
		return
	}
	here := func(rest ...string) []string { return at(append([]string{"floating"}, rest...)...) }
	a, err := netip.ParseAddr(f.Address)
	switch {
	case err != nil || a.Zone() != "":
		v.add(here("address"), "write it like 10.1.0.50, without a length or a port", "%q is no address", f.Address)
	case a.IsLoopback() || a.IsUnspecified() || a.IsMulticast() || a.IsLinkLocalUnicast():
		v.add(here("address"), "", "%s is no address that others could reach", f.Address)
	}
	for i := range v.Nodes {
		n := &v.Nodes[i]
		if err == nil && v.Given(n) == a.String() {
			v.add(here("address"), "take one that nobody else has", "%s is the address of %s", f.Address, n.Name)
		}
	}
	for i := range v.Roles {
		if o := &v.Roles[i]; o.Name != r.Name && o.Floating != nil && o.Floating.Address == f.Address {
			v.add(here("address"), "take one that nobody else has", "%s has the same one", o.Name)
		}
	}
	if r.Lease != nil || r.Program != nil && r.Program.Leader != nil {
		v.add(here(), "give it to the entry through which clients come", "who leads %s is found out otherwise, so it can have no floating address", r.Name)
	}
	if r.Keeps() || r.External != nil || r.Program == nil {
		v.add(here(), "give it to the entry through which clients come", "%s can have no floating address", r.Name)
	}
	if i := slices.IndexFunc(v.Nodes, func(n Node) bool { return v.GroundOf(&n) == "local" }); i >= 0 {
		v.add(here(), "take hosts: docs/hosts.md", "%s stands on this machine, where nodes have no network that an address could move on", v.Nodes[i].Name)
	}
	v.kept(r, &f.Lease, FloatingLeast, here)
}

// KnownAs are the names and addresses under which clients reach a role, whichever of its members that leads to.
func (r *Role) KnownAs() []string {
	names := slices.Clone(r.Names)
	if r.Floating != nil && !slices.Contains(names, r.Floating.Address) {
		names = append(names, r.Floating.Address)
	}
	return names
}

// FloatingOf is the address that one member of a role has at a time; empty where there is none.
func (f *Field) FloatingOf(name RoleName) string {
	if f == nil {
		return ""
	}
	if role := f.Role(name); role != nil && role.Floating != nil {
		return role.Floating.Address
	}
	return ""
}

package field

import (
	"maps"
	"slices"
	"strconv"
	"time"
)

// Lease says that who leads a role is who holds a lease in a store: for programs that elect nobody.
type Lease struct {
	Store     RoleName `json:"store"`               // an etcd: a role of the field, which may be external
	For       Duration `json:"for,omitempty"`       // how long it lasts when it is not renewed; 5 s when 0
	Paused    bool     `json:"paused,omitempty"`    // nobody takes over from another
	Authority string   `json:"authority,omitempty"` // a file on the nodes: whom members believe of an external store that speaks TLS
	User      string   `json:"user,omitempty"`      // of an external store
	Secret    string   `json:"secret,omitempty"`    // the name of that user's password
}

// How long a lease lasts that is not renewed: where nothing is said, and what can be said.
const (
	LeaseFor   = 5 * time.Second
	LeaseLeast = 2 * time.Second // an etcd grants none that is shorter than its election takes
	LeaseMost  = time.Minute
)

// LeaseCall is the name under which a role with a lease calls its store.
const LeaseCall = "lease"

// LeaseRule is how a guard deals with a program that elects nobody. Commands run in the member's folder, as its user.
type LeaseRule struct {
	Port     string   `json:"port"`                // where others follow a member
	Guard    string   `json:"guard"`               // the port on which guards talk to each other
	Confirms string   `json:"confirms"`            // the setting that says how many others must confirm a write, of which one is the least
	State    []string `json:"state"`               // prints how the member is; see lease.Report
	Cut      []string `json:"cut"`                 // has it receive nothing
	Confirm  []string `json:"confirm"`             // has those in CONFIRM confirm every write
	HandOver []Step   `json:"hand_over,omitempty"` // instead of the program's
}

// ByGuard says that the member's guard listens on a port; it is there only where the role has a lease.
const ByGuard Answerer = "guard"

// guarded has what a lease changes in a role come true.
func (r *Role) guarded(f *Field) {
	if r.Program == nil {
		return
	}
	p := *r.Program
	if r.Floating != nil {
		r.callsStore(f, r.Floating.Store)
	}
	if r.Lease == nil || p.Lease == nil {
		if slices.ContainsFunc(slices.Collect(maps.Values(p.Ports)), func(p Port) bool { return p.By == ByGuard }) {
			p.Ports = maps.Clone(p.Ports)
			maps.DeleteFunc(p.Ports, func(_ string, p Port) bool { return p.By == ByGuard })
			r.Program = &p
		}
		return
	}
	p.HandOver, p.ColdStart = p.Lease.HandOver, nil // the record in the store says whose data counts
	r.Program = &p
	r.callsStore(f, r.Lease.Store)
}

// callsStore has a role call the store of its lease.
func (r *Role) callsStore(f *Field, store RoleName) {
	if r.Calls[LeaseCall] == "" && store != r.Name && f.Role(store) != nil {
		r.Calls = maps.Clone(r.Calls)
		if r.Calls == nil {
			r.Calls = map[string]RoleName{}
		}
		r.Calls[LeaseCall] = store
	}
}

// Guarded tells whether members of the role have guards.
func (r *Role) Guarded() bool {
	return r != nil && r.Lease != nil && r.Program != nil && r.Program.Lease != nil
}

// LeaseStore is where the role's lease is kept; empty where it has none.
func (r *Role) LeaseStore() RoleName {
	if r.Guarded() {
		return r.Lease.Store
	}
	return ""
}

// Relied lists the roles that this one calls to do its work, each once, by name. Of the store of its lease, it is only kept that somebody takes over.
func (r *Role) Relied() []RoleName {
	if !r.Guarded() {
		return r.Called()
	}
	calls := maps.Clone(r.Calls)
	delete(calls, LeaseCall)
	return slices.Compact(slices.Sorted(maps.Values(calls)))
}

// Confirms is how many others must confirm a write of a member, where so many members are there; 0 where the role has no lease.
func (f *Field) Confirms(r *Role, members int) int {
	if !r.Guarded() {
		return 0
	}
	said := r.Settings[r.Program.Lease.Confirms]
	if said == "" {
		said = f.Settings[r.Program.Lease.Confirms]
	}
	if o := r.Option(r.Program.Lease.Confirms); said == "" && o != nil {
		said = o.Default
	}
	n, _ := strconv.Atoi(string(said))
	return max(0, min(max(1, n), members-1))
}

// lease checks what a role says of a lease.
func (v *validator) lease(r *Role, at func(rest ...string) []string) {
	if r.Lease == nil {
		return
	}
	if r.Program == nil || r.Program.Lease == nil {
		v.add(at("lease"), "", "the program of %s does not say how a guard deals with it (program: lease), so it can have no lease", r.Name)
	}
	v.kept(r, r.Lease, LeaseLeast, func(rest ...string) []string { return at(append([]string{"lease"}, rest...)...) })
	if other := r.Calls[LeaseCall]; other != r.Lease.Store && other != "" {
		v.add(at("calls", LeaseCall), "call it something else", "under the name %s, %s calls the store of its lease", LeaseCall, r.Name)
	}
}

// kept checks where a lease of a role is kept, and for how long it lasts: so long at the least.
func (v *validator) kept(r *Role, l *Lease, least time.Duration, at func(rest ...string) []string) {
	v.refer(at("store"), r.Name, l.Store, "lease")
	if lasts := l.For.Or(LeaseFor); lasts < least || lasts > LeaseMost {
		v.add(at("for"), "", "a lease lasts between %s and %s here, and %s says %s", Span(least), Span(LeaseMost), r.Name, Span(lasts))
	}
	store := v.Role(l.Store)
	if store != nil && store.External == nil && !slices.Contains(store.Provides, "leases") {
		v.add(at("store"), "a lease is kept in an etcd: a role of the kit etcd, or an external one", "%s cannot keep leases", l.Store)
	}
	for key, said := range map[string]string{"authority": l.Authority, "user": l.User, "secret": l.Secret} {
		if said != "" && store != nil && store.External == nil {
			v.add(at(key), "", "%s is a role of this field: its members are reached with certificates of the field, and %s says nothing of them", l.Store, key)
		}
		if said != "" && store != nil && store.Linked() {
			v.add(at(key), "", "%s is a role of another field, which hands over how one gets in there", l.Store)
		}
	}
}

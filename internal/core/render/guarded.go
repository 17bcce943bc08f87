package render

import (
	"encoding/json"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/lease"
	"lanternfield/internal/core/order"
)

// Leased tells whether a lease says who leads the member's role.
func (v *View) Leased() bool { return v.scene.Field.Role(v.member.Role).Guarded() }

// guarded has the member run by its guard, and gives the file in which that finds what it must know.
func (r *renderer) guarded(spec *order.Spec, role *field.Role) {
	if !role.Guarded() {
		return
	}
	v, p, rule := r.view, role.Program, role.Program.Lease
	spec.Guarded = true
	c := lease.Config{Field: v.scene.Field.Name, Role: role.Name, Member: v.member.Name, Founds: v.Founding && v.Begins, Paused: role.Lease.Paused,
		For: field.Duration(role.Lease.For.Or(field.LeaseFor)), Secured: v.TLS(), Drain: p.Stop.Drain, Stop: p.Stop.Signal,
		State: r.list(rule.State, "lease", "state"), Cut: r.list(rule.Cut, "lease", "cut"), Confirm: r.list(rule.Confirm, "lease", "confirm")}
	for i, e := range p.TakeLead {
		c.TakeLead = append(c.TakeLead, r.list(e.Exec, "take_lead", strconv.Itoa(i), "exec"))
	}
	for i, e := range p.AttachTo {
		c.AttachTo = append(c.AttachTo, r.list(e.Exec, "attach_to", strconv.Itoa(i), "exec"))
	}
	for _, other := range v.Joined() {
		port, err := other.port(rule.Port)
		r.fail(err, "lease", "port")
		guard, err := other.port(rule.Guard)
		r.fail(err, "lease", "guard")
		at, err := other.addressOf(rule.Guard)
		r.fail(err, "lease", "guard")
		address, err := other.addressOf(rule.Port)
		r.fail(err, "lease", "port")
		c.Members = append(c.Members, lease.Place{Member: other.member.Name, Address: address, Port: port, Guard: net.JoinHostPort(at, strconv.Itoa(guard))})
	}
	slices.SortFunc(c.Members, func(a, b lease.Place) int {
		return a.Member.Number() - b.Member.Number()
	})
	c.Want = v.scene.Field.Confirms(role, len(c.Members))
	if c.Secured {
		c.Authority, c.Certificate = "tls/authority.pem", "tls/member.pem"
	}
	c.Store = r.store(role.Lease, "lease", "`json`")
	spec.Files = append(spec.Files, r.storeFiles(role, &c.Store)...)
	for _, name := range slices.Sorted(maps.Keys(spec.Ports)) {
		if as := spec.Ports[name]; as.By == field.ByAgent {
			as.By = field.ByGuard
			spec.Ports[name] = as
			c.Answers = append(c.Answers, net.JoinHostPort(v.Address, strconv.Itoa(as.Number)))
		}
	}
	data, err := json.MarshalIndent(c, "", "  ")
	r.fail(err, "lease")
	spec.Files = append(spec.Files, order.File{Path: lease.ConfigFile, Mode: 0o600, Content: strings.ReplaceAll(string(data), `\u0000`, "\x00") + "\n", OnChange: field.OnItself}) // marks begin and end with it
	slices.SortFunc(spec.Files, func(a, b order.File) int {
		switch {
		case a.Path < b.Path:
			return -1
		case a.Path > b.Path:
			return 1
		}
		return 0
	})
}

// store is how the members of a role reach the store of a lease, which stands under that key. Form says what the password is put into, as with Secret.
func (r *renderer) store(l *field.Lease, key, form string) lease.Access {
	a := lease.Access{Role: l.Store, User: l.User, Authority: l.Authority}
	called, err := r.view.Calls(field.LeaseCall)
	r.fail(err, key, "store")
	for _, m := range called {
		port, err := m.PortNamed("client", "main")
		r.fail(err, key, "store")
		url, err := m.URL(port)
		r.fail(err, key, "store")
		a.URLs = append(a.URLs, url)
	}
	if l.Secret != "" {
		a.Password = r.text("{{.Secret `"+l.Secret+"` "+form+"}}", key, "secret")
	}
	return a
}

// storeFiles gives, where the store is a role of another field, the files with whom is believed there and with what is shown.
func (r *renderer) storeFiles(role *field.Role, a *lease.Access) []order.File {
	if store := r.view.scene.Field.Role(role.Lease.Store); store == nil || !store.Linked() {
		return nil
	}
	way, err := r.view.Access(field.LeaseCall)
	r.fail(err, "lease", "store")
	if err != nil {
		return nil
	}
	a.User = way.User
	a.Password, err = way.Password("json")
	r.fail(err, "lease", "store")
	if !way.TLS {
		return nil
	}
	authority, err := way.Authority()
	r.fail(err, "lease", "store")
	certificate, err := way.Certificate()
	r.fail(err, "lease", "store")
	key, err := way.Key()
	r.fail(err, "lease", "store")
	a.Authority, a.Certificate = lease.StoreAuthorityFile, lease.StoreCertificateFile
	return []order.File{{Path: lease.StoreAuthorityFile, Mode: 0o644, Content: authority, OnChange: field.OnItself},
		{Path: lease.StoreCertificateFile, Mode: 0o600, Content: certificate + key, OnChange: field.OnItself}}
}

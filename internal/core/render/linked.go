package render

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/trust"
)

// Link is what the field has of a role of another field.
type Link struct {
	Content *link.Content
	Number  int // of what is secret of it, in the keyring
}

// away is a member that is none of this field's: something at an address, or a member of another field.
type away struct {
	fixed       int    // the one port that is known, whatever it is called; 0 where ports have names
	usual       string // the scheme of that; empty where nothing is said
	member      link.Member
	secure      bool
	metrics     string // the port at which it tells measures of itself
	metricsPath string
}

func (a *away) scheme(port string) string {
	if a.fixed > 0 {
		return a.usual
	}
	return a.member.Ports[port].Scheme
}

// on is its address on a network of its own field; that is its main one where nothing else is known.
func (a *away) on(main, network string) string {
	if a.fixed > 0 {
		return main
	}
	return a.member.On(network)
}

// The address that stands for a member of another field that has not been handed over: in a trial one out of the block that is set aside for them
// (RFC 2544), and a word in what is shown to people.
func SupposedAddress(*field.External) string { return "198.19.255.254" }
func SupposedWord(e *field.External) string  { return fmt.Sprintf("<%s of %s>", e.Role, e.Field) }

// outside are the members of something that is not this field's, as if they were its own.
func (v *View) outside(role *field.Role) ([]*View, error) {
	var views []*View
	for i, a := range role.External.Addresses {
		host, port, err := net.SplitHostPort(a)
		if err != nil {
			continue
		}
		x := &View{Member: fmt.Sprintf("%s-%d", role.Name, i+1), Role: string(role.Name), Address: host, Number: i + 1, scene: v.scene}
		number, _ := strconv.Atoi(port)
		x.away = &away{fixed: number, usual: role.External.Scheme, secure: role.External.Scheme == "https", metrics: "outside", metricsPath: "/metrics"}
		views = append(views, x)
	}
	if role.External.Field == "" {
		return views, nil
	}
	got, err := v.scene.link(role)
	if err != nil {
		return nil, err
	}
	if got == nil {
		return []*View{{Member: string(role.External.Role.Member(1)), Role: string(role.Name), Address: v.scene.Supposed(role.External), Number: 1, scene: v.scene, away: &away{fixed: 1}}}, nil
	}
	for _, m := range got.Content.Members {
		x := &View{Member: string(m.Name), Role: string(role.Name), Node: string(m.Node), Zone: string(m.Zone), Address: m.Address, Number: m.Number, scene: v.scene}
		x.member.Ports = map[string]int{}
		for name, p := range m.Ports {
			x.member.Ports[name] = p.Number
		}
		x.away = &away{member: m, secure: got.Content.TLS, metrics: got.Content.Metrics, metricsPath: got.Content.Path}
		views = append(views, x)
	}
	return views, nil
}

// link is what was handed over for a role that stands for one of another field; nil where that is only supposed.
func (s *Scene) link(role *field.Role) (*Link, error) {
	if got, ok := s.Links[role.Name]; ok && got.Content != nil {
		return &got, nil
	}
	if s.Supposed != nil {
		return nil, nil
	}
	return nil, fmt.Errorf("%s has not been handed over yet", role.External.Where(role.Name))
}

// Watched lists, for who watches something that is not the field's, where that is: ADDRESS:PORT of each.
func (v *View) Watched() ([]string, error) {
	role := v.scene.Field.Role(v.member.Role)
	if role == nil || role.External == nil {
		return nil, errors.New("only what is external is watched")
	}
	if role.External.Field == "" {
		return role.External.Addresses, nil
	}
	got, err := v.scene.link(role)
	if got == nil || err != nil {
		if err == nil {
			return []string{v.scene.Supposed(role.External) + ":1"}, nil
		}
		return nil, err
	}
	return got.Content.At(), nil
}

// Way is how a member gets at a role that it calls: as whom, and whom it believes there.
type Way struct {
	User             string
	TLS              bool
	Hosts, ReadHosts []Host

	view   *View
	secret Secret
	link   *Link // where the role is another field's
	role   *field.Role
}

// Access is how one gets at the role that is called, or known, by that name.
func (v *View) Access(name string) (*Way, error) {
	if _, err := v.Calls(name); err != nil {
		return nil, err
	}
	role := v.scene.Field.Role(v.member.Role)
	target := v.scene.Field.Role(field.RoleName(cmp.Or(role.Calls[name], role.Knows[name])))
	w := &Way{view: v, role: target}
	switch {
	case target.External == nil:
		a, _, err := v.scene.way(target)
		if a == nil || err != nil {
			return w, err
		}
		w.User, w.TLS, w.Hosts, w.ReadHosts = a.User, a.TLS, a.Write, a.Read
		if a.Secret != "" {
			w.secret = v.scene.secretOf(a.Secret)
		}
	case target.External.Field == "":
		return nil, fmt.Errorf("%s is outside, and nothing is known of how one gets in there but its addresses; .Calls %q has those", target.Name, name)
	default:
		got, err := v.scene.link(target)
		if err != nil {
			return nil, err
		}
		if got == nil {
			w.TLS, w.User = true, "user"
			w.Hosts = []Host{{Member: target.External.Role.Member(1), Address: v.scene.Supposed(target.External), Port: 1}}
			got = &Link{Content: &link.Content{Secret: "supposed"}, Number: 1}
		} else {
			c := got.Content
			w.User, w.TLS, w.Hosts, w.ReadHosts = c.User, c.TLS, c.Write, c.Read
		}
		if w.link = got; got.Content.Secret != "" {
			w.secret = Secret{Name: link.PasswordSecret(target.Name), Number: got.Number, Given: true}
		}
	}
	if len(w.ReadHosts) == 0 {
		w.ReadHosts = w.Hosts
	}
	return w, nil
}

// Password is the user's secret; a form says what it is put into, as with View.Secret. Empty where nobody is asked for one.
func (w *Way) Password(form ...string) (string, error) {
	if w.secret.Name == "" {
		return "", nil
	}
	if err := w.view.maySecret(w.secret.Name); err != nil {
		return "", err
	}
	return w.secret.formed(form)
}

// Authority stands for whom to believe there, as PEM; empty where no TLS is spoken.
func (w *Way) Authority() (string, error) {
	return w.pem(func() (string, error) { return w.view.scene.Authority(), nil }, func(l *Link) string { return l.Content.Authority })
}

// Certificate stands for what the member shows there, as PEM; empty where no TLS is spoken.
func (w *Way) Certificate() (string, error) {
	return w.pem(func() (string, error) { return w.view.ofCertificate(trust.Chain) }, func(l *Link) string { return l.Content.Certificate })
}

// Key stands for the private key of that certificate, as PEM (PKCS #8).
func (w *Way) Key() (string, error) {
	return w.pem(func() (string, error) { return w.view.ofCertificate(trust.Key) }, func(l *Link) string {
		return Secret{Name: link.KeySecret(w.role.Name), Number: l.Number, Given: true}.mark()
	})
}

// pem is something of what is believed or shown: the field's own, or what another one has handed over.
func (w *Way) pem(own func() (string, error), handed func(*Link) string) (string, error) {
	switch {
	case !w.view.files:
		return "", errTrustHere
	case !w.TLS:
		return "", nil
	case w.link == nil:
		return own()
	}
	return handed(w.link), nil
}

// LinkTo is what another field is handed over of a role: all but what is secret of it. Its authority is a mark.
func (s *Scene) LinkTo(role *field.Role) (*link.Content, error) {
	if role.Program == nil || role.External != nil {
		return nil, fmt.Errorf("%s is not run by %s, so there is nothing to be handed over", role.Name, s.Field.Name)
	}
	a, v, err := s.way(role)
	if err != nil {
		return nil, err
	}
	joined := slices.DeleteFunc(slices.Clone(s.Joined[role.Name]), func(m field.MemberName) bool { return s.Members[m].Leaving })
	if a == nil || len(joined) == 0 {
		return nil, fmt.Errorf("no member of %s has come up yet", role.Name)
	}
	slices.SortFunc(joined, func(a, b field.MemberName) int { return s.Members[a].Number - s.Members[b].Number })
	c := &link.Content{Write: a.Write, Read: a.Read, Through: string(a.Through), Names: a.Names, TLS: a.TLS, User: a.User}
	for _, name := range joined {
		m := s.Members[name]
		x := link.Member{Name: name, Number: m.Number, Node: m.Node, Zone: m.Zone, Address: m.Address, Addresses: m.Addresses, Ports: map[string]link.Port{}}
		for port, number := range m.Ports {
			scheme, err := s.view(name).schemeOf(port, "")
			if err != nil {
				return nil, err
			}
			x.Ports[port] = link.Port{Number: number, Scheme: scheme, Network: role.Program.Ports[port].Network}
		}
		c.Members = append(c.Members, x)
	}
	if c.Client, err = v.PortNamed(clientPorts(role)...); err != nil {
		return nil, fmt.Errorf("%s, so nobody can call it", err)
	}
	c.Metrics, c.Path = role.Program.Measured()
	if a.Secret != "" {
		c.Secret, c.Number = a.Secret, s.secretOf(a.Secret).Number
	}
	if c.TLS {
		c.Authority = s.Authority()
		for _, x := range s.Authorities {
			c.Authorities = append(c.Authorities, x.Number)
		}
	}
	return c, nil
}

// LinkOf is the certificate by which the members of another field's role get at a role. It can be used to ask only.
func (s *Scene) LinkOf(role field.RoleName, by string, from field.RoleName, issue trust.Issue) trust.Certificate {
	c := trust.Certificate{Field: s.Field.Name, Holder: fmt.Sprintf("%s-for-%s-%s", role, by, from), Client: true, Issue: issue}
	s.signed(&c)
	return c
}

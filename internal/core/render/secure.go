package render

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net"
	"regexp"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/trust"
)

var schemePattern = regexp.MustCompile(`^[a-z][a-z0-9+.-]*$`)

// secured is the scheme of a port of the member where TLS is spoken there, and empty where it is not.
func (v *View) secured(port string) (string, error) {
	role := v.scene.Field.Role(v.member.Role)
	if v.away != nil || role == nil || role.Program == nil || role.Program.Ports[port].TLS == "" || !v.scene.Field.Secure(role) {
		return "", nil
	}
	scheme := role.Program.Ports[port].TLS
	if strings.Contains(scheme, "{{") {
		var err error
		if scheme, err = execute(scheme, v.scene.view(v.member.Name)); err != nil {
			return "", err
		}
		if scheme != "" && !schemePattern.MatchString(scheme) {
			return "", fmt.Errorf("%q cannot be the scheme of a URL", scheme)
		}
	}
	return scheme, nil
}

// schemeOf is the scheme of a port of the member; usual where none is said.
func (v *View) schemeOf(port, usual string) (string, error) {
	if v.away != nil {
		return cmp.Or(v.away.scheme(port), usual), nil
	}
	secured, err := v.secured(port)
	if err != nil || secured != "" {
		return secured, err
	}
	if role := v.scene.Field.Role(v.member.Role); role != nil && role.Program != nil {
		return cmp.Or(role.Program.Ports[port].Scheme, usual), nil
	}
	return usual, nil
}

// TLS tells whether the member speaks TLS. Nobody knows that of something outside, which is as its scheme says.
func (v *View) TLS() bool {
	if v.away != nil {
		return v.away.secure
	}
	return v.scene.Field.Secure(v.scene.Field.Role(v.member.Role))
}

// errTrustHere says where certificates may stand.
var errTrustHere = errors.New("a certificate or a key may be used in files only; have it in a file, and name that")

// Key stands for the private key of the member's certificate, as PEM (PKCS #8).
func (v *View) Key() (string, error) { return v.ofCertificate(trust.Key) }

// Certificate stands for the member's certificate, as PEM, with what leads from it to the authority.
func (v *View) Certificate() (string, error) { return v.ofCertificate(trust.Chain) }

// Authority stands for the authorities of the field's members that count, as PEM.
func (v *View) Authority() (string, error) {
	if !v.files {
		return "", errTrustHere
	}
	return v.scene.Authority(), nil
}

// Authority stands for the authorities of the field's members that count.
func (s *Scene) Authority() string {
	return trust.Mark{Kind: trust.Authorities, Field: s.Field.Name, Authorities: s.Authorities}.String()
}

func (v *View) ofCertificate(kind trust.Kind) (string, error) {
	if !v.files {
		return "", errTrustHere
	}
	key, chain := v.marks()
	if kind == trust.Key {
		return key, nil
	}
	return chain, nil
}

// marks are those of the member's certificate, made once for all of its files.
func (v *View) marks() (key, chain string) {
	if v.keyMark == "" {
		v.keyMark, v.chainMark = v.scene.CertificateOf(v.member.Name).Marks()
	}
	return v.keyMark, v.chainMark
}

// CertificateOf is the certificate of a member as it is to be, or is: its names follow from where it stands and through which entries clients come.
func (s *Scene) CertificateOf(name field.MemberName) trust.Certificate {
	m := s.Members[name]
	c := trust.Certificate{Field: s.Field.Name, Holder: string(name), Issue: m.Issue}
	names := []string{string(name), string(m.Role), string(m.Role) + "." + s.Field.Name}
	if role := s.Field.Role(m.Role); role != nil {
		c.Text = role.Program != nil && role.Program.Certificate.AddressesAsNames
		names = append(names, role.KnownAs()...)
		for _, entry := range s.Field.Entries(role) {
			names = append(names, string(entry.Name))
			names = append(names, entry.KnownAs()...)
			for _, at := range s.Wanted[entry.Name] {
				names = append(names, s.Members[at].everywhere()...)
			}
		}
	}
	c.Names = trust.Names(append(names, m.everywhere()...)...)
	s.signed(&c)
	return c
}

// everywhere lists a member's addresses. On loopback its connections come from 127.0.0.1, whatever its own address is, and programs compare that with
// the certificate that is shown to them.
func (m Member) everywhere() []string {
	out := []string{m.Address}
	for _, a := range m.Addresses {
		out = append(out, a)
	}
	if ip := net.ParseIP(m.Address); ip != nil && ip.IsLoopback() {
		out = append(out, "127.0.0.1")
	}
	slices.Sort(out)
	return out
}

// shows is with what the member's agent asks it and others: nil where nobody in the field speaks TLS with it.
func (v *View) shows() *order.TLS {
	f := v.scene.Field
	role := f.Role(v.member.Role)
	if !f.Certified(role) {
		return nil
	}
	key, chain := v.marks()
	return &order.TLS{Authority: v.scene.Authority(), Certificate: chain, Key: key}
}

// Believes is with what somebody asks a member who has no certificate of his own, such as a keeper that asks a database; nil where the member speaks
// no TLS.
func (s *Scene) Believes(name field.MemberName) *order.TLS {
	if role := s.Field.Role(s.Members[name].Role); role != nil && s.Field.Secure(role) {
		return &order.TLS{Authority: s.Authority()}
	}
	return nil
}

// FromOutside stands for the certificate from outside that the role's members show to those who reach them by its names, as PEM: its key, it, and what leads
// from it to an authority; nothing where there is none.
func (v *View) FromOutside() (string, error) {
	if !v.files {
		return "", errTrustHere
	}
	of, shown := v.scene.Outside[v.member.Role]
	if !shown || !v.TLS() {
		return "", nil
	}
	return Secret{Name: trust.OutsideSecret(string(v.member.Role)), Number: of.Number, Given: true}.mark(), nil
}

// SecuredForClients lists the ports on which a member speaks TLS with clients itself.
func (s *Scene) SecuredForClients(role *field.Role, name field.MemberName) []string {
	var out []string
	for _, port := range clientPorts(role) {
		if secured, err := s.view(name).secured(port); err == nil && secured != "" {
			out = append(out, port)
		}
	}
	return out
}

func clientPorts(role *field.Role) []string {
	if role.Program == nil {
		return nil
	}
	if a := role.Program.Access; a != nil && len(a.Passes) > 0 {
		return slices.Sorted(maps.Values(a.Passes))
	}
	return []string{role.Program.Access.ClientPort()}
}

// AnswersSecured tells whether clients of a role speak TLS with its members themselves, and not with somebody behind them.
func (s *Scene) AnswersSecured(role *field.Role) (bool, error) {
	for _, name := range s.Wanted[role.Name] {
		for _, port := range clientPorts(role) {
			if secured, err := s.view(name).secured(port); err != nil || secured != "" {
				return err == nil, err
			}
		}
	}
	return false, nil
}

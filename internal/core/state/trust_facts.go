package state

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/trust"
)

// AuthorityMade says that another authority issues the certificates of members from now on. Those before it count until they are withdrawn.
type AuthorityMade struct {
	Number int
	For    time.Duration // how long it is valid
	By     string        `json:",omitempty"` // who asked for it; empty for the first
	Key    string        `json:",omitempty"` // by which its root is known again; see trust.Authority
}

// AuthorityWithdrawn says that only the newest authority counts from now on.
type AuthorityWithdrawn struct{ By string }

// CertificateIssued gives a member a certificate, by the newest authority.
type CertificateIssued struct {
	Member field.MemberName
	Number int
	For    time.Duration
	Why    string `json:",omitempty"` // it had one before
}

// ClientCertified gives the clients of a role a certificate, by the newest authority.
type ClientCertified struct {
	Role   field.RoleName
	Number int
	For    time.Duration
	By     string
}

func (f ClientCertified) apply(s *State, at time.Time) {
	s.ensureRole(f.Role).Client = trust.Issue{Number: f.Number, By: s.AuthorityCount, From: at, Until: at.Add(f.For)}
}

// Sentence words the fact for the journal.
func (f ClientCertified) Sentence() string {
	return fmt.Sprintf("clients of %s have a certificate, for %s, asked for by %s", f.Role, field.Span(f.For), f.By)
}

func (f AuthorityMade) apply(s *State, at time.Time) {
	s.Authorities = append(slices.Clone(s.Authorities), trust.Authority{Number: f.Number, Key: f.Key, From: at, Until: at.Add(f.For)})
	s.AuthorityCount = f.Number
	s.Shape++
}

// Sentence words the fact for the journal.
func (f AuthorityMade) Sentence() string {
	if f.By == "" {
		return "an authority for the members' certificates is made"
	}
	return fmt.Sprintf("authority %d for the members' certificates is made, for %s; the one before still counts", f.Number, f.By)
}

func (f AuthorityWithdrawn) apply(s *State, _ time.Time) {
	if n := len(s.Authorities); n > 1 {
		s.Authorities = slices.Clone(s.Authorities[n-1:])
	}
	s.Shape++
}

// Sentence words the fact for the journal.
func (f AuthorityWithdrawn) Sentence() string {
	return "the authority before no longer counts: certificates that it issued are not taken"
}

func (f CertificateIssued) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	if m == nil {
		return
	}
	m.Issue = trust.Issue{Number: f.Number, By: s.AuthorityCount, From: at, Until: at.Add(f.For)}
	s.Shape++
}

// Sentence words the fact for the journal.
func (f CertificateIssued) Sentence() string {
	if f.Why == "" {
		return fmt.Sprintf("%s has a certificate, for %s", f.Member, field.Span(f.For))
	}
	return fmt.Sprintf("%s has a new certificate, for %s: %s", f.Member, field.Span(f.For), f.Why)
}

// Secured tells, of roles that have members, whether those speak TLS.
func (s *State) Secured() map[field.RoleName]bool {
	out := map[field.RoleName]bool{}
	for _, m := range s.Members {
		if _, known := out[m.Role]; known || m.Phase == Gone || m.Ordered.Spec == nil {
			continue
		}
		if role := s.Field.Role(m.Role); role != nil {
			out[m.Role] = s.Field.Secure(role)
		}
	}
	return out
}

// TrustPending lists the members that do not run yet with the certificate, and the authorities, that they are to have.
func (s *State) TrustPending() []field.MemberName {
	var out []field.MemberName
	scene := s.Scene()
	for _, m := range SortedMembers(s) {
		role := s.Field.Role(m.Role)
		if m.Phase == Gone || m.Leaving || role == nil || !s.Field.Certified(role) || m.Ordered.Want != order.Run {
			continue
		}
		spec, err := scene.Spec(m.Name)
		if err != nil || m.Running == nil || !m.Running.ShowsAs(spec) {
			out = append(out, m.Name)
		}
	}
	return out
}

package engine

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/core/wording"
)

// RenewCertificates asks for new certificates: of some members, or of all where none is named.
type RenewCertificates struct {
	Members []field.MemberName
	By      string
}

// CertificatesDue says that it is time to look for certificates that are to be renewed.
type CertificatesDue struct{ At time.Time }

// MakeAuthority has another authority issue members' certificates, beside the one that does now; every member gets a new one from it.
type MakeAuthority struct {
	By  string
	Key string // the fingerprint of its root, which is there
}

// WithdrawAuthority ends that: only the newest authority counts from then on.
type WithdrawAuthority struct{ By string }

// CertifyClient gives the clients of a role a certificate, unless they have one that will do for some time.
type CertifyClient struct {
	Role field.RoleName
	By   string
	At   time.Time
}

// clientFor is how much longer than a member's the certificate of clients is valid: it is renewed only as somebody fetches it.
const clientFor = 4

func (in CertifyClient) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "certify"); err != nil {
		return nil, err
	}
	if len(s.Authorities) == 0 || s.Field.Role(in.Role) == nil {
		return nil, fmt.Errorf("no member of %s has a certificate, so its clients need none", in.Role)
	}
	r := s.RoleOf(in.Role)
	if r.Client.Number > 0 && in.At.Before(r.Client.Due()) && r.Client.By == s.AuthorityCount {
		return nil, nil
	}
	return []state.Fact{state.ClientCertified{Role: in.Role, Number: r.Client.Number + 1, For: clientFor * s.Field.ValidFor(trust.CertificateFor), By: in.By}}, nil
}

// issueCertificates gives members that are there their first certificate, and the field its first authority.
func (w *pass) issueCertificates() []state.Fact {
	var facts []state.Fact
	for i := range w.Field.Roles {
		role := &w.Field.Roles[i]
		if !w.Field.Certified(role) {
			continue
		}
		for _, m := range w.active(role.Name) {
			if m.Issue.Number == 0 {
				facts = append(facts, state.CertificateIssued{Member: m.Name, Number: 1, For: w.Field.ValidFor(trust.CertificateFor)})
			}
		}
	}
	if len(facts) > 0 && len(w.Authorities) == 0 {
		facts = slices.Insert(facts, 0, state.Fact(state.AuthorityMade{Number: w.AuthorityCount + 1, For: trust.AuthorityFor}))
	}
	return facts
}

// reissue gives members another certificate.
func reissue(s *state.State, members []*state.Member, why string) []state.Fact {
	var facts []state.Fact
	for _, m := range members {
		facts = append(facts, state.CertificateIssued{Member: m.Name, Number: m.Issue.Number + 1, For: s.Field.ValidFor(trust.CertificateFor), Why: why})
	}
	return facts
}

// certified lists the members that have a certificate and are to stay.
func certified(s *state.State, keep func(*state.Member) bool) []*state.Member {
	return slices.DeleteFunc(state.SortedMembers(s), func(m *state.Member) bool {
		return m.Phase == state.Gone || m.Leaving || m.Issue.Number == 0 || !keep(m)
	})
}

func (in RenewCertificates) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "renew"); err != nil {
		return nil, err
	}
	members := certified(s, func(m *state.Member) bool { return len(in.Members) == 0 || slices.Contains(in.Members, m.Name) })
	if len(members) == 0 {
		return nil, fmt.Errorf("none of them has a certificate: their roles do not speak TLS (tls: on has them do, where their program can)")
	}
	return reissue(s, members, "asked for by "+in.By), nil
}

func (in CertificatesDue) decide(s *state.State) ([]state.Fact, error) {
	return Expiring(s, in.At), nil
}

// Expiring lists new certificates for the members whose own are to be renewed by now. Those of one role are not renewed while anything else of the
// field is being changed: that would have members restart twice.
func Expiring(s *state.State, now time.Time) []state.Fact {
	if !s.Deployed() || s.Retiring || len(s.Authorities) == 0 {
		return nil
	}
	busy := s.Rollout.Active() || slices.ContainsFunc(s.Tasks, state.Task.Active)
	return reissue(s, certified(s, func(m *state.Member) bool {
		urgent := now.After(m.Issue.Until.Add(-m.Issue.Until.Sub(m.Issue.From) / 8))
		return now.After(m.Issue.Due()) && (urgent || !busy)
	}), "the one before was nearing its end")
}

func (in MakeAuthority) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "rotate"); err != nil {
		return nil, err
	}
	switch n := len(s.Authorities); {
	case n == 0:
		return nil, fmt.Errorf("no member has a certificate, so there is no authority to rotate")
	case n > 1:
		return nil, fmt.Errorf("authority %d is already taking the place of the one before; end that first (trust rotate --finish)", s.AuthorityCount)
	}
	facts := []state.Fact{state.AuthorityMade{Number: s.AuthorityCount + 1, For: trust.AuthorityFor, By: in.By, Key: in.Key}}
	return append(facts, reissue(s, certified(s, func(*state.Member) bool { return true }), "another authority issues it")...), nil
}

func (in WithdrawAuthority) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "rotate"); err != nil {
		return nil, err
	}
	if len(s.Authorities) < 2 {
		return nil, fmt.Errorf("no authority is being replaced; `trust rotate` begins that")
	}
	if waits := s.TrustPending(); len(waits) > 0 {
		return nil, fmt.Errorf("%s %s not run with certificates of the new authority yet; wait for that, or mend what keeps it; nothing has been changed",
			wording.Members(waits), wording.Plural(len(waits), "does", "do"))
	}
	if grants := s.GrantsPending(); len(grants) > 0 {
		var waits []string
		for _, g := range grants {
			waits = append(waits, fmt.Sprintf("%s (its %s)", g.By, g.From))
		}
		return nil, fmt.Errorf("members of %s do not run with what the new authority has issued for them yet; wait for that, or take back what it was handed over (access ROLE --take-back FIELD); nothing has been changed",
			wording.And(waits))
	}
	return []state.Fact{state.AuthorityWithdrawn{By: in.By}}, nil
}

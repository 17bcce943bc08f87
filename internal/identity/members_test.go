package identity

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"testing"
	"time"

	"lanternfield/internal/core/trust"
)

func testMembers() *Members {
	return MembersOf(func(number int) ([]byte, error) {
		sum := sha256.Sum256(fmt.Appendf(nil, "root %d", number))
		return sum[:], nil
	})
}

var (
	issuedAt = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	first    = trust.Authority{Number: 1, From: issuedAt, Until: issuedAt.Add(trust.AuthorityFor)}
	second   = trust.Authority{Number: 2, From: issuedAt.Add(time.Hour), Until: issuedAt.Add(trust.AuthorityFor)}
)

func certificate(by trust.Authority, before *trust.Authority) trust.Certificate {
	return trust.Certificate{Field: "saltmarsh", Holder: "store-1", Names: trust.Names("store-1", "bookings.example", "127.84.0.11"), By: by, Before: before,
		Issue: trust.Issue{Number: 1, By: by.Number, From: issuedAt, Until: issuedAt.Add(trust.CertificateFor)}}
}

// TestTheSameDescriptionGivesTheSameCertificate makes a certificate twice, from roots alone.
func TestTheSameDescriptionGivesTheSameCertificate(t *testing.T) {
	for _, kind := range []trust.Kind{trust.Key, trust.Chain, trust.Authorities} {
		c := certificate(second, &first)
		mark := trust.Mark{Kind: kind, Certificate: &c, Field: "saltmarsh", Authorities: []trust.Authority{first, second}}
		a, err := testMembers().Of(mark)
		if err != nil {
			t.Fatal(err)
		}
		if b, err := testMembers().Of(mark); err != nil || a != b {
			t.Errorf("%s: another one came of the same description, %v", kind, err)
		}
		c.Issue.Number = 2
		if b, _ := testMembers().Of(mark); kind != trust.Authorities && a == b {
			t.Errorf("%s: another issue is the same", kind)
		}
	}
}

// TestWhoKnowsOneAuthorityTakesTheOthersCertificates replaces an authority: those who know only the old one, only the new one, or both take a
// member's certificate of either while both count; when the old one counts no more, its certificates do not either.
func TestWhoKnowsOneAuthorityTakesTheOthersCertificates(t *testing.T) {
	m := testMembers()
	old, renewed, alone := certificate(first, nil), certificate(second, &first), certificate(second, nil)
	for _, row := range []struct {
		name  string
		shown trust.Certificate
		known []trust.Authority
		taken bool
	}{
		{"before", old, []trust.Authority{first}, true},
		{"the new one, to who knows the old authority alone", renewed, []trust.Authority{first}, true},
		{"the new one, to who knows both", renewed, []trust.Authority{first, second}, true},
		{"the new one, to who knows the new authority alone", renewed, []trust.Authority{second}, true},
		{"the old one, to who knows both", old, []trust.Authority{first, second}, true},
		{"after", alone, []trust.Authority{second}, true},
		{"the old one, after", old, []trust.Authority{second}, false},
		{"the new one without who vouches for it", alone, []trust.Authority{first}, false},
	} {
		chain, err := m.Chain(row.shown)
		if err != nil {
			t.Fatal(err)
		}
		key, err := m.Key(row.shown)
		if err != nil {
			t.Fatal(err)
		}
		pair, err := tls.X509KeyPair([]byte(chain), []byte(key))
		if err != nil {
			t.Fatalf("%s: %v", row.name, err)
		}
		bundle, err := m.Authorities("saltmarsh", row.known)
		if err != nil {
			t.Fatal(err)
		}
		roots, between := x509.NewCertPool(), x509.NewCertPool()
		roots.AppendCertsFromPEM([]byte(bundle))
		for _, der := range pair.Certificate[1:] {
			c, err := x509.ParseCertificate(der)
			if err != nil {
				t.Fatal(err)
			}
			between.AddCert(c)
		}
		for _, name := range []string{"bookings.example", "127.84.0.11"} {
			_, err = pair.Leaf.Verify(x509.VerifyOptions{DNSName: name, Roots: roots, Intermediates: between, CurrentTime: issuedAt.Add(time.Hour),
				KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}})
			if (err == nil) != row.taken {
				t.Errorf("%s, as %s: %v, want taken %v", row.name, name, err, row.taken)
			}
		}
	}
}

// TestMembersAreNoAgents shows each side's certificates to the other.
func TestMembersAreNoAgents(t *testing.T) {
	a, err := Open(t.TempDir() + "/authority.pem")
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(a.current.cert)
	der, err := testMembers().Leaf(certificate(first, nil))
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: roots, CurrentTime: issuedAt, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}); err == nil {
		t.Error("the authority of agents vouches for a member")
	}
}

func BenchmarkCertificate(b *testing.B) {
	m := testMembers()
	for b.Loop() {
		if _, err := m.Chain(certificate(first, nil)); err != nil {
			b.Fatal(err)
		}
	}
}

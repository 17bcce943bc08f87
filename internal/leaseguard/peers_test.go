package leaseguard

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/lease"
)

// issuer makes certificates.
type issuer struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func certified(t *testing.T, by *issuer, names ...string) (one issuer, text []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	form := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "it"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		DNSNames: names, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	parent, signer := form, key
	if by == nil {
		form.IsCA, form.BasicConstraintsValid, form.KeyUsage = true, true, x509.KeyUsageCertSign
	} else {
		parent, signer = by.cert, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, form, parent, &key.PublicKey, signer)
	if err != nil {
		t.Fatal(err)
	}
	cert, _ := x509.ParseCertificate(der)
	private, _ := x509.MarshalPKCS8PrivateKey(key)
	text = append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	return issuer{cert, key}, text
}

// TestOnlyMembersOfTheRoleAreAnswered has a guard asked with certificates of its role, of another role, of another authority, and with none.
func TestOnlyMembersOfTheRoleAreAnswered(t *testing.T) {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := free.Addr().String()
	free.Close()
	ours, authority := certified(t, nil)
	foreign, _ := certified(t, nil)
	config := lease.Config{Role: "berths", Member: "berths-1", Secured: true, Authority: "authority.pem", Certificate: "member.pem", For: field.Duration(5 * time.Second),
		Members: []lease.Place{{Member: "berths-1", Guard: at}, {Member: "berths-2", Guard: at}}}
	t.Chdir(t.TempDir())
	if err := os.MkdirAll("data/lease", 0o700); err != nil {
		t.Fatal(err)
	}
	write := func(name string, text []byte) {
		t.Helper()
		if err := os.WriteFile(name, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	_, first := certified(t, &ours, "berths-1", "berths")
	write("authority.pem", authority)
	write("member.pem", first)
	g := &guard{config: &config, wake: make(chan struct{}, 1)}
	if err := g.keep(3, "berths-2"); err != nil {
		t.Fatal(err)
	}
	if err := g.listen(); err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		name  string
		by    *issuer
		names []string
		want  string // of the error; empty for an answer
	}{
		{"another member", &ours, []string{"berths-2", "berths"}, ""},
		{"another role", &ours, []string{"desk-1", "desk", "berths"}, "bad certificate"},
		{"another authority", &foreign, []string{"berths-2"}, "bad certificate"},
	} {
		asking := config
		asking.Certificate = "asks.pem"
		_, text := certified(t, row.by, row.names...)
		write("asks.pem", text)
		other := &guard{config: &asking}
		_, err := other.call(t.Context(), http.MethodPost, at, "/promise", []byte(`{"from": "berths-2", "number": 3}`))
		if row.want == "" && err != nil || row.want != "" && (err == nil || !strings.Contains(err.Error(), row.want)) {
			t.Errorf("%s: %v, want %q", row.name, err, row.want)
		}
	}
	if g.bound == 0 {
		t.Error("the promise was not given")
	}
	plain := config
	plain.Secured = false
	if _, err := (&guard{config: &plain}).call(t.Context(), http.MethodGet, at, "/state", nil); err == nil {
		t.Error("it answers in the clear")
	}
}

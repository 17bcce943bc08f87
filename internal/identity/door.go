package identity

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"errors"
	"fmt"
)

// kindDoor is where machines knock that join by an invitation. It shows who it is, and nobody who knocks has anything to show but the invitation.
const kindDoor kind = "door"

// PrintSize is how many bytes of the checksum of an authority's key stand in an invitation.
const PrintSize = 16

// Print is by what the authority is known to who has an invitation: the beginning of the SHA-256 of its public key (as a SubjectPublicKeyInfo).
func (a *Authority) Print() []byte { return printOf(a.counts().cert) }

func printOf(c *x509.Certificate) []byte {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return sum[:PrintSize]
}

// Door gives the terms of the door, with a key that is made of a seed of 32 bytes, so that it is the same whoever keeps the field. Pin is that key as
// curl's --pinnedpubkey takes it.
func (a *Authority) Door(seed []byte, protocols ...string) (terms *tls.Config, pin string, err error) {
	key := ed25519.NewKeyFromSeed(seed)
	by := a.counts()
	der, err := by.issue(&x509.Certificate{Subject: pkix.Name{CommonName: "door"}, DNSNames: []string{"door"}, URIs: kindDoor.uris(), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, NotAfter: a.now().Add(validFor)}, a.now(), key.Public())
	if err != nil {
		return nil, "", err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, "", err
	}
	sum := sha256.Sum256(leaf.RawSubjectPublicKeyInfo)
	terms = onlyTLS13.Clone()
	terms.Certificates, terms.NextProtos = []tls.Certificate{{Certificate: [][]byte{der, by.cert.Raw}, PrivateKey: key, Leaf: leaf}}, protocols
	return terms, "sha256//" + base64.StdEncoding.EncodeToString(sum[:]), nil
}

// ErrOtherDoor says that who answers is not who an invitation is from. It was told nothing.
var ErrOtherDoor = errors.New("whoever answers there is not the keeper of the field that the invitation is from")

// Knock gives the terms on which a machine speaks to the door of the field whose authority has that print. It says nothing before the other side has shown
// that it is that door.
func Knock(print []byte, protocol string) *tls.Config {
	terms := onlyTLS13.Clone()
	terms.NextProtos = []string{protocol}
	terms.InsecureSkipVerify = true // by a pool of authorities, of which there is none: what is shown is verified below
	terms.VerifyConnection = func(c tls.ConnectionState) error {
		roots := x509.NewCertPool()
		known := false
		for _, shown := range c.PeerCertificates[1:] {
			if shown.IsCA && bytes.Equal(printOf(shown), print) {
				roots.AddCert(shown)
				known = true
			}
		}
		if !known {
			return ErrOtherDoor
		}
		leaf := c.PeerCertificates[0]
		if _, err := leaf.Verify(x509.VerifyOptions{Roots: roots, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}); err != nil {
			return fmt.Errorf("%w: %w", ErrOtherDoor, err)
		}
		if err := kindOf(leaf).must(kindDoor); err != nil {
			return fmt.Errorf("%w: %w", ErrOtherDoor, err)
		}
		return nil
	}
	return terms
}

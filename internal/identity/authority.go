// Package identity says who may speak with whom in one field: an authority issues a certificate to each agent, in the name of its
// node, and to the controllers. Both sides of every connection show theirs, over TLS 1.3 and nothing else.
package identity

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"
)

// How long certificates are valid. An authority ends with its field; an agent or a controller that lives on is given a new
// certificate long before its old one ends.
const (
	authorityFor = 30 * 365 * 24 * time.Hour
	validFor     = 365 * 24 * time.Hour
	askingFor    = 24 * time.Hour // of a controller, which makes itself another whenever it needs one
	// The clocks of two hosts are never quite the same.
	backdated = 24 * time.Hour
)

// Authority issues the certificates of one field. Another one can take its place while it counts; see Beside.
type Authority struct {
	now     func() time.Time
	refused *Refused

	mu      sync.Mutex
	current signer  // by whom controllers' certificates are
	next    *signer // by whom agents' are as soon as there is one; it takes the place of the other
}

// signer is the key of an authority with its certificate.
type signer struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
}

// Open reads the authority that is kept in that file, making it when there is none. The file holds its key and its certificate
// as PEM and is for its owner only.
func Open(name string) (*Authority, error) {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		a, text, err := New()
		if err != nil {
			return nil, err
		}
		return a, WriteSynced(name, text)
	}
	if err != nil {
		return nil, err
	}
	return Parse(data)
}

// Parse reads an authority: its key and its certificate, as PEM.
func Parse(data []byte) (*Authority, error) {
	s, err := parseSigner(data)
	if err != nil {
		return nil, err
	}
	return authorityOf(*s), nil
}

func authorityOf(s signer) *Authority {
	return &Authority{now: time.Now, refused: &Refused{}, current: s}
}

func parseSigner(data []byte) (*signer, error) {
	var s signer
	var err error
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		switch block.Type {
		case "EC PRIVATE KEY":
			s.key, err = x509.ParseECPrivateKey(block.Bytes)
		case "CERTIFICATE":
			s.cert, err = x509.ParseCertificate(block.Bytes)
		}
		if err != nil {
			return nil, damaged(err)
		}
	}
	if s.key == nil || s.cert == nil || !s.key.PublicKey.Equal(s.cert.PublicKey) {
		return nil, damaged(errors.New("its key and its certificate do not belong together"))
	}
	return &s, nil
}

func damaged(err error) error {
	return fmt.Errorf("the authority of the field's agents is damaged (%w): put it back from a copy", err)
}

// New makes an authority, and gives it as PEM too.
func New() (*Authority, []byte, error) {
	var s signer
	var err error
	if s.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, nil, err
	}
	now := time.Now()
	der, err := s.issue(&x509.Certificate{Subject: pkix.Name{CommonName: "field authority"}, IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign, NotAfter: now.Add(authorityFor)}, now, &s.key.PublicKey)
	if err != nil {
		return nil, nil, err
	}
	if s.cert, err = x509.ParseCertificate(der); err != nil {
		return nil, nil, err
	}
	key, err := x509.MarshalECPrivateKey(s.key)
	if err != nil {
		return nil, nil, err
	}
	var text bytes.Buffer
	err = errors.Join(pem.Encode(&text, &pem.Block{Type: "EC PRIVATE KEY", Bytes: key}), pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: der}))
	return authorityOf(s), text.Bytes(), err
}

// WriteSynced makes a file for its owner only; it is there whole, on the disk, or not at all.
func WriteSynced(name string, data []byte) error {
	tmp := name + ".new"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(tmp, name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp))
	}
	dir, err := os.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// issue signs a certificate; an authority signs its own when it has none yet. When is the moment that it says that it was issued at; see IssuedAt.
func (s signer) issue(c *x509.Certificate, when time.Time, public any) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	c.SerialNumber, c.NotBefore = serial, when.Add(-backdated)
	parent := s.cert
	if parent == nil {
		parent = c
	}
	return x509.CreateCertificate(rand.Reader, c, parent, public, s.key)
}

// issues gives the authority by whom agents' certificates are, and counts the one by whom all others are.
func (a *Authority) issues() signer {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.next != nil {
		return *a.next
	}
	return a.current
}

func (a *Authority) counts() signer {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.current
}

// Certificate is the authority's own, as DER.
func (a *Authority) Certificate() []byte { return a.counts().cert.Raw }

// Sign issues the certificate of a node's agent for the key that the request was made with. What the request says of itself counts for
// nothing: who brings it is known by where it comes from.
func (a *Authority) Sign(request []byte, node string) ([]byte, error) {
	csr, err := x509.ParseCertificateRequest(request)
	if err == nil {
		err = csr.CheckSignature()
	}
	if err != nil {
		return nil, fmt.Errorf("the signing request of %s cannot be used: %w", node, err)
	}
	when := later(a.now(), a.refused.agent(node))
	return a.issues().issue(&x509.Certificate{Subject: pkix.Name{CommonName: node}, DNSNames: []string{node}, URIs: kindAgent.uris(), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, NotAfter: a.now().Add(validFor)}, when, csr.PublicKey)
}

// Teller gives what tells whether an agent that shows that certificate is to be given another one: two thirds of its time have passed, or another authority issues
// by now. It is for one agent: it remembers whose the certificate is that was shown last, since finding that out takes longer than all else of a request.
func (a *Authority) Teller() func(shown *x509.Certificate) bool {
	type checked struct {
		shown, issuer *x509.Certificate
		theirs        bool
	}
	var last atomic.Pointer[checked]
	return func(shown *x509.Certificate) bool {
		if a.now().After(DueAt(shown)) {
			return true
		}
		issuer := a.issues().cert
		known := last.Load()
		if known == nil || known.shown != shown || known.issuer != issuer {
			known = &checked{shown, issuer, shown.CheckSignatureFrom(issuer) == nil}
			last.Store(known)
		}
		return !known.theirs
	}
}

// DueAt is when a certificate is to be renewed: when two thirds of its time have passed.
func DueAt(c *x509.Certificate) time.Time {
	return c.NotAfter.Add(-c.NotAfter.Sub(IssuedAt(c)) / 3)
}

// IssuedAt is when a certificate was issued, by its own word: to the second, rounded down.
func IssuedAt(c *x509.Certificate) time.Time { return c.NotBefore.Add(backdated) }

var onlyTLS13 = tls.Config{MinVersion: tls.VersionTLS13, SessionTicketsDisabled: true}

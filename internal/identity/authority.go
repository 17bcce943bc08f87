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

// Authority issues the certificates of one field.
type Authority struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
	now  func() time.Time
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
	a := &Authority{now: time.Now}
	var err error
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		switch block.Type {
		case "EC PRIVATE KEY":
			a.key, err = x509.ParseECPrivateKey(block.Bytes)
		case "CERTIFICATE":
			a.cert, err = x509.ParseCertificate(block.Bytes)
		}
		if err != nil {
			return nil, damaged(err)
		}
	}
	if a.key == nil || a.cert == nil || !a.key.PublicKey.Equal(a.cert.PublicKey) {
		return nil, damaged(errors.New("its key and its certificate do not belong together"))
	}
	return a, nil
}

func damaged(err error) error {
	return fmt.Errorf("the authority of the field's agents is damaged (%w): put it back from a copy", err)
}

// New makes an authority, and gives it as PEM too.
func New() (*Authority, []byte, error) {
	a := &Authority{now: time.Now}
	var err error
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, nil, err
	}
	der, err := a.issue(&x509.Certificate{Subject: pkix.Name{CommonName: "field authority"}, IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign, NotAfter: a.now().Add(authorityFor)}, &a.key.PublicKey)
	if err != nil {
		return nil, nil, err
	}
	if a.cert, err = x509.ParseCertificate(der); err != nil {
		return nil, nil, err
	}
	key, err := x509.MarshalECPrivateKey(a.key)
	if err != nil {
		return nil, nil, err
	}
	var text bytes.Buffer
	err = errors.Join(pem.Encode(&text, &pem.Block{Type: "EC PRIVATE KEY", Bytes: key}), pem.Encode(&text, &pem.Block{Type: "CERTIFICATE", Bytes: der}))
	return a, text.Bytes(), err
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

// issue signs a certificate; the authority signs its own when it has none yet.
func (a *Authority) issue(c *x509.Certificate, public any) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	c.SerialNumber, c.NotBefore = serial, a.now().Add(-backdated)
	parent := a.cert
	if parent == nil {
		parent = c
	}
	return x509.CreateCertificate(rand.Reader, c, parent, public, a.key)
}

// Certificate is the authority's own, as DER.
func (a *Authority) Certificate() []byte { return a.cert.Raw }

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
	return a.issue(&x509.Certificate{Subject: pkix.Name{CommonName: node}, DNSNames: []string{node}, URIs: kindAgent.uris(), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, NotAfter: a.now().Add(validFor)}, csr.PublicKey)
}

// DueAt is when a certificate is to be renewed: when two thirds of its time have passed.
func DueAt(c *x509.Certificate) time.Time {
	return c.NotAfter.Add(-c.NotAfter.Sub(c.NotBefore.Add(backdated)) / 3)
}

var onlyTLS13 = tls.Config{MinVersion: tls.VersionTLS13, SessionTicketsDisabled: true}

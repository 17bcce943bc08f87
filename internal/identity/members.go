package identity

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"sync"

	"lanternfield/internal/core/trust"
)

// Members makes the certificates of a field's members. They have authorities of their own: the one of agents and controllers vouches for none of
// them, and none of these for an agent or a controller. Keys follow from roots (HKDF-SHA-256), and signatures from what is signed (RFC 6979), so
// that the same description always gives the same bytes, and nothing of it has to be stored.
type Members struct {
	root func(number int) ([]byte, error)

	mu    sync.Mutex
	known map[int]*ecdsa.PrivateKey
}

// MembersOf makes certificates with the root that each authority has.
func MembersOf(root func(number int) ([]byte, error)) *Members {
	return &Members{root: root, known: map[int]*ecdsa.PrivateKey{}}
}

// derivedKey is the P-256 key that follows from a root and a text.
func derivedKey(root []byte, info string) (*ecdsa.PrivateKey, error) {
	for try := 0; ; try++ {
		scalar, err := hkdf.Key(sha256.New, root, nil, fmt.Sprintf("%s %d", info, try), 32)
		if err != nil {
			return nil, err
		}
		if key, err := ecdsa.ParseRawPrivateKey(elliptic.P256(), scalar); err == nil {
			return key, nil
		} else if try > 16 { // one in 2^32 is no key
			return nil, err
		}
	}
}

// rootOf gives the root of an authority, if it is the one that it was made with.
func (m *Members) rootOf(a trust.Authority) ([]byte, error) {
	root, err := m.root(a.Number)
	if err == nil && a.Key != "" && Fingerprint(root) != a.Key {
		err = fmt.Errorf("the key that is kept for authority %d is not the one that it was made with: put that back from a copy", a.Number)
	}
	return root, err
}

// Fingerprint is by what a root is known again, without saying anything of it.
func Fingerprint(root []byte) string {
	sum := sha256.Sum256(append([]byte("fingerprint "), root...))
	return hex.EncodeToString(sum[:10])
}

func (m *Members) authorityKey(a trust.Authority) (*ecdsa.PrivateKey, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if key := m.known[a.Number]; key != nil {
		return key, nil
	}
	root, err := m.rootOf(a)
	if err != nil {
		return nil, err
	}
	key, err := derivedKey(root, "authority of members")
	if err == nil {
		m.known[a.Number] = key
	}
	return key, err
}

func authorityName(field string, a trust.Authority) pkix.Name {
	return pkix.Name{CommonName: fmt.Sprintf("%s members %d", field, a.Number), Organization: []string{"Lantern Field"}}
}

// serial follows from what a certificate says.
func serial(of any) (*big.Int, error) {
	data, err := json.Marshal(of)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(data)
	sum[0] = sum[0]&0x3f | 0x40 // positive, and always of the same length
	return new(big.Int).SetBytes(sum[:16]), nil
}

// sign makes a certificate; it is the same each time.
func sign(c, parent *x509.Certificate, of any, public *ecdsa.PublicKey, with *ecdsa.PrivateKey) (der []byte, err error) {
	if c.SerialNumber, err = serial(of); err != nil {
		return nil, err
	}
	c.BasicConstraintsValid, c.SignatureAlgorithm = true, x509.ECDSAWithSHA256
	return x509.CreateCertificate(nil, c, parent, public, with)
}

// authorityCertificate is the certificate of an authority, signed by itself or by the one that it replaces.
func (m *Members) authorityCertificate(field string, a trust.Authority, by *trust.Authority) ([]byte, error) {
	key, err := m.authorityKey(a)
	if err != nil {
		return nil, err
	}
	of := func(a trust.Authority) *x509.Certificate {
		return &x509.Certificate{Subject: authorityName(field, a), NotBefore: a.From.Add(-backdated), NotAfter: a.Until, IsCA: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}
	}
	if by == nil {
		c := of(a)
		return sign(c, c, a, &key.PublicKey, key)
	}
	with, err := m.authorityKey(*by)
	if err != nil {
		return nil, err
	}
	c := of(a)
	if by.Until.Before(c.NotAfter) {
		c.NotAfter = by.Until
	}
	parent := of(*by)
	if parent.SubjectKeyId, err = keyID(&with.PublicKey); err != nil {
		return nil, err
	}
	return sign(c, parent, []trust.Authority{a, *by}, &key.PublicKey, with)
}

// keyID is the identifier that x509 gives the key of an authority.
func keyID(key *ecdsa.PublicKey) ([]byte, error) {
	raw, err := key.Bytes()
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(raw)
	return sum[:20], nil
}

// Authorities gives the certificates of authorities as PEM.
func (m *Members) Authorities(field string, authorities []trust.Authority) (string, error) {
	var out bytes.Buffer
	for _, a := range authorities {
		der, err := m.authorityCertificate(field, a, nil)
		if err != nil {
			return "", err
		}
		if err := pem.Encode(&out, &pem.Block{Type: "CERTIFICATE", Bytes: der}); err != nil {
			return "", err
		}
	}
	return out.String(), nil
}

// memberKey is the key of one issue of a certificate.
func (m *Members) memberKey(c trust.Certificate) (*ecdsa.PrivateKey, error) {
	root, err := m.rootOf(c.By)
	if err != nil {
		return nil, err
	}
	return derivedKey(root, fmt.Sprintf("member %s issue %d", c.Holder, c.Issue.Number))
}

// Key gives the private key of a certificate as PEM (PKCS #8).
func (m *Members) Key(c trust.Certificate) (string, error) {
	key, err := m.memberKey(c)
	if err != nil {
		return "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), nil
}

// Leaf gives a certificate as DER.
func (m *Members) Leaf(c trust.Certificate) ([]byte, error) {
	key, err := m.memberKey(c)
	if err != nil {
		return nil, err
	}
	with, err := m.authorityKey(c.By)
	if err != nil {
		return nil, err
	}
	parent := &x509.Certificate{Subject: authorityName(c.Field, c.By)}
	if parent.SubjectKeyId, err = keyID(&with.PublicKey); err != nil {
		return nil, err
	}
	leaf := &x509.Certificate{Subject: pkix.Name{CommonName: c.Holder, Organization: []string{c.Field}}, NotBefore: c.Issue.From.Add(-backdated), NotAfter: c.Issue.Until,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyAgreement, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	if c.Client {
		leaf.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	}
	if c.By.Until.Before(leaf.NotAfter) {
		leaf.NotAfter = c.By.Until
	}
	leaf.DNSNames, leaf.IPAddresses = c.Named()
	return sign(leaf, parent, c, &key.PublicKey, with)
}

// Serial is the serial number of a certificate, in hexadecimal digits.
func (m *Members) Serial(c trust.Certificate) (string, error) {
	n, err := serial(c)
	if err != nil {
		return "", err
	}
	return n.Text(16), nil
}

// Chain gives a certificate as PEM, and after it, while an authority is being replaced, the one by which the authority before vouches for the new one.
func (m *Members) Chain(c trust.Certificate) (string, error) {
	leaf, err := m.Leaf(c)
	if err != nil {
		return "", err
	}
	out := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf})
	if c.Before != nil {
		across, err := m.authorityCertificate(c.Field, c.By, c.Before)
		if err != nil {
			return "", err
		}
		out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: across})...)
	}
	return string(out), nil
}

// Of gives what a mark stands for.
func (m *Members) Of(mark trust.Mark) (string, error) {
	switch {
	case mark.Kind == trust.Authorities:
		return m.Authorities(mark.Field, mark.Authorities)
	case mark.Certificate == nil || mark.Certificate.Issue.Number == 0:
		return "", fmt.Errorf("a certificate is asked for that was never issued")
	case mark.Kind == trust.Key:
		return m.Key(*mark.Certificate)
	}
	return m.Chain(*mark.Certificate)
}

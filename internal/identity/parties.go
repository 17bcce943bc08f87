package identity

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
)

// kind is what a party is. It stands in its certificate, as a URI of ours, and is asked for beside what the certificate may be used for.
type kind string

const (
	kindAgent      kind = "agent"
	kindController kind = "controller"
	kindWatcher    kind = "watcher" // who may ask how things are, and order nothing
)

const kindScheme = "lanternfield"

func (k kind) uris() []*url.URL { return []*url.URL{{Scheme: kindScheme, Opaque: string(k)}} }

// kindOf reads the kind of who shows a certificate; empty where it says none.
func kindOf(c *x509.Certificate) kind {
	for _, u := range c.URIs {
		if u.Scheme == kindScheme {
			return kind(strings.TrimPrefix(u.Opaque, "/"))
		}
	}
	return ""
}

// must refuses who is of another kind.
func (k kind) must(be kind) error {
	switch k {
	case be:
		return nil
	case "":
		return fmt.Errorf("its certificate does not say that it is a %s", be)
	}
	return fmt.Errorf("it is a %s, and only a %s is spoken with here", k, be)
}

// Controller is a party that agents obey, or, if it only watches, one that they tell how things are.
type Controller struct {
	authority *Authority          // that issues its certificate anew; nil where it is not at hand
	roots     []*x509.Certificate // by which agents are believed where it is not
	refused   *Refused
	now       func() time.Time

	mu   sync.Mutex
	mine *tls.Certificate
}

// Controller gives what a controller shows the agent of that node, and how it knows that agent. Its key is made for it and never
// leaves this process.
func (a *Authority) Controller() (*Controller, error) {
	c := &Controller{authority: a, refused: a.refused, now: a.now}
	_, err := c.certificate()
	return c, err
}

// certificate gives the controller's own, a new one when the old one nears its end, was refused, or is by an authority that counts no longer.
func (c *Controller) certificate() (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.authority == nil {
		return c.mine, nil
	}
	if c.mine != nil && c.now().Before(DueAt(c.mine.Leaf)) && !IssuedAt(c.mine.Leaf).Before(c.refused.asking()) && c.mine.Leaf.CheckSignatureFrom(c.authority.counts().cert) == nil {
		return c.mine, nil
	}
	mine, err := c.authority.asking("controller", kindController, askingFor)
	if err == nil {
		c.mine = mine
	}
	return mine, err
}

// asking makes a key, and the certificate of somebody who asks agents.
func (a *Authority) asking(name string, of kind, life time.Duration) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := a.counts().issue(&x509.Certificate{Subject: pkix.Name{CommonName: name}, URIs: of.uris(), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}, NotAfter: a.now().Add(life)}, later(a.now(), a.refused.asking()), &key.PublicKey)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}, err
}

// pool are the authorities by which agents are believed.
func (c *Controller) pool() *x509.CertPool {
	pool := x509.NewCertPool()
	for _, root := range c.roots {
		pool.AddCert(root)
	}
	if c.authority != nil {
		c.authority.addTo(pool)
	}
	return pool
}

// To gives the terms on which a controller speaks to the agent of a node: it says nothing, not even who it is, before the other side
// has shown that it is that agent.
func (c *Controller) To(node string) *tls.Config {
	t := onlyTLS13.Clone()
	t.RootCAs, t.ServerName, t.Time = c.pool(), node, c.now
	t.VerifyConnection = func(s tls.ConnectionState) error {
		leaf := s.PeerCertificates[0]
		if since := c.refused.agent(node); IssuedAt(leaf).Before(since) {
			return &RefusedError{Node: node, Since: since}
		}
		if is := kindOf(leaf); is != "" { // an older version said nothing of it
			return is.must(kindAgent)
		}
		return nil
	}
	t.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return c.certificate() }
	return t
}

// Untrusted tells whether an error means that the other side is not who it should be, or does not take us for who we are.
func Untrusted(err error) bool {
	var not *tls.CertificateVerificationError
	var alert tls.AlertError
	var header tls.RecordHeaderError
	var refused *RefusedError
	return errors.As(err, &not) || errors.As(err, &alert) || errors.As(err, &header) || errors.As(err, &refused)
}

// Agent is an agent's identity. Its key is made by itself and never leaves its process.
type Agent struct {
	mu       sync.Mutex
	key      *ecdsa.PrivateKey   // the one in use
	asked    []*ecdsa.PrivateKey // for which a certificate has been asked; the newest last
	cert     *tls.Certificate
	counting Counting
	roots    []*x509.Certificate // its authorities
	pool     *x509.CertPool      // of them
}

// mostAsked is for how many keys certificates may be asked at a time: several who come at once may each bring one.
const mostAsked = 4

// Request makes a new key and gives the signing request for it.
func (a *Agent) Request() ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	a.asked = append(a.asked[max(0, len(a.asked)-mostAsked+1):], key)
	a.mu.Unlock()
	return x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "agent"}}, key)
}

// Take takes the certificate for one of the newest requests, and whose word counts from now on; an authority that is known already may be left out.
func (a *Agent) Take(certificate, authority []byte) error {
	if len(authority) == 0 {
		return a.take(certificate, nil)
	}
	return a.take(certificate, &Counting{Authorities: [][]byte{authority}})
}

func (a *Agent) take(certificate []byte, counting *Counting) error {
	leaf, err := x509.ParseCertificate(certificate)
	if err != nil {
		return fmt.Errorf("the certificate cannot be read: %w", err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	i := slices.IndexFunc(a.asked, func(k *ecdsa.PrivateKey) bool { return k.PublicKey.Equal(leaf.PublicKey) })
	if i < 0 {
		return errors.New("the certificate is for another key than was asked for")
	}
	if counting != nil {
		if err := a.count(*counting); err != nil {
			return err
		}
	}
	a.key = a.asked[i]
	a.asked = slices.Delete(a.asked, i, i+1)
	a.cert = &tls.Certificate{Certificate: [][]byte{certificate}, PrivateKey: a.key, Leaf: leaf}
	return nil
}

// mayAsk refuses whom an agent does not answer: by what he is, and by when his certificate was issued.
func mayAsk(leaf *x509.Certificate, since time.Time) error {
	if IssuedAt(leaf).Before(since) {
		return errOutdated
	}
	if k := kindOf(leaf); k != kindWatcher {
		return k.must(kindController)
	}
	return nil
}

var errOutdated = errors.New("its certificate was issued before the moment from which certificates of controllers count")

// Terms are those on which an agent speaks: only with a controller of its field, or one who watches it; see Watches. They follow a renewed certificate.
func (a *Agent) Terms() *tls.Config {
	t := onlyTLS13.Clone()
	t.GetConfigForClient = func(*tls.ClientHelloInfo) (*tls.Config, error) {
		a.mu.Lock()
		defer a.mu.Unlock()
		now := onlyTLS13.Clone()
		now.Certificates, now.ClientCAs, now.ClientAuth = []tls.Certificate{*a.cert}, a.pool, tls.RequireAndVerifyClientCert
		since := a.counting.Since
		now.VerifyConnection = func(c tls.ConnectionState) error { return mayAsk(c.PeerCertificates[0], since) }
		return now, nil
	}
	return t
}

package identity

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"time"
)

// A watcher's certificate and key lie open, for its owner only, so that a field can be watched while nobody has opened its keyring. An agent tells a
// watcher how things are, and takes no order from it.

// Watch makes what a watcher shows, as PEM: the certificates of the authorities that count, its own, and its key.
func (a *Authority) Watch() ([]byte, error) {
	c, err := a.asking("watcher", kindWatcher, validFor)
	if err != nil {
		return nil, err
	}
	key, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	var blocks []*pem.Block
	for _, root := range a.authorities() {
		blocks = append(blocks, &pem.Block{Type: "CERTIFICATE", Bytes: root})
	}
	for _, b := range append(blocks, &pem.Block{Type: "CERTIFICATE", Bytes: c.Leaf.Raw}, &pem.Block{Type: "PRIVATE KEY", Bytes: key}) {
		if err := pem.Encode(&out, b); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

// OpenWatch reads what a watcher shows.
func OpenWatch(name string) (*Controller, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	c := &Controller{now: time.Now, refused: &Refused{}, mine: &tls.Certificate{}}
	for block, rest := pem.Decode(data); block != nil; block, rest = pem.Decode(rest) {
		switch {
		case block.Type == "PRIVATE KEY":
			c.mine.PrivateKey, err = x509.ParsePKCS8PrivateKey(block.Bytes)
		case c.mine.Leaf == nil:
			var cert *x509.Certificate
			if cert, err = x509.ParseCertificate(block.Bytes); err == nil && cert.IsCA {
				c.roots = append(c.roots, cert)
			} else {
				c.mine.Leaf, c.mine.Certificate = cert, [][]byte{block.Bytes}
			}
		}
		if err != nil {
			return nil, fmt.Errorf("%s is damaged: %w", name, err)
		}
	}
	key, _ := c.mine.PrivateKey.(*ecdsa.PrivateKey)
	if key == nil || c.mine.Leaf == nil || !key.PublicKey.Equal(c.mine.Leaf.PublicKey) {
		return nil, fmt.Errorf("%s is damaged: %w", name, errors.New("its key and its certificate do not belong together"))
	}
	return c, nil
}

// Outdated tells whether a watcher is to be made anew: its time nears its end, it was refused, or other authorities count.
func (c *Controller) Outdated(a *Authority) bool {
	known := [][]byte{}
	for _, root := range c.roots {
		known = append(known, root.Raw)
	}
	return c.now().After(DueAt(c.mine.Leaf)) || IssuedAt(c.mine.Leaf).Before(a.refused.asking()) || c.mine.Leaf.CheckSignatureFrom(a.counts().cert) != nil ||
		!slices.EqualFunc(known, a.authorities(), bytes.Equal)
}

// Watches tells whether who is at the other end of a connection, which a Listener has accepted, only watches.
func Watches(conn net.Conn) bool {
	p, ok := conn.(*peer)
	return !ok || kindOf(p.ConnectionState().PeerCertificates[0]) != kindController
}

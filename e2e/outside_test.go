package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestACertificateFromOutside has an authority that the field knows nothing of issue a certificate for an entry in mode http, before members that speak TLS
// themselves: who comes by its names is shown that, who comes by an address the field's own.
func TestACertificateFromOutside(t *testing.T) {
	t.Parallel()
	x := newTrial(t, `format: 1
field: harbour-outside
nodes: [{name: "gull-{1..2}"}]
roles:
  figures: {kit: prometheus, members: 1}
  desk: {kit: haproxy, members: 2, spread: node, calls: {members: figures}, settings: {mode: http, write_to: any}, names: [figures.harbour.example, desk.harbour.example]}
`)
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Harbour Office"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(1000 * 24 * time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	signed := func(c *x509.Certificate, public any) string {
		der, err := x509.CreateCertificate(rand.Reader, c, root, public, key)
		if err != nil {
			t.Fatal(err)
		}
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	rootPEM := signed(root, key.Public())
	answer := func(days int, names ...string) string {
		block, _ := pem.Decode([]byte(x.must("trust", "request", x.file, "desk")))
		request, err := x509.ParseCertificateRequest(block.Bytes)
		if err != nil {
			t.Fatal(err)
		}
		if len(names) == 0 {
			names = request.DNSNames
		}
		name := filepath.Join(x.dir, fmt.Sprintf("chain-%d.pem", days))
		chain := signed(&x509.Certificate{SerialNumber: big.NewInt(int64(100 + days)), Subject: request.Subject, DNSNames: names, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Duration(days) * 24 * time.Hour),
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, request.PublicKey) + rootPEM
		if err := os.WriteFile(name, []byte(chain), 0o644); err != nil {
			t.Fatal(err)
		}
		return name
	}
	desk := x.status().member("desk-1")
	at := net.JoinHostPort(desk.Address, strconv.Itoa(desk.Ports["write"]))
	asked := func(name, authority string) (issuer string, err error) {
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(authority))
		dial := func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, at)
		}
		c := http.Client{Timeout: 2 * time.Second, Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: pool}}}
		res, err := c.Get("https://" + name + ":" + strings.Split(at, ":")[1] + "/-/ready")
		if err != nil {
			return "", err
		}
		defer res.Body.Close()
		if body, _ := io.ReadAll(res.Body); res.StatusCode != 200 || !strings.Contains(string(body), "Ready") {
			return "", fmt.Errorf("%d %s", res.StatusCode, body)
		}
		return res.TLS.PeerCertificates[0].Issuer.CommonName, nil
	}
	own := x.must("trust", "authority", x.file)
	if by, err := asked("desk.harbour.example", own); err != nil || by != "harbour-outside members 1" {
		t.Errorf("before that: %s %v", by, err)
	}
	if out, code := x.try(20*time.Second, "trust", "install", x.file, "desk", answer(80, "quay.example"), "--yes"); code != 2 || !strings.Contains(out, "it is not for figures.harbour.example, desk.harbour.example, which clients use; it is for quay.example") {
		t.Errorf("of another name: %d %s", code, out)
	}
	if out, code := x.try(20*time.Second, "trust", "install", x.file, "figures", answer(81), "--yes"); code != 2 || !strings.Contains(out, "Put an entry before it") {
		t.Errorf("for a role that cannot: %d %s", code, out)
	}
	if out := x.must("trust", "install", x.file, "desk", answer(90), "--yes"); !strings.Contains(out, "desk shows it to those who reach it by its names") || !strings.Contains(out, "of desk-2, which has it read its files again") {
		t.Errorf("install: %s", out)
	}
	for _, name := range []string{"desk.harbour.example", "figures.harbour.example"} {
		if by, err := asked(name, rootPEM); err != nil || by != "Harbour Office" {
			t.Errorf("by the name %s: %s %v", name, by, err)
		}
	}
	if by, err := asked(desk.Address, own); err != nil || by != "harbour-outside members 1" {
		t.Errorf("by an address: %s %v", by, err)
	}
	if now := x.status().member("desk-1"); now.PID == 0 || now.Phase != "ready" {
		t.Errorf("the entry: %+v", now)
	}
	both := x.access("figures")
	if by, err := asked("desk.harbour.example", string(both.read(t, "authority.pem"))); err != nil || by != "Harbour Office" {
		t.Errorf("with what a client is given: %s %v", by, err)
	}
	// Another one, which ends soon: it is called for.
	x.must("trust", "install", x.file, "desk", answer(5), "--yes")
	if out := x.must("status", x.file); !strings.Contains(out, "problem: the certificate from outside of desk runs out in 4 days") && !strings.Contains(out, "problem: the certificate from outside of desk runs out in 5 days") {
		t.Errorf("that it ends soon is not said:\n%s", out)
	}
	out, code := x.try(20*time.Second, "trust", x.file, "--json")
	var trust struct {
		Outside []struct {
			Role  string
			Shown []struct{ Same bool }
		}
	}
	if err := json.Unmarshal([]byte(out), &trust); err != nil || code != 1 || len(trust.Outside) != 1 || len(trust.Outside[0].Shown) != 4 || !trust.Outside[0].Shown[0].Same || !trust.Outside[0].Shown[3].Same {
		t.Errorf("trust: %d %+v %v", code, trust, err)
	}
	x.must("trust", "install", x.file, "desk", "--remove", "--yes")
	x.until("it is shown no longer", 10*time.Second, func() bool {
		by, err := asked("desk.harbour.example", own)
		return err == nil && by == "harbour-outside members 1"
	})
	if found := filepath.Join(x.state, "harbour-outside/nodes/gull-1/members/desk-1/tls/outside.pem"); strings.Contains(string(readFile(found)), "PRIVATE KEY") {
		t.Error("its key is still in the member's folder")
	}
}

func readFile(name string) []byte {
	data, _ := os.ReadFile(name)
	return data
}

// read gives one of the files that a client was given.
func (w way) read(t *testing.T, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(w.dir, name))
	if err != nil {
		t.Error(err)
	}
	return data
}

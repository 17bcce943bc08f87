package identity

import (
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"
)

// Counting says to an agent whose word counts. A later one takes the place of an earlier one, and never the other way round.
type Counting struct {
	Number      int64     `json:"number,omitempty"` // rises with every change
	Authorities [][]byte  `json:"authorities"`      // their certificates, DER
	Since       time.Time `json:"since,omitzero"`   // certificates of controllers and watchers that were issued before do not count
}

// vouched is a Counting on its way to agents that run: an authority that they believe has signed it, so that nobody who has only come by a controller's
// certificate can shut out everybody else.
type vouched struct {
	Counting  []byte `json:"counting"`  // JSON
	Signature []byte `json:"signature"` // ECDSA over SHA-256 of vouchedFor and that, ASN.1
}

const vouchedFor = "lanternfield counting 1\n"

// mostAuthorities is how many may count at a time: one, and one that takes its place.
const mostAuthorities = 2

// Beside has another authority, as PEM, take this one's place: agents' certificates are by the other one from now on, and both are believed. Where it is that
// one already, nothing changes.
func (a *Authority) Beside(next []byte) error {
	s, err := parseSigner(next)
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if !s.cert.Equal(a.current.cert) {
		a.next = s
	}
	return nil
}

// TakesPlace ends that: the one beside is the only one that counts from now on.
func (a *Authority) TakesPlace() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.next != nil {
		a.current, a.next = *a.next, nil
	}
}

// authorities are the certificates of those that count, DER.
func (a *Authority) authorities() [][]byte {
	a.mu.Lock()
	defer a.mu.Unlock()
	all := [][]byte{a.current.cert.Raw}
	if a.next != nil {
		all = append(all, a.next.cert.Raw)
	}
	return all
}

func (a *Authority) addTo(pool *x509.CertPool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	pool.AddCert(a.current.cert)
	if a.next != nil {
		pool.AddCert(a.next.cert)
	}
}

// Counting is what agents are told.
func (a *Authority) Counting() Counting {
	number, since := a.refused.told()
	return Counting{Number: number, Authorities: a.authorities(), Since: since}
}

// Vouched is that, signed, with its number.
func (a *Authority) Vouched() (signed []byte, number int64, err error) {
	c := a.Counting()
	data, err := json.Marshal(c)
	if err != nil {
		return nil, 0, err
	}
	sum := sha256.Sum256(append([]byte(vouchedFor), data...))
	signature, err := ecdsa.SignASN1(rand.Reader, a.counts().key, sum[:])
	if err != nil {
		return nil, 0, err
	}
	signed, err = json.Marshal(vouched{data, signature})
	return signed, c.Number, err
}

// Refused gives what is refused, which those share who speak by this authority.
func (a *Authority) Refused() *Refused { return a.refused }

// Refused gives what is refused, for who only watches.
func (c *Controller) Refused() *Refused { return c.refused }

// Refused says which certificates do not count although their time has not ended: all that were issued before a moment.
type Refused struct {
	mu     sync.Mutex
	number int64
	askers time.Time
	agents map[string]time.Time
}

// Set says what is refused: certificates of controllers and watchers, and of the agents of nodes, by when they were issued. Number is what agents are told it
// with; see Counting.
func (r *Refused) Set(number int64, askers time.Time, agents map[string]time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.number, r.askers, r.agents = number, askers, maps.Clone(agents)
}

func (r *Refused) told() (int64, time.Time) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.number, r.askers
}

func (r *Refused) asking() time.Time {
	_, since := r.told()
	return since
}

func (r *Refused) agent(node string) time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.agents[node]
}

// later is the later of two moments. A certificate that is issued in the second in which those before it were refused says that it is of the next one.
func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// RefusedError says that an agent's certificate was revoked.
type RefusedError struct {
	Node  string
	Since time.Time
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("its certificate was revoked: those of %s count that were issued since %s", e.Node, e.Since.UTC().Format("2 Jan 2006 15:04:05 MST"))
}

// ErrOlder says that an agent was told something later already.
var ErrOlder = errors.New("the agent was told later whose word counts")

// Follow takes what an authority that counts says of whose word counts from now on. Who has shown a certificate that does not count any longer is to be
// parted from; see Counts.
func (a *Agent) Follow(signed []byte) error {
	var v vouched
	var c Counting
	if err := json.Unmarshal(signed, &v); err != nil {
		return fmt.Errorf("whose word counts cannot be read: %w", err)
	}
	if err := json.Unmarshal(v.Counting, &c); err != nil {
		return fmt.Errorf("whose word counts cannot be read: %w", err)
	}
	sum := sha256.Sum256(append([]byte(vouchedFor), v.Counting...))
	a.mu.Lock()
	defer a.mu.Unlock()
	believed := false
	for _, root := range a.roots {
		key, ok := root.PublicKey.(*ecdsa.PublicKey)
		believed = believed || ok && ecdsa.VerifyASN1(key, sum[:], v.Signature)
	}
	switch {
	case !believed:
		return errors.New("whose word counts is signed by nobody whose word counts here")
	case c.Number < a.counting.Number:
		return ErrOlder
	}
	return a.count(c)
}

// count has the word of others count. The caller holds the lock.
func (a *Agent) count(c Counting) error {
	if len(c.Authorities) == 0 || len(c.Authorities) > mostAuthorities {
		return fmt.Errorf("%d authorities cannot count", len(c.Authorities))
	}
	var roots []*x509.Certificate
	pool := x509.NewCertPool()
	for _, der := range c.Authorities {
		root, err := x509.ParseCertificate(der)
		if err != nil {
			return fmt.Errorf("the authority's certificate cannot be read: %w", err)
		}
		roots = append(roots, root)
		pool.AddCert(root)
	}
	a.counting, a.roots, a.pool = c, roots, pool
	return nil
}

// Told is the number of what the agent was told last of whose word counts.
func (a *Agent) Told() int64 {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.counting.Number
}

// Counts tells whether somebody with that certificate is to be answered, by what counts now.
func (a *Agent) Counts(leaf *x509.Certificate) bool {
	a.mu.Lock()
	pool, since := a.pool, a.counting.Since
	a.mu.Unlock()
	_, err := leaf.Verify(x509.VerifyOptions{Roots: pool, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	return err == nil && mayAsk(leaf, since) == nil
}

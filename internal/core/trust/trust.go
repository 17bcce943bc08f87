// Package trust says which certificates a field's members have: who issues them, for whom, under which names, and until when. It holds no key
// and makes no certificate; what it describes, package identity makes, the same every time.
package trust

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Authority issues the certificates of members. Its key follows from a root of the field's own and its number.
type Authority struct {
	Number int       `json:"number"`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
	// Key is the fingerprint of its root, so that another one is not taken for it; empty for the first, whose root follows from the field's key.
	Key string `json:"key,omitempty"`
}

// Issue is one issuing of a member's certificate, with a key of its own.
type Issue struct {
	Number int       `json:"number"` // counts those of the member
	By     int       `json:"by"`     // the number of the authority
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
}

// How long authorities and certificates are valid where a field says nothing.
const (
	AuthorityFor   = 10 * 365 * 24 * time.Hour
	CertificateFor = 90 * 24 * time.Hour
)

// Due is when a certificate is to be replaced: when a third of its time is left.
func (i Issue) Due() time.Time { return i.Until.Add(-i.Until.Sub(i.From) / 3) }

// Certificate is a certificate in full: everything that it says follows from this.
type Certificate struct {
	Field  string    `json:"field"`
	Holder string    `json:"holder"`           // the member
	Names  []string  `json:"names,omitempty"`  // DNS names and addresses under which it is reached
	Text   bool      `json:"text,omitempty"`   // addresses are DNS names too, for programs that compare them as texts
	Client bool      `json:"client,omitempty"` // it can be used to ask only
	Issue  Issue     `json:"issue"`
	By     Authority `json:"by"`
	// Before is the authority that By replaces, while both count: it vouches for By to those who know only it.
	Before *Authority `json:"before,omitempty"`
}

// Named sorts names into DNS names and addresses, each once.
func (c Certificate) Named() (dns []string, addresses []net.IP) {
	for _, name := range c.Names {
		ip := net.ParseIP(name)
		if ip != nil {
			addresses = append(addresses, ip)
		}
		if ip == nil || c.Text {
			dns = append(dns, name)
		}
	}
	return dns, addresses
}

// Names puts names together, sorted, each once, without empty ones.
func Names(names ...string) []string {
	names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == "" })
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(cmp.Compare(kindOf(a), kindOf(b)), cmp.Compare(a, b))
	})
	return slices.Compact(names)
}

// kindOf has DNS names stand before addresses.
func kindOf(name string) int {
	if net.ParseIP(name) != nil {
		return 1
	}
	return 0
}

// Kind is what of a certificate a mark stands for.
type Kind string

// What marks stand for, as PEM.
const (
	Key         Kind = "key"         // the private key, PKCS #8
	Chain       Kind = "certificate" // the certificate, and after it those that lead to an authority that others know
	Authorities Kind = "authority"   // the authorities that count
)

// Mark stands in a text for what is put in as that leaves the controller, so that no key is ever stored with it.
type Mark struct {
	Kind        Kind         `json:"kind"`
	Certificate *Certificate `json:"certificate,omitempty"`
	Field       string       `json:"field,omitempty"`
	Authorities []Authority  `json:"authorities,omitempty"`
}

var pattern = regexp.MustCompile("\x00trust:([^\x00]*)\x00")

// String is the mark as it stands in a text.
func (m Mark) String() string {
	data, err := json.Marshal(m)
	if err != nil {
		panic(err) // times and texts only
	}
	return "\x00trust:" + string(data) + "\x00"
}

// How a mark begins, and one of a key.
const (
	begins    = "\x00trust:"
	beginsKey = begins + `{"kind":"` + string(Key) + `"`
)

// Has tells whether a text has a mark, and whether one of a key.
func Has(text string) (any, key bool) {
	return strings.Contains(text, begins), strings.Contains(text, beginsKey)
}

// Marks gives the marks of a certificate's key and of its chain.
func (c Certificate) Marks() (key, chain string) {
	data, err := json.Marshal(c)
	if err != nil {
		panic(err) // times and texts only
	}
	mark := func(kind Kind) string {
		return begins + `{"kind":"` + string(kind) + `","certificate":` + string(data) + "}\x00"
	}
	return mark(Key), mark(Chain)
}

// Put replaces the marks in a text.
func Put(text string, with func(Mark) string) string {
	return pattern.ReplaceAllStringFunc(text, func(found string) string {
		var m Mark
		if err := json.Unmarshal([]byte(pattern.FindStringSubmatch(found)[1]), &m); err != nil {
			return found
		}
		return with(m)
	})
}

// Word says what a mark stands for, for people.
func (m Mark) Word() string {
	switch {
	case m.Kind == Authorities:
		text := "(the authority"
		if len(m.Authorities) > 1 {
			text = "(the authorities"
		}
		for i, a := range m.Authorities {
			if i > 0 {
				text += " and"
			}
			text += fmt.Sprintf(" %d", a.Number)
		}
		return text + " of the members of " + m.Field + ")"
	case m.Certificate == nil || m.Certificate.Issue.Number == 0:
		return fmt.Sprintf("(the %s, made as it is deployed)", m.Kind)
	}
	return fmt.Sprintf("(the %s of %s: number %d, until %s)", m.Kind, m.Certificate.Holder, m.Certificate.Issue.Number, m.Certificate.Issue.Until.Format("2 Jan 2006"))
}

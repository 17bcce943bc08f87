// Package link says what one field is told of a role of another field that it calls: where its members are, whom to believe there, and as whom to
// ask. What is secret of it is in the keyrings of both; here it has its number only.
package link

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"lanternfield/internal/core/field"
)

// Host is where a client connects.
type Host struct {
	Member  field.MemberName `json:"member"`
	Address string           `json:"address"`
	Port    int              `json:"port"`
}

// At is ADDRESS:PORT.
func (h Host) At() string { return fmt.Sprintf("%s:%d", h.Address, h.Port) }

// Member is a member of the other field's role.
type Member struct {
	Name      field.MemberName  `json:"name"`
	Number    int               `json:"number"`
	Node      field.NodeName    `json:"node"`
	Zone      field.ZoneName    `json:"zone,omitempty"`
	Address   string            `json:"address"`
	Addresses map[string]string `json:"addresses,omitempty"` // on the other networks
	Ports     map[string]Port   `json:"ports"`
}

// Port is a port of a member.
type Port struct {
	Number  int    `json:"number"`
	Scheme  string `json:"scheme,omitempty"`
	Network string `json:"network,omitempty"`
}

// Content is what is handed over.
type Content struct {
	Members []Member `json:"members"`
	Client  string   `json:"client"`            // the name of the port that clients connect to
	Metrics string   `json:"metrics,omitempty"` // of the port at which members tell measures of themselves
	Path    string   `json:"path,omitempty"`    // of those, there
	Write   []Host   `json:"write"`             // where clients connect: an entry before the role where there is one, else the members
	Read    []Host   `json:"read,omitempty"`    // where that is elsewhere
	Through string   `json:"through,omitempty"` // that entry
	Names   []string `json:"names,omitempty"`   // under which clients know it
	TLS     bool     `json:"tls,omitempty"`

	User   string `json:"user,omitempty"`
	Secret string `json:"secret,omitempty"` // its name over there
	Number int    `json:"number,omitempty"` // which of those that it was is in force

	// Authority is what is believed of those who answer, as PEM; Authorities are their numbers over there, the newest last.
	Authority   string `json:"authority,omitempty"`
	Authorities []int  `json:"authorities,omitempty"`
	// Certificate is shown to them, as PEM with what leads to the authority; its key is in the keyring.
	Certificate string    `json:"certificate,omitempty"`
	Until       time.Time `json:"until,omitzero"` // of that
}

// Newest is the number of the newest authority that counts over there; 0 where no TLS is spoken.
func (c *Content) Newest() int {
	if n := len(c.Authorities); n > 0 {
		return c.Authorities[n-1]
	}
	return 0
}

// At lists where its members are, ADDRESS:PORT of each: at the port that clients connect to.
func (c *Content) At() []string {
	var out []string
	for _, m := range c.Members {
		if p, ok := m.Ports[c.Client]; ok {
			out = append(out, Host{Address: m.On(p.Network), Port: p.Number}.At())
		}
	}
	return out
}

// On is the member's address on a network of its field; its main one where it has none there.
func (m Member) On(network string) string {
	if at := m.Addresses[network]; at != "" {
		return at
	}
	return m.Address
}

// Digest is by which a content is known again. Contents with the same digest come to the same for who is told of them.
func (c *Content) Digest() string {
	data, err := json.Marshal(c)
	if err != nil {
		panic(err) // texts, numbers and times only
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:10])
}

// The names of the secrets as which a field keeps what it was handed over for a role, by the content's number.
func KeySecret(role field.RoleName) string      { return "link-" + string(role) + "-key" }
func PasswordSecret(role field.RoleName) string { return "link-" + string(role) + "-password" }

// Handed is a content as it passes from field to field, with what is secret of it.
type Handed struct {
	Content  Content `json:"content"`
	Password string  `json:"password,omitempty"`
	Key      string  `json:"key,omitempty"` // PEM (PKCS #8)
}

// Ask asks for a role of another field.
type Ask struct {
	From field.RoleName `json:"from"` // the role that stands for it in the field that asks
	By   string         `json:"by"`   // the field that asks
	Role field.RoleName `json:"role"` // that is asked for
	// Runs is the number of the newest authority over there that all members run with which are told of it.
	Runs int `json:"runs,omitempty"`
}

// Answer is what comes of an Ask.
type Answer struct {
	Handed *Handed `json:"handed,omitempty"`
	// Refused says why it is not handed over: for now or, where Ended is set, until somebody changes that.
	Refused string `json:"refused,omitempty"`
	Ended   bool   `json:"ended,omitempty"`
}

// Package joining is how a machine comes to be a node by an invitation that somebody types there: the invitation itself, and what passes between the machine and
// who keeps the field. The machine's side is in package service, the keeper's is package door.
package joining

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"net/netip"
	"strings"

	"lanternfield/internal/identity"
)

// Variable is the variable of the environment in which an invitation is handed over: it stands in no argument, where others on the machine would see it.
const Variable = "LANTERNFIELD_INVITATION"

// The parts of an invitation, in bytes.
const (
	prefix      = "lf1."
	idSize      = 5
	secretSize  = 16
	sumSize     = 4
	fixed       = identity.PrintSize + idSize + secretSize + sumSize
	mostAddress = 64
)

// Token is what somebody hands over to the machine that is to join.
type Token struct {
	Print  []byte // of the authority of the field
	ID     string
	Secret []byte
	At     netip.AddrPort // where to knock
}

// NewToken draws an invitation.
func NewToken(print []byte, at netip.AddrPort) (Token, error) {
	drawn := make([]byte, idSize+secretSize)
	if _, err := rand.Read(drawn); err != nil {
		return Token{}, err
	}
	return Token{Print: print, ID: hex.EncodeToString(drawn[:idSize]), Secret: drawn[idSize:], At: at}, nil
}

// Sum is the checksum of the secret, which is all of it that a field keeps.
func (t Token) Sum() string { return SumOf(t.Secret) }

// SumOf is the checksum of a secret.
func SumOf(secret []byte) string {
	sum := sha256.Sum256(secret)
	return hex.EncodeToString(sum[:])
}

// String writes an invitation so that it can be typed, or copied.
func (t Token) String() string {
	id, _ := hex.DecodeString(t.ID)
	data := append(append(append([]byte{}, t.Print...), id...), t.Secret...)
	data = append(data, t.At.String()...)
	return prefix + base64.RawURLEncoding.EncodeToString(binary.BigEndian.AppendUint32(data, crc32.ChecksumIEEE(data)))
}

// ParseToken reads an invitation. An error says what is wrong with it.
func ParseToken(text string) (t Token, err error) {
	text = strings.TrimSpace(text)
	body, ours := strings.CutPrefix(text, prefix)
	if !ours {
		return t, fmt.Errorf("this is no invitation of Lantern Field: they begin with %s", prefix)
	}
	data, err := base64.RawURLEncoding.DecodeString(body)
	if err != nil || len(data) <= fixed || len(data) > fixed+mostAddress ||
		crc32.ChecksumIEEE(data[:len(data)-sumSize]) != binary.BigEndian.Uint32(data[len(data)-sumSize:]) {
		return t, fmt.Errorf("this invitation is not whole: copy it again, all of it")
	}
	data = data[:len(data)-sumSize]
	next := func(n int) (part []byte) {
		part, data = data[:n], data[n:]
		return part
	}
	t = Token{Print: next(identity.PrintSize), ID: hex.EncodeToString(next(idSize)), Secret: next(secretSize)}
	t.At, err = netip.ParseAddrPort(string(data))
	return t, err
}

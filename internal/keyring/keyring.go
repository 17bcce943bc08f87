// Package keyring keeps what is secret of one field: its key, the authority of its agents, the roots of its members' authorities, and secrets that
// were given. It is one file, encrypted with age (age-encryption.org/v1) for one identity: a key file of the field's owner, or one that a passphrase
// opens. What was read stays in the memory of the process that opened it.
package keyring

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/armor"

	"lanternfield/internal/identity"
)

// The files of a keyring, in a folder for its owner only.
const (
	File           = "keyring.age"
	PassphraseFile = "identity.age" // the identity that opens it, encrypted with a passphrase; not there where the owner's key opens it
)

// Content is what a keyring holds.
type Content struct {
	Field     string                    `json:"field"`
	Key       []byte                    `json:"key,omitempty"`       // 32 bytes, of which secrets and seals are derived
	Authority string                    `json:"authority,omitempty"` // of agents and controllers: its key and certificate, as PEM
	Next      string                    `json:"next,omitempty"`      // that is to take its place, likewise
	Place     int                       `json:"place,omitempty"`     // how many have taken the place of another before Authority
	Roots     map[int][]byte            `json:"roots,omitempty"`     // of members' authorities, by number; the first follows from the key
	Given     map[string]map[int]string `json:"given,omitempty"`     // secrets that somebody gave, by name and number
	Asked     map[string]string         `json:"asked,omitempty"`     // keys for which a certificate from outside was asked, PEM, by role
}

// Keyring is a keyring that was opened.
type Keyring struct {
	dir string

	mu       sync.Mutex
	identity *age.X25519Identity
	content  Content
}

// Sealed says that a keyring cannot be opened with what is at hand.
type Sealed struct {
	Passphrase bool   // one opens it
	Why        string // what is missing or wrong
}

func (e *Sealed) Error() string { return "the keyring is sealed: " + e.Why }

// ErrNone says that there is no keyring.
var ErrNone = errors.New("there is no keyring")

// Is tells whether there is a keyring in a folder.
func Is(dir string) bool {
	_, err := os.Lstat(filepath.Join(dir, File))
	return err == nil
}

// Make makes a keyring with that content for an identity; no other may be there.
func Make(dir string, id *age.X25519Identity, content Content) (*Keyring, error) {
	if Is(dir) {
		return nil, fmt.Errorf("there is a keyring in %s already", dir)
	}
	k := &Keyring{dir: dir, identity: id, content: content}
	return k, k.write()
}

// InMemory makes a keyring that is kept nowhere.
func InMemory(content Content) *Keyring { return &Keyring{content: content} }

// Open opens the keyring of a field, in a folder, with one of those identities. An error of type *Sealed says that none of them does it; ErrNone, that
// there is none.
func Open(dir, field string, ids ...*age.X25519Identity) (*Keyring, error) {
	name := filepath.Join(dir, File)
	data, err := os.ReadFile(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, ErrNone
	case err != nil:
		return nil, err
	}
	damaged := func(err error) error {
		return fmt.Errorf("the keyring %s is damaged (%w): put it back from a copy", name, err)
	}
	at := bytes.Index(data, []byte(armor.Header)) // before that, for whom it is sealed, for people
	if at < 0 {
		return nil, damaged(errors.New("it is no age file"))
	}
	for _, id := range ids {
		plain, err := age.Decrypt(armor.NewReader(bytes.NewReader(data[at:])), id)
		var no *age.NoIdentityMatchError
		if errors.As(err, &no) {
			continue
		}
		if err != nil {
			return nil, damaged(err)
		}
		k := &Keyring{dir: dir, identity: id}
		text, err := io.ReadAll(plain)
		if err == nil {
			err = json.Unmarshal(text, &k.content)
		}
		if err != nil {
			return nil, damaged(err)
		}
		if k.content.Field != field {
			return nil, fmt.Errorf("%s is the keyring of %s, not of %s: put the right one back from a copy", name, k.content.Field, field)
		}
		return k, nil
	}
	return nil, sealed(dir, data[:at], len(ids) > 0)
}

// sealed says what would open a keyring.
func sealed(dir string, head []byte, tried bool) *Sealed {
	if _, err := os.Lstat(filepath.Join(dir, PassphraseFile)); err == nil {
		return &Sealed{Passphrase: true, Why: "its passphrase has not been said to whoever keeps the field"}
	}
	who := "the key of its owner"
	if _, key, ok := strings.Cut(strings.TrimSpace(string(head)), forWhom); ok {
		who += " " + strings.TrimSpace(key)
	}
	if tried {
		return &Sealed{Why: "it is for " + who + ", which is not among those at hand"}
	}
	return &Sealed{Why: "it is for " + who + ", which is not at hand"}
}

const forWhom = "sealed for "

// write writes the keyring; it is there whole, with what was there before or what is to be.
func (k *Keyring) write() error {
	if k.dir == "" {
		return nil
	}
	data, err := json.Marshal(k.content)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	to := k.identity.Recipient()
	fmt.Fprintf(&out, "# %s%s\n", forWhom, to)
	text := armor.NewWriter(&out)
	sealing, err := age.Encrypt(text, to)
	if err == nil {
		_, err = sealing.Write(data)
		err = errors.Join(err, sealing.Close(), text.Close())
	}
	if err != nil {
		return err
	}
	return identity.WriteSynced(filepath.Join(k.dir, File), out.Bytes())
}

// For tells for whom a keyring is sealed, without opening it; ErrNone where there is none.
func For(dir string) (*age.X25519Recipient, error) {
	data, err := os.ReadFile(filepath.Join(dir, File))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	head, _, _ := strings.Cut(string(data), "\n")
	_, key, _ := strings.Cut(head, forWhom)
	to, err := age.ParseX25519Recipient(strings.TrimSpace(key))
	if err != nil {
		return nil, fmt.Errorf("the keyring in %s does not say for whom it is sealed: put it back from a copy", dir)
	}
	return to, nil
}

// Key is the field's key.
func (k *Keyring) Key() []byte {
	k.mu.Lock()
	defer k.mu.Unlock()
	return bytes.Clone(k.content.Key)
}

// Authority is that of agents and controllers, as PEM.
func (k *Keyring) Authority() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.content.Authority
}

// Agents gives the authority of agents and controllers and, where one is to take its place, that one, as PEM.
func (k *Keyring) Agents() (current, next string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.content.Authority, k.content.Next
}

// Place is how many authorities have taken the place of another before the one that counts.
func (k *Keyring) Place() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.content.Place
}

// Root gives the root of a members' authority; nil where it is not there.
func (k *Keyring) Root(number int) []byte {
	k.mu.Lock()
	defer k.mu.Unlock()
	return bytes.Clone(k.content.Roots[number])
}

// Given gives a secret that somebody gave.
func (k *Keyring) Given(name string, number int) (string, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	value, ok := k.content.Given[name][number]
	return value, ok
}

// Numbers lists which of a secret were given.
func (k *Keyring) Numbers(name string) []int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Sorted(maps.Keys(k.content.Given[name]))
}

// Asked gives the key for which a certificate from outside was asked; empty where none was.
func (k *Keyring) Asked(role string) string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.content.Asked[role]
}

// Recipient is for whom it is sealed.
func (k *Keyring) Recipient() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.identity.Recipient().String()
}

// Change changes the content and writes it; what it held before is held on where that fails.
func (k *Keyring) Change(change func(*Content)) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	before := k.content
	next := before
	next.Roots = map[int][]byte{}
	maps.Copy(next.Roots, before.Roots)
	next.Asked = map[string]string{}
	maps.Copy(next.Asked, before.Asked)
	next.Given = map[string]map[int]string{}
	for name, all := range before.Given {
		next.Given[name] = maps.Clone(all)
	}
	change(&next)
	k.content = next
	if err := k.write(); err != nil {
		k.content = before
		return fmt.Errorf("the keyring cannot be written: %w", err)
	}
	return nil
}

// Give keeps a secret that somebody gave.
func (k *Keyring) Give(name string, number int, value string) error {
	return k.Change(func(c *Content) {
		if c.Given[name] == nil {
			c.Given[name] = map[int]string{}
		}
		c.Given[name][number] = value
	})
}

// SealFor seals the keyring for the owner's key from now on.
func (k *Keyring) SealFor(id *age.X25519Identity) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	before := k.identity
	k.identity = id
	if err := k.write(); err != nil {
		k.identity = before
		return err
	}
	return ignoring(os.Remove(filepath.Join(k.dir, PassphraseFile)), fs.ErrNotExist)
}

// SealWith seals the keyring with a passphrase from now on: for a new identity, which that opens. The identity is written first: until the keyring
// is, what opened it before does.
func (k *Keyring) SealWith(passphrase string) error {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	data, err := encrypted(id, passphrase)
	if err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	name := filepath.Join(k.dir, PassphraseFile)
	old, _ := os.ReadFile(name)
	if err := identity.WriteSynced(name, data); err != nil {
		return err
	}
	before := k.identity
	k.identity = id
	if err := k.write(); err != nil {
		k.identity = before
		if old != nil {
			return errors.Join(err, identity.WriteSynced(name, old))
		}
		return errors.Join(err, os.Remove(name))
	}
	return nil
}

// Values are all that must not be seen by others, in the forms in which it may stand in texts: to look for it.
func (k *Keyring) Values() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out []string
	raw := func(data []byte) {
		if len(data) > 0 {
			out = append(out, hex.EncodeToString(data), base64.StdEncoding.EncodeToString(data), base64.RawURLEncoding.EncodeToString(data))
		}
	}
	raw(k.content.Key)
	for _, root := range k.content.Roots {
		raw(root)
	}
	for _, numbers := range k.content.Given {
		for _, value := range numbers {
			out = append(out, value)
		}
	}
	return out
}

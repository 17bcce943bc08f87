package control

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"filippo.io/age"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// SealedError says that a field's keyring is not open, so that nothing can be done that needs a key. What runs goes on, and is watched.
type SealedError struct {
	Field string
	keyring.Sealed
}

func (e *SealedError) Error() string {
	remedy := fmt.Sprintf("put that file back, or name it with %s, then `lanternfield trust unseal`", keyring.OwnerVariable)
	if e.Passphrase {
		remedy = "`lanternfield trust unseal` asks for it"
	}
	return fmt.Sprintf("the keyring of %s is sealed: %s; %s. What runs goes on, and is watched", e.Field, e.Why, remedy)
}

// waiting says what waits for the keyring.
func (e *SealedError) waiting(commands []engine.Command) string {
	if len(commands) == 0 {
		return e.Error()
	}
	var members []field.MemberName
	nodes := 0
	for _, cmd := range commands {
		switch {
		case cmd.Order != nil:
			members = append(members, cmd.Order.Member)
		case cmd.Operation != nil:
			members = append(members, cmd.Operation.Asked)
		default:
			nodes++
		}
	}
	slices.Sort(members)
	var waits []string
	if members = slices.Compact(members); len(members) > 0 {
		waits = append(waits, "what is to be done at "+wording.Members(members))
	}
	if nodes > 0 {
		waits = append(waits, wording.Counted(nodes, "node")+" to be made or freed")
	}
	return fmt.Sprintf("%s. Waiting for it: %s", e.Error(), wording.And(waits))
}

// identities are those at hand: what was handed over, and the owner's. Name is the file in which the owner's are looked for, missing why they cannot be read.
func (f Folder) identities() (ids []*age.X25519Identity, name string, missing error) {
	if f.Identity != nil {
		ids = append(ids, f.Identity)
	}
	if name, missing = keyring.OwnerFile(); missing == nil {
		var owner []*age.X25519Identity
		owner, missing = keyring.Owner(name)
		ids = append(ids, owner...)
	}
	return ids, name, missing
}

// opened opens the keyring of a field, making nothing and asking nobody.
func (f Folder) opened() (*keyring.Keyring, error) {
	ids, name, missing := f.identities()
	ring, err := keyring.Open(f.own(), fieldName(f), ids...)
	var sealed *keyring.Sealed
	if errors.As(err, &sealed) {
		why := *sealed
		switch {
		case why.Passphrase:
		case missing != nil:
			why.Why += ": " + missing.Error()
		default:
			why.Why += " (looked for in " + name + ")"
		}
		return nil, &SealedError{Field: fieldName(f), Sealed: why}
	}
	return ring, err
}

// Unsealed gives the folder with what opens its keyring, having asked a person for the passphrase where there is one.
func (f Folder) Unsealed() (Folder, error) {
	_, err := f.opened()
	var sealed *SealedError
	switch {
	case err == nil || errors.Is(err, keyring.ErrNone):
		return f, nil
	case !errors.As(err, &sealed) || !sealed.Passphrase || f.Passphrase == nil:
		return f, err
	}
	why := "The keyring of " + fieldName(f) + " is sealed. Its passphrase (empty: only watch): "
	for tries := 0; tries < mostPassphrases; tries++ {
		said, failed := f.Passphrase(why)
		if failed != nil {
			return f, failed
		}
		if said == "" { // it is to stay sealed
			return f, err
		}
		id, err := keyring.WithPassphrase(f.own(), said)
		if err == nil {
			f.Identity = id
			_, err = f.opened()
			return f, err
		}
		if !errors.Is(err, keyring.ErrPassphrase) {
			return f, err
		}
		why = "That is not it. The passphrase of the keyring of " + fieldName(f) + ": "
	}
	return f, fmt.Errorf("the keyring of %s stays sealed: %w", fieldName(f), keyring.ErrPassphrase)
}

// mostPassphrases is how often a person is asked for a passphrase.
const mostPassphrases = 3

// keyring opens the field's keyring. Where there is none it is made: of what an older version kept in the open, or anew for a new field. An error of
// type *SealedError says that it cannot be opened with what is at hand.
func (f Folder) keyring() (*keyring.Keyring, error) {
	ring, err := f.opened()
	if errors.Is(err, keyring.ErrNone) {
		ring, err = f.makeKeyring()
	}
	if err == nil {
		var authority *identity.Authority
		if authority, err = authorityOf(ring); err == nil {
			err = errors.Join(f.removeOpen(ring), f.makeWatch(authority))
		}
	}
	if err != nil {
		return nil, err
	}
	return ring, nil
}

func (f Folder) makeKeyring() (*keyring.Keyring, error) {
	content, err := f.openKeys()
	if err != nil {
		return nil, err
	}
	name, err := keyring.OwnerFile()
	if err != nil {
		return nil, err
	}
	ids, err := keyring.Owner(name)
	if err != nil {
		return nil, err
	}
	if len(ids) == 0 {
		id, err := keyring.MakeOwner(name)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	ring, err := keyring.Make(f.own(), ids[0], content)
	if err != nil {
		return nil, stateError(f.Dir, err)
	}
	return ring, nil
}

// The files in which an older version kept keys in the open.
const openAuthority = "authority.pem"

func (f Folder) openRoots() []string {
	names, _ := filepath.Glob(filepath.Join(f.own(), "authority-*.key"))
	return names
}

// openKeys reads what an older version kept in the open, or makes it for a new field.
func (f Folder) openKeys() (c keyring.Content, err error) {
	c = keyring.Content{Field: fieldName(f), Roots: map[int][]byte{}}
	unhex := func(name, what string) ([]byte, error) {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		key, err := hex.DecodeString(strings.TrimSpace(string(data)))
		if err != nil || len(key) != 32 {
			return nil, fmt.Errorf("%s, %s, is damaged: put it back from a copy", what, name)
		}
		return key, nil
	}
	c.Key, err = unhex(f.secret(), "the field's key")
	if errors.Is(err, fs.ErrNotExist) {
		if info, there := os.Stat(f.events()); there == nil && info.Size() > 0 {
			return c, fmt.Errorf("the keyring of %s, %s, is gone: put it back from a copy. Members go on running, and nobody can speak with their agents without it", fieldName(f), filepath.Join(f.own(), keyring.File))
		}
		c.Key = make([]byte, 32)
		_, err = rand.Read(c.Key)
	}
	if err != nil {
		return c, err
	}
	data, err := os.ReadFile(filepath.Join(f.own(), openAuthority))
	if errors.Is(err, fs.ErrNotExist) {
		_, data, err = identity.New()
	}
	if err != nil {
		return c, err
	}
	if _, err := identity.Parse(data); err != nil {
		return c, err
	}
	c.Authority = string(data)
	for _, name := range f.openRoots() {
		number, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(filepath.Base(name), "authority-"), ".key"))
		if err != nil {
			continue
		}
		if c.Roots[number], err = unhex(name, fmt.Sprintf("the key of authority %d", number)); err != nil {
			return c, err
		}
	}
	return c, nil
}

// removeOpen removes what an older version kept in the open, once the keyring has it. A file that says something else is left, and it is said.
func (f Folder) removeOpen(ring *keyring.Keyring) error {
	has := map[string][]byte{f.secret(): ring.Key(), filepath.Join(f.own(), openAuthority): []byte(ring.Authority())}
	for _, name := range f.openRoots() {
		number, _ := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(filepath.Base(name), "authority-"), ".key"))
		has[name] = ring.Root(number)
	}
	for name, held := range has {
		data, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		text, _ := hex.DecodeString(strings.TrimSpace(string(data)))
		if held == nil || !bytes.Equal(data, held) && !bytes.Equal(text, held) {
			slog.Warn("a key lies open that is not the one in the keyring; it is left and not used", "file", name)
			continue
		}
		if err := os.Remove(name); err != nil {
			return stateError(f.Dir, err)
		}
	}
	return nil
}

// makeWatch makes what the field is watched with while its keyring is sealed.
func (f Folder) makeWatch(authority *identity.Authority) error {
	if w, err := identity.OpenWatch(f.watch()); err == nil && !w.Outdated(authority) {
		return nil
	}
	text, err := authority.Watch()
	if err == nil {
		err = identity.WriteSynced(f.watch(), text)
	}
	if err != nil {
		return stateError(f.Dir, err)
	}
	return nil
}

// Seals is how a keyring is sealed.
type Seals struct {
	Passphrase string `json:"passphrase,omitempty"`
	Identity   string `json:"identity,omitempty"` // of the owner; see keyring.Parse
}

// Seal changes how the field's keyring is sealed.
func (c *Controller) Seal(_ context.Context, s Seals) error {
	if c.sealed != nil {
		return c.sealed
	}
	var err error
	if s.Passphrase != "" {
		err = c.ring.SealWith(s.Passphrase)
	} else {
		var id *age.X25519Identity
		if id, err = keyring.Parse(s.Identity); err == nil {
			err = c.ring.SealFor(id)
		}
	}
	if err == nil {
		c.copyAnew()
	}
	return err
}

// unseal takes what opens the keyring, and gives what has the keeper begin anew with it.
func (c *Controller) unseal(text string) (begin func(), err error) {
	if c.sealed == nil {
		return func() {}, nil
	}
	id, err := keyring.Parse(text)
	if err != nil {
		return nil, err
	}
	if _, err := keyring.Open(c.folder.own(), fieldName(c.folder), id); err != nil {
		return nil, err
	}
	return func() {
		select {
		case c.door.unsealed <- id:
		default: // somebody has just done so
		}
	}, nil
}

// Unsealed hears what opens the keyring: whoever keeps the field begins anew with it.
func (c *Controller) Unsealed() <-chan *age.X25519Identity { return c.door.unsealed }

// Sealed says why the keyring is not open; nil where it is.
func (c *Controller) Sealed() error {
	if c.sealed == nil {
		return nil
	}
	return c.sealed
}

// Unseal has who keeps a field open its keyring, having asked a person where a passphrase opens it. It returns when that is done, or where the keyring was open.
func Unseal(ctx context.Context, f Folder) error {
	f, err := f.Unsealed()
	if err != nil {
		return err
	}
	ids := []*age.X25519Identity{f.Identity}
	if f.Identity == nil {
		name, err := keyring.OwnerFile()
		if err != nil {
			return err
		}
		if ids, err = keyring.Owner(name); err != nil {
			return err
		}
	}
	r, err := dial(ctx, f)
	if err != nil {
		return ErrNobody
	}
	defer r.Close()
	for _, id := range ids {
		if _, err := keyring.Open(f.own(), fieldName(f), id); err == nil {
			return r.call(ctx, http.MethodPost, "/v1/unseal", id.String(), &struct{}{})
		}
	}
	return nil
}

package keyring

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"

	"lanternfield/internal/identity"
)

// OwnerVariable names the file with the owner's key, where it is not at its usual place.
const OwnerVariable = "LANTERNFIELD_OWNER_KEY"

// OwnerFile is the file with the owner's key: what the variable names, else below the folder of configuration.
func OwnerFile() (string, error) {
	if name := os.Getenv(OwnerVariable); name != "" {
		return filepath.Abs(name)
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for the owner's key: %w; name a file with %s", err, OwnerVariable)
	}
	return filepath.Join(dir, "lanternfield", "owner.key"), nil
}

// Owner reads the identities in the owner's key file, in the form of age-keygen; none where it is not there. A file that others can read is refused.
func Owner(name string) ([]*age.X25519Identity, error) {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the owner's key %s cannot be read: %w", name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("the owner's key %s is no file", name)
	case info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("others can read the owner's key %s (mode %04o): chmod 600 it, and make another if somebody may have", name, info.Mode().Perm())
	}
	data, err := io.ReadAll(io.LimitReader(f, 64<<10))
	if err != nil {
		return nil, err
	}
	return parse(string(data), "the owner's key "+name)
}

// parse reads identities, one a line; none of them is named in an error.
func parse(text, what string) ([]*age.X25519Identity, error) {
	var ids []*age.X25519Identity
	for i, line := range strings.Split(text, "\n") {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		id, err := age.ParseX25519Identity(line)
		if err != nil {
			return nil, fmt.Errorf("%s: line %d is not an age identity (AGE-SECRET-KEY-1…)", what, i+1)
		}
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return nil, fmt.Errorf("%s: there is no age identity (AGE-SECRET-KEY-1…) in it", what)
	}
	return ids, nil
}

// Parse reads an identity that was handed over.
func Parse(text string) (*age.X25519Identity, error) {
	ids, err := parse(text, "the identity")
	if err != nil {
		return nil, err
	}
	return ids[0], nil
}

// MakeOwner makes the owner's key, where there is none. Two who do so at once get the same.
func MakeOwner(name string) (*age.X25519Identity, error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, fmt.Errorf("the owner's key cannot be made: %w; name a file with %s", err, OwnerVariable)
	}
	text := fmt.Sprintf("# Opens the keyrings of your fields. Whoever has it can read all their secrets; without it nobody can. Keep a copy elsewhere.\n# public key: %s\n%s\n", id.Recipient(), id)
	own := name + "." + id.Recipient().String()[len("age1"):][:16]
	if err := identity.WriteSynced(own, []byte(text)); err != nil {
		return nil, fmt.Errorf("the owner's key cannot be made: %w; name a file with %s", err, OwnerVariable)
	}
	err = os.Link(own, name)
	if err = errors.Join(ignoring(err, fs.ErrExist), os.Remove(own)); err != nil {
		return nil, fmt.Errorf("the owner's key cannot be made: %w", err)
	}
	ids, err := Owner(name)
	if err == nil && len(ids) == 0 {
		err = fmt.Errorf("the owner's key %s was taken away", name)
	}
	if err != nil {
		return nil, err
	}
	return ids[0], nil
}

func ignoring(err, what error) error {
	if errors.Is(err, what) {
		return nil
	}
	return err
}

// encrypted is an identity that a passphrase opens (scrypt), as an age file.
func encrypted(id *age.X25519Identity, passphrase string) ([]byte, error) {
	to, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	text := armor.NewWriter(&out)
	sealing, err := age.Encrypt(text, to)
	if err == nil {
		_, err = io.WriteString(sealing, id.String()+"\n")
		err = errors.Join(err, sealing.Close(), text.Close())
	}
	return out.Bytes(), err
}

// ErrPassphrase says that a passphrase is not the one.
var ErrPassphrase = errors.New("that is not the passphrase")

// WithPassphrase gives the identity that a passphrase opens; ErrPassphrase where it is another.
func WithPassphrase(dir, passphrase string) (*age.X25519Identity, error) {
	name := filepath.Join(dir, PassphraseFile)
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	id, err := Opened(string(data), passphrase)
	if err != nil && !errors.Is(err, ErrPassphrase) {
		err = fmt.Errorf("%s: %w", name, err)
	}
	return id, err
}

// Opened gives the identity in an age file that a passphrase opens; ErrPassphrase where it is another.
func Opened(text, passphrase string) (*age.X25519Identity, error) {
	with, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, ErrPassphrase // an empty one is none
	}
	plain, err := age.Decrypt(armor.NewReader(strings.NewReader(text)), with)
	var no *age.NoIdentityMatchError
	if errors.As(err, &no) {
		return nil, ErrPassphrase
	}
	if err != nil {
		return nil, fmt.Errorf("it is damaged (%w): put it back from a copy", err)
	}
	opened, err := io.ReadAll(plain)
	if err != nil {
		return nil, err
	}
	return Parse(string(opened))
}

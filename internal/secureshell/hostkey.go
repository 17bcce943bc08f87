package secureshell

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"lanternfield/internal/identity"
)

// HostKey is a key by which a host shows that it is itself.
type HostKey struct {
	Address string // of its SSH server, as files of host keys write it
	Type    string // e.g. ssh-ed25519
	Print   string // its fingerprint: SHA256:…
	line    string // of a file of host keys
}

// Believe notes in a file that a host has that key, beside what the file has already.
func (k HostKey) Believe(file string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(f, k.line)
	return errors.Join(err, f.Sync(), f.Close())
}

// Forget takes out of a file what it says of a host, in whatever form the name stands there.
func Forget(file, address string) error {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var kept bytes.Buffer
	name := knownhosts.Normalize(address)
	for line := range strings.Lines(string(data)) {
		if names, _, _ := strings.Cut(line, " "); !slices.Contains(strings.Split(names, ","), name) {
			kept.WriteString(line)
		}
	}
	return identity.WriteSynced(file, kept.Bytes())
}

// checker knows host keys from files, and says of which types they are, so that a host is asked for one of those.
type checker struct {
	target *Target
	check  ssh.HostKeyCallback
	types  []string
}

func newChecker(t *Target) (*checker, error) {
	var files []string
	for _, f := range t.Known {
		if _, err := os.Stat(f); err == nil {
			files = append(files, f)
		}
	}
	check, err := knownhosts.New(files...)
	if err != nil {
		return nil, &Fault{Kind: Config, Host: t.String(), Why: "cannot be checked: a file of host keys cannot be read: " + err.Error(), Do: "correct that line"}
	}
	c := &checker{target: t, check: check}
	var known *knownhosts.KeyError
	if errors.As(check(t.Address(), &net.TCPAddr{}, nobody{}), &known) {
		for _, k := range known.Want {
			c.types = append(c.types, algorithms(k.Key.Type())...)
		}
	}
	return c, nil
}

// algorithms are those by which a key of that type may sign.
func algorithms(keyType string) []string {
	if keyType == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{keyType}
}

// nobody is a key that no host has: asking for it tells which are known.
type nobody struct{}

func (nobody) Type() string                        { return "nobody" }
func (nobody) Marshal() []byte                     { return []byte("nobody") }
func (nobody) Verify([]byte, *ssh.Signature) error { return errors.New("nobody has this key") }

// callback checks the key that a host shows.
func (c *checker) callback(address string, remote net.Addr, key ssh.PublicKey) error {
	err := c.check(address, remote, key)
	if err == nil {
		return nil
	}
	shown := &HostKey{Address: knownhosts.Normalize(address), Type: key.Type(), Print: ssh.FingerprintSHA256(key),
		line: knownhosts.Line([]string{address}, key)}
	var known *knownhosts.KeyError
	var revoked *knownhosts.RevokedError
	switch {
	case errors.As(err, &revoked):
		return &Fault{Kind: ChangedKey, Host: c.target.String(), Key: shown,
			Why: fmt.Sprintf("shows a key that was revoked in %s, line %d (%s)", revoked.Revoked.Filename, revoked.Revoked.Line, shown.Print),
			Do:  "nothing was sent to it; somebody may be standing in between"}
	case errors.As(err, &known) && len(known.Want) == 0:
		return &Fault{Kind: UnknownKey, Host: c.target.String(), Key: shown, Why: fmt.Sprintf("shows a host key that nobody has confirmed yet: %s %s", shown.Type, shown.Print),
			Do: "compare it with what `ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub` says on that host, then `lanternfield nodes accept`, or y in the view of nodes"}
	case errors.As(err, &known):
		was := known.Want[0]
		return &Fault{Kind: ChangedKey, Host: c.target.String(), Key: shown,
			Why: fmt.Sprintf("shows another host key than before: %s %s; %s, line %d, has %s", shown.Type, shown.Print, was.Filename, was.Line, ssh.FingerprintSHA256(was.Key)),
			Do:  "either the host was installed anew, or somebody stands in between and reads along. Nothing was sent to it. Ask who runs the host; if it was installed anew, `lanternfield nodes accept --changed` with its name"}
	}
	return err
}

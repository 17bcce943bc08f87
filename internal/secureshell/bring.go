package secureshell

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Public gives the public key that a host is logged in to with, as files of keys write it: that of the first of its files that is there.
func (t *Target) Public() (string, error) {
	for _, file := range t.Keys {
		data, err := os.ReadFile(file + ".pub")
		if err == nil {
			if _, _, _, _, err := ssh.ParseAuthorizedKey(data); err != nil {
				return "", fmt.Errorf("%s.pub is no public key: %w", file, err)
			}
			return strings.TrimSpace(string(data)), nil
		}
		if data, err = os.ReadFile(file); errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return "", err
		}
		signer, err := ssh.ParsePrivateKey(data)
		if err != nil {
			return "", fmt.Errorf("the public key of %s cannot be told: %w; put it beside it, as %s.pub", file, err, file)
		}
		return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), nil
	}
	return "", errors.New("there is no key that could be brought; make one with ssh-keygen, or say `key:` in the field file")
}

// bringScript adds a public key to those that let a user in, unless it is there; it says so where it has. The other takes it away, and nothing else.
const (
	bringScript = `umask 077; mkdir -p "$HOME/.ssh" && touch "$HOME/.ssh/authorized_keys" && { grep -qxF "$1" "$HOME/.ssh/authorized_keys" || ` +
		`{ [ -z "$(tail -c1 "$HOME/.ssh/authorized_keys")" ] || echo >>"$HOME/.ssh/authorized_keys"; printf '%s\n' "$1" >>"$HOME/.ssh/authorized_keys" && echo added; }; }`
	takeBackScript = `umask 077; f="$HOME/.ssh/authorized_keys"; if [ -f "$f" ]; then t="$f.$$"; grep -vxF "$1" "$f" >"$t"; [ $? -le 1 ] && cat "$t" >"$f"; r=$?; rm -f "$t"; exit $r; fi`
)

// Fingerprint is by what people know a public key.
func Fingerprint(public string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(public))
	if err != nil {
		return "that cannot be read"
	}
	return ssh.FingerprintSHA256(key)
}

// TakeKeyBack takes a public key away from those that let the user in as whom a host is logged in to. Connections that are open go on.
func (c *Conn) TakeKeyBack(ctx context.Context, public string) error {
	_, err := c.Run(ctx, nil, takeBackScript, public)
	return err
}

// BringKey logs in with a password, adds the public key, and logs in with the key to see that it works. It gives the key where it was not there before.
func BringKey(ctx context.Context, t *Target, password string) (added string, err error) {
	public, err := t.Public()
	if err != nil {
		return "", err
	}
	with := *t
	with.Password = password
	c, err := Dial(ctx, &with, false)
	if err != nil {
		var f *Fault
		if errors.As(err, &f) && f.Kind == Login {
			f.Why, f.Do = "does not take this password of "+t.User, "is it right, and does the host take passwords (PasswordAuthentication)?"
		}
		return "", err
	}
	defer c.Close()
	said, err := c.Run(ctx, nil, bringScript, public)
	if err != nil {
		return "", err
	}
	if strings.TrimSpace(said) == "added" {
		added = public
	}
	again, err := Dial(ctx, t, false)
	if err != nil {
		return added, fmt.Errorf("the key was brought, and does not let us in all the same: %w", err)
	}
	again.Close()
	return added, nil
}

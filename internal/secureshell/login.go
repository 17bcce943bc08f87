package secureshell

import (
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// keyring is what there is to log in with: keys of files, then those of the SSH agent.
type keyring struct {
	signers []ssh.Signer
	tried   []string // in words, for who was refused
	agent   net.Conn
}

func (k *keyring) close() {
	if k.agent != nil {
		k.agent.Close()
	}
}

// keyringOf gathers what there is to log in with to a host.
func keyringOf(t *Target) *keyring {
	k := &keyring{}
	var locked [][]byte // public keys of files that have a passphrase: the SSH agent may have them
	for _, file := range t.Keys {
		data, err := os.ReadFile(file)
		if err != nil {
			if !errors.Is(err, os.ErrNotExist) {
				k.tried = append(k.tried, fmt.Sprintf("%s cannot be read (%v)", file, err))
			}
			continue
		}
		signer, err := ssh.ParsePrivateKey(data)
		var needs *ssh.PassphraseMissingError
		switch {
		case errors.As(err, &needs):
			if needs.PublicKey != nil {
				locked = append(locked, needs.PublicKey.Marshal())
			}
			k.tried = append(k.tried, file+" has a passphrase, and so counts only if the SSH agent has it (ssh-add)")
		case err != nil:
			k.tried = append(k.tried, fmt.Sprintf("%s is no private key (%v)", file, err))
		default:
			k.signers = append(k.signers, signer)
			k.tried = append(k.tried, fmt.Sprintf("the key in %s (%s)", file, ssh.FingerprintSHA256(signer.PublicKey())))
		}
	}
	k.fromAgent(t, locked)
	return k
}

// fromAgent adds the keys of the SSH agent; only those of files, where that is wanted.
func (k *keyring) fromAgent(t *Target, locked [][]byte) {
	at := os.Getenv("SSH_AUTH_SOCK")
	if at == "" {
		return
	}
	conn, err := net.Dial("unix", at)
	if err != nil {
		k.tried = append(k.tried, "the SSH agent does not answer ("+err.Error()+")")
		return
	}
	k.agent = conn
	signers, err := agent.NewClient(conn).Signers()
	if err != nil {
		k.tried = append(k.tried, "the SSH agent gives no keys ("+err.Error()+")")
		return
	}
	for _, s := range signers {
		public := s.PublicKey().Marshal()
		same := func(other []byte) bool { return string(other) == string(public) }
		if t.Only && !slices.ContainsFunc(locked, same) || slices.ContainsFunc(k.signers, func(o ssh.Signer) bool { return same(o.PublicKey().Marshal()) }) {
			continue
		}
		k.signers = append(k.signers, s)
		k.tried = append(k.tried, "the SSH agent's key "+ssh.FingerprintSHA256(s.PublicKey()))
	}
}

// refused says why a login was not taken.
func (k *keyring) refused(t *Target, err error) *Fault {
	if len(k.signers) == 0 {
		why := "there is no key to log in with"
		if len(k.tried) > 0 {
			why += ": " + strings.Join(k.tried, "; ")
		}
		return &Fault{Kind: Login, Host: t.String(), Why: "cannot be logged in to: " + why, Do: "say `key:` in the field file, or add one to the SSH agent"}
	}
	return &Fault{Kind: Login, Host: t.String(), Why: "does not let " + t.User + " in; it was offered " + strings.Join(k.tried, "; "),
		Do: "put the public key into ~/.ssh/authorized_keys of " + t.User + " there, or say another `user:` or `key:`"}
}

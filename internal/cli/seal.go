package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"lanternfield/internal/control"
	"lanternfield/internal/keyring"
)

// hidden asks on the terminal for something that is not shown as it is typed.
func (a *app) hidden(question string) (string, error) {
	if !isTerminal(a.in) {
		return "", errors.New("there is no terminal to ask on")
	}
	state, err := term.GetState(a.in.Fd())
	if err != nil {
		return "", err
	}
	interrupted, done := make(chan os.Signal, 1), make(chan struct{})
	signal.Notify(interrupted, os.Interrupt, unix.SIGTERM)
	defer func() { signal.Stop(interrupted); close(done) }()
	go func() { // reading cannot be interrupted
		select {
		case <-interrupted:
			_ = term.Restore(a.in.Fd(), state)
			fmt.Fprintln(a.err)
			os.Exit(130)
		case <-done:
		}
	}()
	fmt.Fprint(a.err, question)
	text, err := term.ReadPassword(a.in.Fd())
	fmt.Fprintln(a.err)
	return string(text), err
}

func (a *app) trustUnsealCommand() *cobra.Command {
	from := ""
	cmd := &cobra.Command{Use: "unseal [FILE]", Short: "Open the keyring for whoever keeps the field now",
		Long: "A keeper that has not been given what opens the keyring only watches: what runs goes on, and nothing is ordered. The passphrase is asked for on the terminal,\n" +
			"or read from a file or standard input. Where the owner's key opens the keyring, that is looked for again.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if from != "" {
				said, err := a.readSecret(from)
				if err != nil {
					return err
				}
				asked := false
				folder.Passphrase = func(string) (string, error) {
					if asked {
						return "", keyring.ErrPassphrase
					}
					asked = true
					return said, nil
				}
			}
			session, err := a.attach(cmd.Context(), cmd, folder)
			if err != nil {
				return err
			}
			defer session.Close()
			snap, err := session.Snapshot(cmd.Context())
			if err != nil {
				return err
			}
			if snap.Keeper != nil && snap.Keeper.Sealed != "" {
				return errors.New(snap.Keeper.Sealed)
			}
			fmt.Fprintf(a.out, "The keyring of %s is open to whoever keeps it now, until that ends.\n", folder.Name())
			return nil
		}}
	cmd.Flags().StringVar(&from, "passphrase-file", "", "the file with the passphrase; - for standard input")
	return cmd
}

// mostSecret is how long a secret may be, in bytes.
const mostSecret = 64 << 10

// readSecret reads a secret from a file, or from standard input; one line break at its end is none of it.
func (a *app) readSecret(from string) (string, error) {
	in := a.in
	if from != "-" {
		f, err := os.Open(from)
		if err != nil {
			return "", err
		}
		defer f.Close()
		in = f
	}
	data, err := io.ReadAll(io.LimitReader(in, mostSecret+1))
	if err != nil {
		return "", err
	}
	if len(data) > mostSecret {
		return "", fmt.Errorf("%s is longer than %d KiB, which no secret may be", from, mostSecret>>10)
	}
	return strings.TrimSuffix(string(bytes.TrimSuffix(data, []byte("\n"))), "\r"), nil
}

// leastPassphrase is how long a passphrase must be.
const leastPassphrase = 8

func (a *app) trustSealCommand() *cobra.Command {
	passphrase, from, owner := false, "", ""
	cmd := &cobra.Command{Use: "seal [FILE] --passphrase | --owner-key KEYFILE", Short: "Say what opens the keyring from now on: a passphrase, or the owner's key",
		Long: "The keyring holds all that is secret of a field. With the owner's key (LANTERNFIELD_OWNER_KEY, else ~/.config/lanternfield/owner.key) whoever keeps the field opens\n" +
			"it by itself. With a passphrase every keeper asks for it once, and only watches until then.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if (passphrase || from != "") == (owner != "") {
				return errors.New("say what is to open the keyring: --passphrase, or --owner-key with a file (age-keygen makes one, and the first deploy has made " + ownerFile() + ")")
			}
			seals := control.Seals{}
			switch {
			case from != "":
				seals.Passphrase, err = a.readSecret(from)
			case passphrase:
				seals.Passphrase, err = a.newSecret("The new passphrase: ")
			default:
				ids, failed := keyring.Owner(owner)
				if err = failed; err == nil && len(ids) == 0 {
					err = fmt.Errorf("there is no %s", owner)
				}
				if err == nil {
					seals.Identity = ids[0].String()
				}
			}
			if err != nil {
				return err
			}
			if n := len(seals.Passphrase); owner == "" && n < leastPassphrase {
				return fmt.Errorf("a passphrase must have at least %d characters, and that one has %d; nothing has been changed", leastPassphrase, n)
			}
			session, _, err := a.openDeployed(cmd.Context(), cmd, folder, "trust")
			if err != nil {
				return err
			}
			defer session.Close()
			if err := session.Seal(cmd.Context(), seals); err != nil {
				return err
			}
			if owner != "" {
				fmt.Fprintf(a.out, "The keyring of %s is sealed for the key in %s. Whoever loses that loses the field's secrets: keep a copy elsewhere.\n", folder.Name(), owner)
			} else {
				fmt.Fprintf(a.out, "The keyring of %s is sealed with the passphrase. Nobody can open it without: write it down in a safe place.\n", folder.Name())
			}
			return nil
		}}
	cmd.Flags().BoolVar(&passphrase, "passphrase", false, "a passphrase, asked for on the terminal")
	cmd.Flags().StringVar(&from, "passphrase-file", "", "a passphrase, in a file; - for standard input")
	cmd.Flags().StringVar(&owner, "owner-key", "", "the file with the owner's key, an age identity")
	return cmd
}

func ownerFile() string {
	name, err := keyring.OwnerFile()
	if err != nil {
		return "none"
	}
	return name
}

// newSecret asks for something new, twice.
func (a *app) newSecret(question string) (string, error) {
	first, err := a.hidden(question)
	if err != nil {
		return "", err
	}
	second, err := a.hidden("Once more: ")
	if err == nil && first != second {
		err = errors.New("the two are not the same; nothing has been changed")
	}
	return first, err
}

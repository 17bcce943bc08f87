package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
)

// printOutside lists the certificates from outside.
func (a *app) printOutside(t *snapshot.Trust) {
	if len(t.Outside) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "from outside\tshown by\tuntil\tissued by\tnames")
	for _, o := range t.Outside {
		var shown []string
		for _, s := range o.Shown {
			shown = append(shown, string(s.Member)+" "+servedMark(&s.Served))
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", o.Role, strings.Join(shown, ", "), o.Until.Local().Format(day), o.Issuer, strings.Join(o.Names, ", "))
	}
	w.Flush()
}

// outsideRole opens a field and gives the role that a command is about, with what else was said.
func (a *app) outsideRole(cmd *cobra.Command, args []string) (control.Session, field.RoleName, []string, error) {
	folder, _, rest, err := a.folder(args)
	if err != nil {
		return nil, "", nil, err
	}
	if len(rest) == 0 {
		return nil, "", nil, errors.New("say which role: the entry that clients reach by its names")
	}
	session, _, err := a.openDeployed(cmd.Context(), cmd, folder, "trust")
	return session, field.RoleName(rest[0]), rest[1:], err
}

func (a *app) trustRequestCommand() *cobra.Command {
	out, anew := "", false
	cmd := &cobra.Command{Use: "request [FILE] ROLE [-o OUT.csr]", Short: "Make a signing request, for a certificate from outside for the names of an entry",
		Long: "Its key is made here and stays in the keyring; hand the request to whoever issues certificates that your clients believe. It is for the names of the role.\n" +
			"Asking again is for the same key, unless --anew is said. trust install takes what comes back.",
		RunE: func(cmd *cobra.Command, args []string) error {
			session, role, rest, err := a.outsideRole(cmd, args)
			if err != nil {
				return err
			}
			defer session.Close()
			if err := a.noRest(rest); err != nil {
				return err
			}
			answer, err := session.Outside(cmd.Context(), control.OutsideAsked{What: "request", Role: role, Anew: anew, By: by(cmd)})
			if err != nil {
				return err
			}
			if out == "" {
				_, err = fmt.Fprint(a.out, answer.Request)
				return err
			}
			if err := control.WriteNew(out, []byte(answer.Request), 0o644); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s asks for a certificate for %s. Its key stays in the keyring. With what comes back: lanternfield trust install %s CHAIN.pem\n", out, strings.Join(answer.Names, ", "), role)
			return nil
		}}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; standard output when left out")
	cmd.Flags().BoolVar(&anew, "anew", false, "for a new key")
	return cmd
}

func (a *app) trustInstallCommand() *cobra.Command {
	var timeout time.Duration
	key, remove := "", false
	cmd := &cobra.Command{Use: "install [FILE] ROLE CHAIN.pem [--key KEY.pem] | --remove", Short: "Have an entry show a certificate from outside to those who reach it by its names",
		Long: "CHAIN.pem has the certificate first, then each that vouches for the one before. Its key is the one that was asked for with trust request, or in the file that\n" +
			"--key names; it is kept in the keyring. Order, key, names, dates and purpose are checked first. Who reaches the entry by an address is shown the field's own.",
		RunE: func(cmd *cobra.Command, args []string) error {
			session, role, rest, err := a.outsideRole(cmd, args)
			if err != nil {
				return err
			}
			defer session.Close()
			ask := control.OutsideAsked{What: "install", Role: role, By: by(cmd), Review: true}
			switch {
			case remove:
				ask.What = "remove"
				err = a.noRest(rest)
			case len(rest) != 1:
				err = errors.New("say the file that has the certificate, with those that vouch for it")
			default:
				ask.Chain, err = readPEM(rest[0])
			}
			if err == nil && key != "" {
				ask.Key, err = readPEM(key)
			}
			if err != nil {
				return err
			}
			answer, err := session.Outside(cmd.Context(), ask)
			if err != nil {
				return err
			}
			question := fmt.Sprintf("Have %s show its certificate from outside no longer?", role)
			if o := answer.Outside; o != nil {
				fmt.Fprintf(a.out, "It is for %s, issued by %s, valid until %s.\n", strings.Join(o.Names, ", "), o.Issuer, o.Until.Local().Format(day))
				question = fmt.Sprintf("Have %s show it?", role)
			}
			a.printReviewed(answer.Review, "That means, in this order:")
			if err := a.confirm(question); err != nil {
				return err
			}
			ask.Review = false
			if _, err := session.Outside(cmd.Context(), ask); err != nil {
				return err
			}
			return a.awaitOutside(cmd.Context(), session, role, timeout)
		}}
	cmd.Flags().StringVar(&key, "key", "", "the file that has the private key")
	cmd.Flags().BoolVar(&remove, "remove", false, "show the field's own certificate again")
	a.actFlags(cmd, &timeout)
	return cmd
}

// mostPEM is how long a file with certificates may be, in bytes.
const mostPEM = 256 << 10

func readPEM(name string) (string, error) {
	info, err := os.Stat(name)
	if err == nil && info.Size() > mostPEM {
		err = fmt.Errorf("%s is longer than %d KiB, which no chain of certificates is", name, mostPEM>>10)
	}
	if err != nil {
		return "", err
	}
	data, err := os.ReadFile(name)
	return string(data), err
}

// awaitOutside waits until all members of a role show what they are to.
func (a *app) awaitOutside(ctx context.Context, session control.Session, role field.RoleName, timeout time.Duration) error {
	began, after := time.Now(), time.After(timeout)
	for looks := 0; ; looks++ {
		t, err := session.Trust(ctx)
		if err != nil {
			return err
		}
		snap, err := session.Snapshot(ctx)
		if err != nil {
			return err
		}
		waits, shows := "", false
		for _, o := range t.Outside {
			for _, s := range o.Shown {
				if shows = shows || o.Role == role; o.Role == role && !s.Same && !s.Silent {
					waits = fmt.Sprintf("%s does not show it on port %s (%d) %s", s.Member, s.Port, s.Number, s.Why)
				}
			}
		}
		if waits == "" && snap.State == snapshot.Converged && looks > 0 { // what was asked for has been begun by then
			word := "shows its own certificate to everybody"
			if shows {
				word = "shows it to those who reach it by its names"
			}
			fmt.Fprintf(a.out, "%s %s, after %s.\n", role, word, field.Span(time.Since(began)))
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-after:
			fmt.Fprintf(a.err, "Not done after %s: %s. It goes on; `lanternfield trust` tells how far it is.\n", field.Span(timeout), strings.TrimSpace(waits+" "+snap.Verdict))
			return errBadAnswer
		case <-time.After(trustEvery):
		}
	}
}

package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/wording"
)

func (a *app) trustCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "trust [FILE] [MEMBER|ROLE|NODE …]", Short: "List the members' certificates, with those that they show; renew, revoke, replace the authority",
		Long: "Members have certificates by an authority of the field's own, which no agent and no controller accepts. Every member is asked which certificate it shows;\n" +
			"one that is not the one that was issued last, or that nobody would believe, is an error, and the exit status is 1.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, what, err := a.folder(args)
			if err != nil {
				return err
			}
			session, snap, err := a.openDeployed(cmd.Context(), cmd, folder, "trust")
			if err != nil {
				return err
			}
			defer session.Close()
			if err := known(snap, what); err != nil {
				return err
			}
			t, err := session.Trust(cmd.Context())
			if err != nil {
				return err
			}
			t.Certificates = slices.DeleteFunc(t.Certificates, func(c snapshot.Certificate) bool { return !among(snap, c.Member, what) })
			return a.printTrust(t)
		}}
	a.jsonFlag(cmd)
	cmd.AddCommand(a.trustRenewCommand(), a.trustRotateCommand(), a.trustRevokeCommand(), a.trustAuthorityCommand(), a.trustRequestCommand(), a.trustInstallCommand(), a.trustChangeCommand(), a.trustSealCommand(), a.trustUnsealCommand())
	return cmd
}

// among tells whether words name a member: itself, its role, or its node. Without words, everybody is meant.
func among(snap *snapshot.Snapshot, name field.MemberName, what []string) bool {
	return len(what) == 0 || slices.ContainsFunc(snap.Members, func(m snapshot.MemberView) bool {
		return m.Member == name && (slices.Contains(what, string(m.Member)) || slices.Contains(what, string(m.Role)) || slices.Contains(what, string(m.Node)))
	})
}

const day = "2 Jan 2006"

// printTrust prints certificates, and what is wrong with them.
func (a *app) printTrust(t *snapshot.Trust) error {
	wrong := t.Wrong()
	if a.json {
		a.printJSON(struct {
			*snapshot.Trust
			Wrong []string `json:"wrong,omitempty"`
		}{t, wrong})
	} else {
		a.printCertificates(t, wrong)
	}
	if len(wrong) > 0 {
		return errBadAnswer
	}
	return nil
}

func (a *app) printCertificates(t *snapshot.Trust, wrong []string) {
	if len(t.Authorities) == 0 {
		fmt.Fprintf(a.out, "No member of %s has a certificate.\n", t.Field)
	}
	for i, x := range t.Authorities {
		text := "issues the members' certificates"
		if i < len(t.Authorities)-1 {
			text = "still counts; it is being replaced"
		}
		fmt.Fprintf(a.out, "Authority %d of %s %s, until %s.\n", x.Number, t.Field, text, x.Until.Local().Format(day))
	}
	if len(t.Certificates) > 0 {
		fmt.Fprintln(a.out)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "member\tserves\tuntil\trenewed\tnames")
		for _, c := range t.Certificates {
			var ports []string
			for _, s := range c.Served {
				ports = append(ports, servedMark(s))
			}
			serves := strings.Join(ports, ", ")
			if serves == "" {
				serves = "-"
			}
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", c.Member, serves, c.Of.Issue.Until.Local().Format(day), c.Renews.Local().Format(day), strings.Join(c.Of.Names, ", "))
		}
		w.Flush()
	}
	if len(t.Plain) > 0 {
		names := make([]string, len(t.Plain))
		for i, r := range t.Plain {
			names[i] = string(r)
		}
		fmt.Fprintf(a.out, "\nIn the clear: %s. The program could speak TLS: say tls: on.\n", wording.And(names))
	}
	for i, c := range t.Clients {
		if i == 0 {
			fmt.Fprintln(a.out)
		}
		left := "until " + c.Until.Local().Format(day)
		switch {
		case t.At.After(c.Until):
			left = "which has run out; give them another with lanternfield access " + string(c.Role) + " --write DIR"
		case c.Before:
			left += ", by the authority before; give them another with lanternfield access " + string(c.Role) + " --write DIR"
		}
		fmt.Fprintf(a.out, "Clients of %s were given a certificate, %s.\n", c.Role, left)
	}
	a.printOutside(t)
	a.printSecrets(t)
	a.printAgents(t)
	for i, text := range wrong {
		if i == 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintln(a.out, "x "+text)
	}
}

// servedMark says what came of asking for a certificate on a port.
func servedMark(s *snapshot.Served) string {
	mark := "ok"
	switch {
	case s.Silent:
		mark = "silent"
	case !s.Same:
		mark = "wrong"
	}
	return fmt.Sprintf("%s=%d %s", s.Port, s.Number, mark)
}

func (a *app) trustRenewCommand() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: "renew [FILE] [MEMBER|ROLE|NODE …]", Short: "Give members new certificates now, one member of a role after the other",
		Long: "Certificates are renewed by themselves when a third of their time is left, while somebody keeps the field. Programs that can, read the new one while they\n" +
			"run; the others are restarted one by one.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.changeTrust(cmd, args, timeout, "renew", func(t *snapshot.Trust, what []string) string {
				whom := "all members"
				if len(what) > 0 {
					whom = strings.Join(what, ", ")
				}
				return fmt.Sprintf("Give %s of %s new certificates? %s", whom, t.Field, effectOf(t))
			})
		}}
	a.actFlags(cmd, &timeout)
	return cmd
}

func (a *app) trustRotateCommand() *cobra.Command {
	var timeout time.Duration
	finish, agents := false, false
	cmd := &cobra.Command{Use: "rotate [FILE] [--agents] [--finish]", Short: "Have another authority take the place of the one that issues members' certificates, or agents'",
		Long: "It goes in two phases, and clients are served all the time. First another authority is made: members get certificates from it, and believe both. Clients\n" +
			"that know only the one before go on too, since it vouches for the new one. Give them the new one (trust authority); then --finish withdraws the one before.\n\n" +
			"--agents: of the authority of agents and controllers instead. The one before is withdrawn by itself as soon as every agent has a certificate by the new one.\n" +
			"Where some cannot be reached, --agents --finish goes on without them; on hosts they are replaced when they are back.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if agents {
				folder, _, rest, err := a.folder(args)
				if err == nil {
					err = a.noRest(rest)
				}
				if err != nil {
					return err
				}
				return a.rotateAgents(cmd, folder, finish, timeout)
			}
			what := "rotate"
			question := func(t *snapshot.Trust, _ []string) string {
				return fmt.Sprintf("Have another authority issue the certificates of %s? %s", t.Field, effectOf(t))
			}
			if finish {
				what = "finish rotating"
				question = func(t *snapshot.Trust, _ []string) string {
					return fmt.Sprintf("Withdraw the authority before? Clients that know only that one are not served any more. %s", effectOf(t))
				}
			}
			return a.changeTrust(cmd, args, timeout, what, question)
		}}
	cmd.Flags().BoolVar(&agents, "agents", false, "of agents and controllers, instead of members")
	cmd.Flags().BoolVar(&finish, "finish", false, "withdraw the authority before: the second phase")
	a.actFlags(cmd, &timeout)
	return cmd
}

// effectOf says what new certificates lead to.
func effectOf(t *snapshot.Trust) string {
	n := len(t.Certificates)
	return fmt.Sprintf("%s read them while they run, or are restarted one by one.", wording.Counted(n, "member"))
}

// changeTrust carries out a change of certificates, and waits until all members run with what it comes to.
func (a *app) changeTrust(cmd *cobra.Command, args []string, timeout time.Duration, what string, question func(*snapshot.Trust, []string) string) error {
	folder, _, names, err := a.folder(args)
	if err != nil {
		return err
	}
	if what != "renew" {
		if err := a.noRest(names); err != nil {
			return err
		}
	}
	session, snap, err := a.openDeployed(cmd.Context(), cmd, folder, strings.Fields(what)[0])
	if err != nil {
		return err
	}
	defer session.Close()
	if err := known(snap, names); err != nil {
		return err
	}
	t, err := session.Trust(cmd.Context())
	if err != nil {
		return err
	}
	if err := a.confirm(question(t, names)); err != nil {
		return err
	}
	if err := session.Do(cmd.Context(), control.Request{What: what, Names: names, By: by(cmd)}); err != nil {
		return err
	}
	return a.awaitTrust(cmd.Context(), session, timeout)
}

// trustEvery is how often it is looked how far a change of certificates is.
const trustEvery = 500 * time.Millisecond

// awaitTrust waits until every member runs with its newest certificate and shows it.
func (a *app) awaitTrust(ctx context.Context, session control.Session, timeout time.Duration) error {
	began := time.Now()
	after := time.After(timeout)
	said := ""
	for {
		t, err := session.Trust(ctx)
		if err != nil {
			return err
		}
		waits := t.Waiting()
		snap, err := session.Snapshot(ctx)
		if err != nil {
			return err
		}
		if len(waits) == 0 && snap.State == snapshot.Converged {
			if a.json {
				return a.printTrust(t)
			}
			fmt.Fprintf(a.out, "%s show what was issued last, after %s.\n", wording.Counted(len(t.Certificates), "member"), field.Span(time.Since(began)))
			if len(t.Authorities) > 1 {
				fmt.Fprintf(a.out, "Authorities %d and %d count. Give clients the new one (`lanternfield trust authority`), then `lanternfield trust rotate --finish` withdraws the one before.\n",
					t.Authorities[0].Number, t.Authorities[1].Number)
			}
			return nil
		}
		if text := fmt.Sprintf("%d of %d show theirs; %s", len(t.Certificates)-len(waits), len(t.Certificates), snap.Verdict); text != said && !a.json {
			said = text
			fmt.Fprintf(a.out, "%8s  %s\n", field.Span(time.Since(began)), text)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-after:
			fmt.Fprintf(a.err, "Not done after %s: %s. It goes on; `lanternfield trust` tells how far it is.\n", field.Span(timeout), wording.Members(waits))
			return errBadAnswer
		case <-time.After(trustEvery):
		}
	}
}

func (a *app) trustAuthorityCommand() *cobra.Command {
	out := ""
	cmd := &cobra.Command{Use: "authority [FILE] [-o OUT.pem]", Short: "Give the certificates of the authorities that count, as PEM, for clients",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if err := a.noRest(rest); err != nil {
				return err
			}
			session, _, err := a.openDeployed(cmd.Context(), cmd, folder, "trust")
			if err != nil {
				return err
			}
			defer session.Close()
			t, err := session.Trust(cmd.Context())
			if err != nil {
				return err
			}
			if t.Bundle == "" {
				return fmt.Errorf("no member of %s has a certificate, so there is no authority", t.Field)
			}
			if out == "" {
				_, err = fmt.Fprint(a.out, t.Bundle)
				return err
			}
			if err := control.WriteNew(out, []byte(t.Bundle), 0o644); err != nil {
				return err
			}
			name := t.Field + "-members.crt"
			fmt.Fprintf(a.out, "%s has %s of %s. Programs take it as their file of authorities.\n", out, wording.Counted(len(t.Authorities), "authority certificate"), t.Field)
			fmt.Fprintf(a.out, "To have a whole Debian or Ubuntu system believe it:\n  sudo cp %s /usr/local/share/ca-certificates/%s && sudo update-ca-certificates\nTo undo that:\n  sudo rm /usr/local/share/ca-certificates/%s && sudo update-ca-certificates --fresh\n", out, name, name)
			return nil
		}}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; standard output when left out")
	return cmd
}

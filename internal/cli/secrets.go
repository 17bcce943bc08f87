package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
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

// givenSecrets gets the secrets that a field file says are given, and that have not been: from files, variables or the terminal. They are checked before
// anything else is done.
func (a *app) givenSecrets(f draft, folder control.Folder) (map[string]string, error) {
	if len(f.Field.Secrets) == 0 {
		return nil, nil
	}
	missing, err := control.Ungiven(folder, f.Field)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var wrong []error
	for _, name := range missing {
		value, err := a.given(f, name, f.Field.Secrets[name], filepath.Dir(f.Name))
		if err == nil {
			err = f.Field.CheckSecret(name, value)
		}
		if err != nil {
			wrong = append(wrong, err)
		}
		out[name] = value
	}
	if len(wrong) > 0 {
		return nil, fmt.Errorf("%w; nothing has been changed", errors.Join(wrong...))
	}
	return out, nil
}

// giveSecrets hands them over.
func (a *app) giveSecrets(ctx context.Context, cmd *cobra.Command, session control.Session, given map[string]string) error {
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if _, err := session.ChangeSecret(ctx, control.SecretAsked{Name: name, Given: true, Value: given[name], By: by(cmd)}); err != nil {
			return err
		}
	}
	return nil
}

// given gets one secret from where it is said to be.
func (a *app) given(f draft, name string, g field.GivenSecret, beside string) (string, error) {
	fail := func(err error) error {
		return fmt.Errorf("the secret %s cannot be read from %s: %w", name, g, err)
	}
	switch {
	case g.Env != "":
		value, is := os.LookupEnv(g.Env)
		if !is {
			return "", fail(fmt.Errorf("there is no variable %s", g.Env))
		}
		return value, nil
	case g.File != "":
		file := g.File
		if !filepath.IsAbs(file) {
			file = filepath.Join(beside, file)
		}
		value, err := a.readSecret(file)
		if err != nil {
			return "", fail(err)
		}
		return value, nil
	}
	rules := f.Field.SecretRules(name)
	for _, role := range slices.Sorted(maps.Keys(rules)) {
		rule := rules[role]
		about := rule.About
		if about != "" {
			about = ", " + about
		}
		fmt.Fprintf(a.err, "The secret %s%s: %s. What is typed is not shown.\n", name, about, rule.Words())
	}
	value, err := a.newSecret("The new one: ")
	if err != nil {
		return "", fail(err)
	}
	return value, nil
}

// printSecrets lists a field's secrets by name.
func (a *app) printSecrets(t *snapshot.Trust) {
	if len(t.Secrets) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "secret\tnumber\tis\tsince\tof\tfor")
	for _, s := range t.Secrets {
		since := "-"
		if !s.Since.IsZero() {
			since = s.Since.Local().Format(day)
		}
		roles := make([]string, len(s.Roles))
		for i, r := range s.Roles {
			roles[i] = string(r)
		}
		about := s.About
		if waits := s.Waiting(); waits != "" {
			about += "; " + waits
		}
		if s.Fixed {
			about += "; it cannot be changed"
		}
		fmt.Fprintf(w, "%s\t%d\t%s\t%s\t%s\t%s\n", s.Name, s.Number, map[bool]string{true: "given", false: "made"}[s.Given], since, strings.Join(roles, ", "), strings.TrimPrefix(about, "; "))
	}
	w.Flush()
}

func (a *app) trustChangeCommand() *cobra.Command {
	var timeout time.Duration
	var from field.GivenSecret
	made := false
	cmd := &cobra.Command{Use: "change [FILE] SECRET [--prompt | --from-file F | --from-env NAME | --make]", Short: "Have another secret take the place of one, where programs run with it too",
		Long: "Another one is made, or given: asked for on the terminal, or read from a file or a variable. What follows is shown first, and asked about. Programs that keep\n" +
			"a secret in their data, as a database does, take it by the steps of their kit; then every member is given it in its files, one after the other where it has to\n" +
			"be restarted for that. Without one of the flags it is given where the field file says so, and made elsewhere.",
		RunE: func(cmd *cobra.Command, args []string) error { return a.changeSecret(cmd, args, from, made, timeout) }}
	cmd.Flags().BoolVar(&from.Prompt, "prompt", false, "it is asked for on the terminal")
	cmd.Flags().StringVar(&from.File, "from-file", "", "it is read from a file; - for standard input")
	cmd.Flags().StringVar(&from.Env, "from-env", "", "it is read from a variable of that name")
	cmd.Flags().BoolVar(&made, "make", false, "it is made")
	cmd.MarkFlagsMutuallyExclusive("prompt", "from-file", "from-env", "make")
	a.actFlags(cmd, &timeout)
	return cmd
}

func (a *app) changeSecret(cmd *cobra.Command, args []string, from field.GivenSecret, made bool, timeout time.Duration) error {
	ctx := cmd.Context()
	f, folder, rest, err := a.load(args)
	if err != nil {
		return err
	}
	if len(rest) != 1 {
		return errors.New("say which secret: `lanternfield trust` lists them")
	}
	name := rest[0]
	if len(f.Field.UsersOf(name)) == 0 && !f.Field.UsesWebhook(name) {
		var known []string
		for i := range f.Field.Roles {
			known = append(known, f.Field.Roles[i].SecretNames()...)
		}
		slices.Sort(known)
		if known = slices.Compact(known); len(known) == 0 {
			return fmt.Errorf("no program of %s has a secret", f.Field.Name)
		}
		return fmt.Errorf("no program of %s has a secret %q; there is %s", f.Field.Name, name, wording.And(known))
	}
	beside := "." // what a flag names is beside whoever types it
	if from == (field.GivenSecret{}) && !made {
		from, beside = f.Field.Secrets[name], filepath.Dir(f.Name)
	}
	session, err := a.attach(ctx, cmd, folder)
	if err != nil {
		return err
	}
	defer session.Close()
	ask := control.SecretAsked{Name: name, Given: from != (field.GivenSecret{}), By: by(cmd), Review: true}
	if _, err := session.ChangeSecret(ctx, ask); err != nil { // before a person is asked for it
		return err
	}
	if ask.Given {
		if from.File == "-" {
			ask.Value, err = a.readSecret("-")
		} else {
			ask.Value, err = a.given(f, name, from, beside)
		}
		if err == nil {
			err = f.Field.CheckSecret(name, ask.Value)
		}
		if err != nil {
			return fmt.Errorf("%w; nothing has been changed", err)
		}
	}
	review, err := session.ChangeSecret(ctx, ask)
	if err != nil {
		return err
	}
	if len(review.Steps) > 0 {
		if !a.json {
			a.printReviewed(review, "Changing the secret "+name+" means, in this order:")
		}
		if err := a.confirm(fmt.Sprintf("Change the secret %s?", name)); err != nil {
			return err
		}
	}
	ask.Review = false
	if _, err := session.ChangeSecret(ctx, ask); err != nil {
		return err
	}
	return a.awaitSecret(ctx, session, name, timeout)
}

// awaitSecret waits until all run with the newest of a secret.
func (a *app) awaitSecret(ctx context.Context, session control.Session, name string, timeout time.Duration) error {
	began, after, said := time.Now(), time.After(timeout), ""
	for {
		snap, err := session.Snapshot(ctx)
		if err != nil {
			return err
		}
		if snap.State == snapshot.Draft || snap.State == snapshot.Retired {
			fmt.Fprintf(a.out, "The secret %s is kept for when the field is deployed.\n", name)
			return nil
		}
		t, err := session.Trust(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(t.Secrets, func(x snapshot.Secret) bool { return x.Name == name })
		waits := ""
		if i >= 0 {
			waits = t.Secrets[i].Waiting()
		}
		if waits == "" && snap.State == snapshot.Converged {
			if a.json {
				a.printJSON(snap)
				return nil
			}
			fmt.Fprintf(a.out, "All run with the new secret %s, after %s. Clients get it with `lanternfield access`.\n", name, field.Span(time.Since(began)))
			return nil
		}
		if text := strings.TrimPrefix(waits+"; "+snap.Verdict, "; "); text != said && !a.json {
			said = text
			fmt.Fprintf(a.out, "%8s  %s\n", field.Span(time.Since(began)), text)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-after:
			fmt.Fprintf(a.err, "Not done after %s: %s. It goes on; `lanternfield trust` tells how far it is.\n", field.Span(timeout), said)
			return errBadAnswer
		case <-time.After(trustEvery):
		}
	}
}

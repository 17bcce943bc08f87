package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/keeper"
	"lanternfield/internal/keyring"
)

func (a *app) deployCommand() *cobra.Command {
	var timeout time.Duration
	anyway := false
	cmd := &cobra.Command{Use: "deploy [FILE]", Short: "Carry the review out and wait until the field has converged",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			a.anyway = anyway
			return a.deploy(cmd, f, folder, nil, timeout)
		}}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "also when machines are not ready: what would come to those waits, and the rest goes on")
	a.actFlags(cmd, &timeout)
	a.takeOverFlag(cmd)
	return cmd
}

func (a *app) takeOverFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.takeOver, "take-over", "", "go on with a log that lacks what the nodes were told: the field's name")
}

// attach gives a session through the keeper of a field, starting one where there is none.
func (a *app) attach(ctx context.Context, cmd *cobra.Command, folder control.Folder) (control.Session, error) {
	name, before := ownersKey()
	session, err := keeper.Attach(ctx, folder, who(cmd))
	a.progressEnds()
	if _, now := ownersKey(); !before && now && !a.json {
		fmt.Fprintf(a.err, "%s was made: the owner's key, which opens the keyring of %s and of fields to come. Keep a copy elsewhere: nobody can open them without.\n", name, folder.Name())
	}
	return session, err
}

// ownersKey tells where the owner's key is, and whether it is there.
func ownersKey() (name string, there bool) {
	name, err := keyring.OwnerFile()
	if err == nil {
		_, err = os.Lstat(name)
	}
	return name, err == nil
}

// openToAct opens a field; also one with a broken log, where a person takes it over by its name.
func (a *app) openToAct(ctx context.Context, cmd *cobra.Command, folder control.Folder) (control.Session, error) {
	session, err := a.attach(ctx, cmd, folder)
	var broken *eventlog.Broken
	if !errors.As(err, &broken) || a.takeOver != folder.Name() {
		return session, err
	}
	kept, err := control.Cut(folder, broken)
	if err != nil {
		return nil, err
	}
	if !a.json {
		fmt.Fprintf(a.out, "The log was broken; the whole of it is kept in %s.\n", kept)
	}
	return a.attach(ctx, cmd, folder)
}

// takesOver goes on with the log that is here, where a person has said so.
func (a *app) takesOver(ctx context.Context, cmd *cobra.Command, session control.Session) error {
	if a.takeOver == "" {
		return nil
	}
	err := session.Do(ctx, control.Request{What: "take over", Names: []string{a.takeOver}, By: by(cmd)})
	if err == nil && !a.json {
		fmt.Fprintf(a.out, "%s goes on with the log that is here.\n", a.takeOver)
	}
	return err
}

func (a *app) actFlags(cmd *cobra.Command, timeout *time.Duration) {
	cmd.Flags().DurationVar(timeout, "timeout", 5*time.Minute, "how long to wait")
	a.yesFlag(cmd)
	a.jsonFlag(cmd)
}

// deploy reviews, asks, orders and waits. Save is called when the order is about to leave.
func (a *app) deploy(cmd *cobra.Command, f draft, folder control.Folder, save func() error, timeout time.Duration) error {
	ctx := cmd.Context()
	found := finding.Whole(f.Field)
	if finding.HasErrors(found) {
		return a.refuse(f, found)
	}
	session, err := a.openToAct(ctx, cmd, folder)
	if err != nil {
		return err
	}
	defer session.Close()
	if err := a.takesOver(ctx, cmd, session); err != nil {
		return err
	}
	given, err := a.givenSecrets(f, folder)
	if err != nil {
		return err
	}
	review, err := session.Review(ctx, f.Field)
	if err != nil {
		return err
	}
	if !a.json {
		a.printFindings(f, found)
		a.printReview(review)
	}
	if len(review.Missing) > 0 {
		return fmt.Errorf("nodes lack what the draft needs; see above. Nothing has been changed")
	}
	if !review.Empty() {
		if err := a.confirm("Deploy this?"); err != nil {
			return err
		}
	}
	if save != nil {
		if err := save(); err != nil {
			return err
		}
	}
	if err := a.giveSecrets(ctx, cmd, session, given); err != nil {
		return err
	}
	if err := session.Do(ctx, control.Request{What: "deploy", Draft: f.Field, Accepted: review, By: by(cmd), Anyway: a.anyway}); err != nil {
		return err
	}
	return a.follow(ctx, session, timeout, waited{what: "deploy", want: snapshot.Converged})
}

// confirm asks before anything is done. Where nobody can be asked, --yes must have been said.
func (a *app) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !isTerminal(a.in) {
		return errors.New("this changes the real field, and there is no terminal to ask on; nothing has been done. Say --yes to go ahead")
	}
	fmt.Fprintf(a.out, "%s [y/N] ", question)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	if answer := strings.ToLower(strings.TrimSpace(line)); err == nil && (answer == "y" || answer == "yes") {
		return nil
	}
	return errors.New("nothing has been done")
}

func (a *app) scaleCommand() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: "scale [FILE] ROLE N [ROLE N …]", Short: "Change the member counts in the field file and deploy",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err != nil {
				return err
			}
			if len(rest) == 0 || len(rest)%2 != 0 {
				return errors.New("scale takes pairs of a role and a number, e.g. `lanternfield scale crews 6`")
			}
			next := f
			for i := 0; i < len(rest); i += 2 {
				if next, err = withMembers(next, folder, rest[i], rest[i+1]); err != nil {
					return err
				}
			}
			return a.deploy(cmd, next, folder, func() error { return f.Save(next.Bytes) }, timeout)
		}}
	a.actFlags(cmd, &timeout)
	return cmd
}

func notANumber(text string) error {
	return fmt.Errorf("%q is not a number of members; write 0 or more", text)
}

func withMembers(f draft, folder control.Folder, role, number string) (draft, error) {
	r := f.Field.Role(field.RoleName(role))
	if r == nil {
		var names []string
		for _, r := range f.Field.Roles {
			names = append(names, string(r.Name))
		}
		hint := "there is " + strings.Join(names, ", ")
		if near := field.Nearest(role, names); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return draft{}, fmt.Errorf("%s has no role %q; %s", f.Name, role, hint)
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 0 {
		return draft{}, notANumber(number)
	}
	if n == r.Members {
		return f, nil
	}
	data, err := f.Put(arrange.Put{Path: []string{"roles", string(r.Name), "members"}, Value: strconv.Itoa(n)})
	if err != nil {
		return draft{}, err
	}
	next, err := f.With(data)
	if err != nil {
		return draft{}, err
	}
	return drafted(next, folder), nil
}

func (a *app) openDeployed(ctx context.Context, cmd *cobra.Command, folder control.Folder, verb string) (control.Session, *snapshot.Snapshot, error) {
	snap, err := control.Look(ctx, folder)
	var lacks *control.LacksError
	var broken *eventlog.Broken
	if a.takeOver != "" && (err == nil || errors.As(err, &lacks) || errors.As(err, &broken)) {
		session, err := a.openToAct(ctx, cmd, folder)
		if err == nil {
			err = a.takesOver(ctx, cmd, session)
		}
		if err != nil {
			return nil, nil, err
		}
		if snap, err = session.Snapshot(ctx); err != nil || snap.State == snapshot.Draft || snap.State == snapshot.Retired {
			return nil, snap, errors.Join(err, session.Close())
		}
		return session, snap, nil
	}
	if err != nil && !errors.Is(err, control.ErrNothing) {
		return nil, nil, err
	}
	if err != nil || snap.State == snapshot.Draft || snap.State == snapshot.Retired {
		return nil, nil, fmt.Errorf("%s is not deployed, so there is nothing to %s", filepath.Base(folder.Dir), verb)
	}
	session, err := a.attach(ctx, cmd, folder)
	return session, snap, err
}

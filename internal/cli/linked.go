package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/snapshot"
)

// printLink says of which other field a role is, and where.
func (a *app) printLink(r snapshot.RoleView) {
	fmt.Fprintf(a.out, "%s: %s\n", r.Role, r.Link)
	if len(r.Outside) > 0 {
		fmt.Fprintf(a.out, "  %-12s %s\n", "at", strings.Join(r.Outside, ", "))
	}
	if !r.Link.Until.IsZero() {
		fmt.Fprintf(a.out, "  %-12s until %s, renewed by %s\n", "certificate", r.Link.Until.Local().Format(day), r.Link.Field)
	}
	fmt.Fprintf(a.out, "  `lanternfield access --field %s %s` says how its clients get in.\n", r.Link.Field, r.Link.Role)
}

// handOver takes a role back from another field, or lets it be handed over again.
func (a *app) handOver(cmd *cobra.Command, session control.Session, rest []string, takeBack, handOver string) error {
	if len(rest) != 1 {
		return errors.New("say which role, as in: lanternfield access FILE berths --take-back FIELD")
	}
	ctx := cmd.Context()
	if handOver != "" {
		if err := session.Do(ctx, control.Request{What: "hand over", Names: []string{rest[0], handOver}, By: by(cmd)}); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "%s is handed over to %s again, as soon as that asks.\n", rest[0], handOver)
		return nil
	}
	fmt.Fprintf(a.out, "%s is told nothing new of %s any more. Its members go on with what they have: certificates until they end, secrets until they are changed\n"+
		"(`lanternfield trust change`), both until the authority is another one (`lanternfield trust rotate`).\n", takeBack, rest[0])
	if err := a.confirm(fmt.Sprintf("Take %s back from %s?", rest[0], takeBack)); err != nil {
		return err
	}
	if err := session.Do(ctx, control.Request{What: "take back", Names: []string{rest[0], takeBack}, By: by(cmd)}); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s is taken back from %s.\n", rest[0], takeBack)
	return nil
}

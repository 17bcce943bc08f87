package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/footprint"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/host"
	"lanternfield/internal/kit"
)

func (a *app) checkCommand() *cobra.Command {
	nodes := false
	cmd := &cobra.Command{Use: "check [FILE]", Short: "Check the field file and say what is wrong or risky in the draft; with --nodes, whether the nodes can do it",
		Long: "With --nodes the machines are looked at before anything is deployed there: can they be reached, are they who they are, is there room, are programs, limits,\n" +
			"settings of the kernel as members need them, are ports free, and can each member connect to those that it calls. Nothing is changed, and nothing is left there.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if nodes {
				return a.checkNodes(cmd.Context(), folder, f)
			}
			found := finding.Whole(f.Field)
			moves, refused := a.moves(cmd.Context(), folder, f, found)
			if a.json {
				type located struct {
					finding.Finding
					File   string `json:"file"`
					Line   int    `json:"line"`
					Column int    `json:"column"`
				}
				list := []located{}
				for _, x := range found {
					line, column := f.Locate(x)
					list = append(list, located{x, f.Name, line, column})
				}
				a.printJSON(map[string]any{"field": f.Field.Name, "findings": list, "ok": !finding.HasErrors(found) && refused == nil, "footprint": footprintOf(f.Field), "moves": moves, "refused": wordsOf(refused), "notes": notes(f)})
			} else {
				a.printFindings(f, found)
				for _, m := range moves {
					fmt.Fprintf(a.out, "%s may not stay on %s: %s; deploying has another take its place\n", m.Member, m.Node, m.Why)
				}
				if refused != nil {
					fmt.Fprintf(a.out, "deploying this would be refused as things are now: %s\n", refused)
				}
				members := 0
				for _, r := range f.Field.Roles {
					members += r.Members
				}
				fmt.Fprintf(a.out, "%s: %d %s, %d %s, %d %s; %s\n", f.Field.Name, len(f.Field.Roles), many(len(f.Field.Roles), "role"), members,
					many(members, "member"), len(f.Field.Nodes), many(len(f.Field.Nodes), "node"), finding.Counted(found))
				if p := footprintOf(f.Field); p.Members > 0 {
					fmt.Fprintf(a.out, "footprint: %s\n", p)
				}
				for _, note := range notes(f) {
					fmt.Fprintf(a.out, "note: %s\n", note)
				}
			}
			if finding.HasErrors(found) || refused != nil {
				return errBadAnswer
			}
			return nil
		}}
	cmd.Flags().BoolVar(&nodes, "nodes", false, "look at the machines too: is anything in the way of deploying there")
	a.jsonFlag(cmd)
	return cmd
}

// notes say what cannot be guaranteed on this machine, however the draft is.
func notes(f draft) []string {
	out := kitNotes(f)
	if roles := finding.Unseparated(f.Field); len(roles) > 0 && os.Geteuid() == 0 {
		names := make([]string, len(roles))
		for i, r := range roles {
			names[i] = string(r)
		}
		out = append(out, fmt.Sprintf("programs of %s name no user and run as root here: they can do all that agents and controllers can (docs/security.md)", strings.Join(names, ", ")))
	}
	if !host.GroupsHere() {
		out = append(out, "no control groups can be had here: a process that hides from its member before it was seen may outlive it (docs/security.md)")
	}
	return out
}

// kitNotes says where kits come from that do not ship.
func kitNotes(f draft) []string {
	out := []string{}
	library := kit.Of(f.Name)
	said := map[string]bool{"": true}
	for i := range f.Field.Roles {
		name := f.Field.Roles[i].Kit
		k, ok := library.Find(name)
		if said[name] || !ok || k.Folder == "" {
			continue
		}
		said[name] = true
		text := fmt.Sprintf("the kit %s is the one in %s", name, k.Folder)
		if len(k.Hides) > 0 {
			text += fmt.Sprintf("; it hides one that is %s", k.Hides[0])
		}
		out = append(out, text)
	}
	return out
}

func wordsOf(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// moves lists the members of a deployed field that may not stay where they are by the draft, or why the draft would be refused.
func (a *app) moves(ctx context.Context, folder control.Folder, f draft, found []finding.Finding) (moves []plan.Step, refused error) {
	if finding.HasErrors(found) || f.Field.Cycle() != nil {
		return nil, nil
	}
	snap, err := control.Look(ctx, folder)
	if err != nil || snap.State == snapshot.Draft || snap.State == snapshot.Retired || snap.State == snapshot.Deploying {
		return nil, nil
	}
	r, err := control.LookReview(ctx, folder, f.Field)
	if err != nil {
		return nil, err
	}
	for _, s := range r.Steps {
		if s.Moves {
			moves = append(moves, s)
		}
	}
	return moves, nil
}

// footprintOf is what the draft would take if it were deployed afresh.
func footprintOf(f *field.Field) footprint.Footprint {
	if f.Cycle() != nil {
		return footprint.Footprint{}
	}
	return footprint.Of(f, plan.Make(f, plan.Live{}).Adds)
}

func (a *app) printFindings(f draft, found []finding.Finding) {
	for _, x := range found {
		line, column := f.Locate(x)
		fmt.Fprintf(a.out, "%s:%d:%d: %s: %s\n", f.Name, line, column, x.Severity, x.Text)
		if x.Accepted != "" {
			fmt.Fprintf(a.out, "      accepted: %s\n", x.Accepted)
			continue
		}
		if x.Mend != "" {
			fmt.Fprintf(a.out, "      to mend it: %s\n", x.Mend)
		}
	}
}

func many(n int, one string) string {
	if n == 1 {
		return one
	}
	return one + "s"
}

func (a *app) reviewCommand() *cobra.Command {
	markdown, files := false, false
	cmd := &cobra.Command{Use: "review [FILE] [ROLE|NODE|MEMBER …]", Short: "Show what a deploy would change, step by step, and how long that may take",
		Long: "Show what a deploy would change, step by step, with how long that may take, what clients notice meanwhile and what cannot be undone. Names of roles,\n" +
			"nodes, zones or members narrow it. With --files, in what lines the config files of each member will differ.",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err != nil {
				return err
			}
			found := finding.Whole(f.Field)
			if finding.HasErrors(found) {
				return a.refuse(f, found)
			}
			review, err := control.LookReview(cmd.Context(), folder, f.Field)
			if err == nil && len(rest) > 0 {
				err = review.Only(rest)
			}
			if err == nil && files {
				err = addFiles(cmd.Context(), folder, f.Field, review)
			}
			switch {
			case err != nil:
				return err
			case a.json:
				a.printJSON(review)
			case markdown:
				fmt.Fprint(a.out, review.Markdown())
			default:
				a.printReview(review)
			}
			return nil
		}}
	a.jsonFlag(cmd)
	cmd.Flags().BoolVar(&markdown, "markdown", false, "as Markdown, to be pasted where a change is asked for")
	cmd.Flags().BoolVar(&files, "files", false, "show the lines in which config files, command lines and probes will differ")
	return cmd
}

// mostFiles is of how many members differences are shown at once.
const mostFiles = 500

// addFiles adds to the steps of a review in what the config files of their members will differ.
func addFiles(ctx context.Context, folder control.Folder, f *field.Field, r *plan.Review) error {
	var members []field.MemberName
	for _, s := range r.Steps {
		if s.Altering() && !slices.Contains(members, s.Member) {
			members = append(members, s.Member)
		}
	}
	if len(members) > mostFiles {
		return fmt.Errorf("the config files of %d members change, and those of at most %d are shown at once: name roles, nodes or members", len(members), mostFiles)
	}
	all, err := control.LookPreviews(ctx, folder, f, members)
	if err != nil {
		return err
	}
	for i := range r.Steps {
		if s := &r.Steps[i]; s.Altering() {
			s.Files = all[s.Member].Altered()
		}
	}
	return nil
}

// refuse says why a draft cannot be deployed.
func (a *app) refuse(f draft, found []finding.Finding) error {
	if a.json {
		a.printJSON(map[string]any{"field": f.Field.Name, "findings": found, "ok": false})
		return errBadAnswer
	}
	a.printFindings(f, found)
	fmt.Fprintf(a.out, "%s cannot be deployed like this: %s. Nothing has been changed.\n", f.Field.Name, finding.Counted(found))
	return errBadAnswer
}

func (a *app) printReview(r *plan.Review) {
	defer func() {
		for _, p := range r.Pending {
			fmt.Fprintf(a.out, "%s; `lanternfield restart %s` restarts them one by one.\n", p, joined(p.Members))
		}
	}()
	if r.Empty() && len(r.Missing) == 0 {
		fmt.Fprintf(a.out, "%s is as the draft wants it: nothing to change.\n", r.Field)
		return
	}
	a.printReviewed(r, fmt.Sprintf("Deploying %s would change, in this order:", r.Field))
}

// printReviewed lists the steps of a review.
func (a *app) printReviewed(r *plan.Review, title string) {
	fmt.Fprintln(a.out, title)
	mark := map[plan.StepKind]string{plan.Prepare: "·", plan.Start: "+", plan.Change: "~", plan.Take: "-", plan.Forget: "-", plan.Free: "·"}
	number := 0
	for _, part := range r.Parts() {
		fmt.Fprintln(a.out, r.Title(part))
		for _, s := range part {
			number++
			fmt.Fprintf(a.out, "  %3d %s %s\n", number, mark[s.Kind], s.Says())
			for _, file := range s.Files {
				fmt.Fprintf(a.out, "        %s\n", file.Name)
				for _, l := range file.Lines {
					fmt.Fprintln(a.out, strings.TrimRight("          "+l.Mark+" "+l.Text, " "))
				}
			}
		}
	}
	if r.Expected.Any() && number > 0 {
		fmt.Fprintf(a.out, "It takes: %s.\n", r.Expected.Whole())
	}
	for _, part := range r.Afterwards() {
		fmt.Fprintf(a.out, "%s:\n", part.Title)
		for _, text := range part.Texts {
			fmt.Fprintf(a.out, "    %s\n", text)
		}
	}
	for _, u := range r.Unplaced {
		fmt.Fprintf(a.out, "    ! %s fits nowhere: %s\n", u.Member, u.Why)
	}
	for _, m := range r.Missing {
		fmt.Fprintf(a.out, "    ! %s\n", m)
	}
}

func joined(names []field.MemberName) string {
	words := make([]string, len(names))
	for i, n := range names {
		words[i] = string(n)
	}
	return strings.Join(words, " ")
}

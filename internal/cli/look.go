package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"lanternfield/internal/host"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/footprint"
	"lanternfield/internal/core/plain"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/fieldfile"
)

func (a *app) checkCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "check [FILE]", Short: "Check the field file and say what is wrong or risky in the draft",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
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
				a.printJSON(map[string]any{"field": f.Field.Name, "findings": list, "ok": !finding.HasErrors(found) && refused == nil, "footprint": footprintOf(f.Field), "moves": moves, "refused": wordsOf(refused), "notes": notes(f.Field)})
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
					many(members, "member"), len(f.Field.Nodes), many(len(f.Field.Nodes), "node"), countFindings(found))
				if p := footprintOf(f.Field); p.Members > 0 {
					fmt.Fprintf(a.out, "footprint: %s\n", p)
				}
				for _, note := range notes(f.Field) {
					fmt.Fprintf(a.out, "note: %s\n", note)
				}
			}
			if finding.HasErrors(found) || refused != nil {
				return errBadAnswer
			}
			return nil
		}}
	a.jsonFlag(cmd)
	return cmd
}

// notes say what cannot be guaranteed on this machine, however the draft is.
func notes(f *field.Field) []string {
	out := []string{}
	if roles := finding.Unseparated(f); len(roles) > 0 && os.Geteuid() == 0 {
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

func wordsOf(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// moves lists the members of a deployed field that may not stay where they are by the draft, or why the draft would be refused.
func (a *app) moves(ctx context.Context, folder control.Folder, f *fieldfile.File, found []finding.Finding) (moves []plan.Step, refused error) {
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

func (a *app) printFindings(f *fieldfile.File, found []finding.Finding) {
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

func countFindings(found []finding.Finding) (text string) {
	var parts []string
	if n := len(found) - finding.Open(found); n > 0 {
		defer func() { text += fmt.Sprintf(", %d accepted", n) }()
	}
	for _, s := range []finding.Severity{finding.Error, finding.Risk, finding.Hint} {
		n := 0
		for _, x := range found {
			if x.Severity == s && x.Accepted == "" {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, many(n, string(s))))
		}
	}
	if len(parts) == 0 {
		return "nothing found"
	}
	return strings.Join(parts, ", ")
}

func (a *app) reviewCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "review [FILE]", Short: "Show what a deploy would change, step by step",
		RunE: func(cmd *cobra.Command, args []string) error {
			f, folder, rest, err := a.load(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			found := finding.Whole(f.Field)
			if finding.HasErrors(found) {
				return a.refuse(f, found)
			}
			review, err := control.LookReview(cmd.Context(), folder, f.Field)
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(review)
				return nil
			}
			a.printReview(review)
			return nil
		}}
	a.jsonFlag(cmd)
	return cmd
}

// refuse says why a draft cannot be deployed.
func (a *app) refuse(f *fieldfile.File, found []finding.Finding) error {
	if a.json {
		a.printJSON(map[string]any{"field": f.Field.Name, "findings": found, "ok": false})
		return errBadAnswer
	}
	a.printFindings(f, found)
	fmt.Fprintf(a.out, "%s cannot be deployed like this: %s. Nothing has been changed.\n", f.Field.Name, countFindings(found))
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
	fmt.Fprintf(a.out, "Deploying %s would change, in this order:\n", r.Field)
	mark := map[plan.StepKind]string{plan.Prepare: "·", plan.Start: "+", plan.Change: "~", plan.Take: "-", plan.Forget: "-", plan.Free: "·"}
	number := 0
	for _, part := range r.Parts() {
		fmt.Fprintln(a.out, r.Title(part))
		for _, s := range part {
			number++
			fmt.Fprintf(a.out, "  %3d %s %s\n", number, mark[s.Kind], s.Text)
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

func (a *app) statusCommand() *cobra.Command {
	var wait string
	var watch bool
	var timeout time.Duration
	cmd := &cobra.Command{Use: "status [FILE]", Short: "Show the verdict, roles and members",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, file, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if wait != "" && !slices.Contains(snapshot.Conditions, snapshot.Condition(wait)) {
				words := make([]string, len(snapshot.Conditions))
				for i, s := range snapshot.Conditions {
					words[i] = string(s)
				}
				hint := field.Nearest(wait, words)
				if hint != "" {
					hint = fmt.Sprintf("; did you mean %q?", hint)
				}
				return fmt.Errorf("there is no state %q; a field is %s%s", wait, strings.Join(words, ", "), hint)
			}
			ctx := cmd.Context()
			if wait != "" {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, timeout)
				defer cancel()
			}
			return a.status(ctx, folder, file, wait, watch)
		}}
	cmd.Flags().StringVar(&wait, "wait", "", "wait until the field is in that state")
	cmd.Flags().DurationVar(&timeout, "timeout", 5*time.Minute, "how long to wait")
	cmd.Flags().BoolVar(&watch, "watch", false, "show it again at every change")
	a.jsonFlag(cmd)
	return cmd
}

// lookEvery is how often a field without a controller is looked at.
const lookEvery = 200 * time.Millisecond

func (a *app) status(ctx context.Context, folder control.Folder, file, wait string, watch bool) error {
	last, shownAt := "", time.Time{}
	for {
		snap, err := a.look(ctx, folder, file)
		if err != nil {
			return err
		}
		reached := string(snap.State) == wait
		if watch {
			shown := *snap
			shown.At = time.Time{}
			for i := range shown.Members {
				shown.Members[i].Probe.LatencyMS, shown.Members[i].Memory = 0, 0
			}
			if now := fmt.Sprintf("%+v", shown); now != last || time.Since(shownAt) > time.Second && a.steady() {
				last, shownAt = now, time.Now()
				a.showAgain(snap)
			}
		}
		if wait == "" && !watch || wait != "" && reached {
			if !watch {
				a.printStatus(snap)
			}
			if wait == "" && (snap.State == snapshot.Down || snap.State == snapshot.Degraded) {
				return errBadAnswer
			}
			return nil
		}
		select {
		case <-ctx.Done():
			if wait != "" && errors.Is(ctx.Err(), context.DeadlineExceeded) {
				a.printStatus(snap)
				fmt.Fprintf(a.err, "%s is %s and did not become %s in time; see `lanternfield journal` for what happened.\n", snap.Field, snap.State, wait)
				return errBadAnswer
			}
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}

// steady tells whether what is shown again can take the place of what was shown before.
func (a *app) steady() bool {
	return a.screen != nil && a.out == a.fit && !a.json && isTerminal(a.screen)
}

// showAgain shows the status in place of the one before, where the output is a terminal; else below it.
func (a *app) showAgain(snap *snapshot.Snapshot) {
	if !a.steady() {
		a.printStatus(snap)
		fmt.Fprintln(a.out)
		return
	}
	out := a.screen
	var text strings.Builder
	shown := *a
	shown.out = &text
	shown.printStatus(snap)
	width, height := 80, 24
	if size, err := unix.IoctlGetWinsize(int(out.Fd()), unix.TIOCGWINSZ); err == nil && size.Col > 0 {
		width, height = int(size.Col), int(size.Row)
	}
	lines := strings.Split(strings.TrimRight(plain.Text(text.String()), "\n"), "\n")
	var page strings.Builder
	page.WriteString("\x1b[H")
	for i, line := range lines {
		if i == height-1 {
			break
		}
		if runes := []rune(line); len(runes) > width-1 && i > 1 {
			line = string(runes[:width-2]) + "…"
		}
		page.WriteString(line + "\x1b[K\n")
	}
	page.WriteString("\x1b[J")
	fmt.Fprint(out, page.String())
}

// look gives the field as it is; one that was never deployed, as its file wants it.
func (a *app) look(ctx context.Context, folder control.Folder, file string) (*snapshot.Snapshot, error) {
	snap, err := control.Look(ctx, folder)
	if err == nil && snap.State != snapshot.Draft {
		return snap, nil
	}
	if err != nil && !errors.Is(err, control.ErrNothing) {
		return nil, err
	}
	if file == "" {
		return nil, fmt.Errorf("nothing is known of a field %q in %s", a.name, folder.Dir)
	}
	f, err := fieldfile.Load(file, a.env)
	if err != nil {
		return nil, err
	}
	return snapshot.OfDraft(f.Field, time.Now().UTC()), nil
}

func (a *app) printStatus(s *snapshot.Snapshot) {
	if a.json {
		a.printJSON(s)
		return
	}
	fmt.Fprintf(a.out, "%s  %s\n%s\n", s.Field, s.State, s.Verdict)
	if text := keptBy(s); text != "" {
		fmt.Fprintln(a.out, text)
	}
	if len(s.Roles) > 0 {
		fmt.Fprintln(a.out)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "role\tkind\tready\tsurvives\tleader\twaits for")
		for _, r := range s.Roles {
			fmt.Fprintf(w, "%s\t%s\t%d/%d\t%s\t%s\t%s\n", r.Role, r.Kind, r.Ready, r.Want, survives(r), leader(r), closedGates(s, r))
		}
		w.Flush()
	}
	if len(s.Members) > 0 {
		fmt.Fprintln(a.out)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "member\tnode\tphase\tfor\taddress\t")
		for _, m := range s.Members {
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", m.Member, m.Node, m.Phase, field.Span(s.At.Sub(m.Since)), address(m), remark(m, s.At))
		}
		w.Flush()
	}
	for _, k := range s.Kept {
		fmt.Fprintf(a.out, "kept: the data of %s on %s, %s\n", k.Member, k.Node, k.Bytes)
	}
	for _, p := range s.Problems {
		fmt.Fprintln(a.out, "problem: "+p)
	}
}

// keptBy says whether somebody keeps the field, who, and since when; and, where nobody does and something is to be done, how that goes on.
func keptBy(s *snapshot.Snapshot) string {
	k := s.Keeper
	switch {
	case k != nil:
		text := fmt.Sprintf("Kept by process %d (%s) since %s", k.PID, k.Command, k.Since.Local().Format("15:04:05"))
		if k.Stays {
			text += ", which stays"
		}
		if len(k.Attached) > 0 {
			text += "; attached: " + strings.Join(k.Attached, "; ")
		}
		return text + "."
	case s.Due:
		return "Nobody keeps the field, so what is not done yet does not go on: the next command that acts takes it up, or `lanternfield serve`."
	}
	return ""
}

func survives(r snapshot.RoleView) string {
	switch {
	case r.Halted:
		return "stopped"
	case r.Want == 0:
		return "-"
	case !r.Votes && r.Survives < 0 && !r.Worked:
		return "not up yet"
	case !r.Votes && r.Survives < 0:
		return "nobody is ready"
	case !r.Votes && r.Led && r.Leader != "" && r.Survives > 0:
		return fmt.Sprintf("%d, but for %s", r.Survives, r.Leader)
	case r.Survives < 0 && !r.Worked:
		return "no quorum yet"
	case r.Survives < 0:
		return fmt.Sprintf("no quorum: %d of %d votes needed", r.VotesReady, r.VotesNeeded)
	}
	return fmt.Sprint(r.Survives)
}

func leader(r snapshot.RoleView) string {
	switch {
	case r.Leader == "":
		return "-"
	case len(r.Rivals) > 0:
		return fmt.Sprintf("%s and %s both", r.Leader, joined(r.Rivals))
	case r.Unsure != "":
		return fmt.Sprintf("%s (not known)", r.Leader)
	case r.LeaderTerm > 0:
		return fmt.Sprintf("%s (term %d)", r.Leader, r.LeaderTerm)
	}
	return string(r.Leader)
}

// closedGates words what keeps members of a role from being started.
func closedGates(s *snapshot.Snapshot, r snapshot.RoleView) string {
	if !slices.ContainsFunc(s.Members, func(m snapshot.MemberView) bool { return m.Role == r.Role && m.Phase == state.Planned }) {
		return ""
	}
	var closed []string
	for _, g := range r.Gates {
		if !g.Open {
			closed = append(closed, g.String())
		}
	}
	return strings.Join(closed, ", ")
}

func address(m snapshot.MemberView) string {
	if len(m.Ports) == 0 {
		return m.Address
	}
	var ports []string
	for name, p := range m.Ports {
		ports = append(ports, fmt.Sprintf("%s=%d", name, p))
	}
	slices.Sort(ports)
	return m.Address + " " + strings.Join(ports, " ")
}

// remark words what is worth knowing of a member beyond its phase.
func remark(m snapshot.MemberView, now time.Time) string {
	var parts []string
	if m.Leads {
		parts = append(parts, "leads")
	}
	if m.Leaving {
		parts = append(parts, "is being removed")
	}
	if m.Pending != "" {
		parts = append(parts, "takes "+m.Pending+" at its next start")
	}
	switch {
	case m.WaitsFor != "" && (m.Phase != state.Ready || m.RestartDue):
		parts = append(parts, "waits for "+m.WaitsFor)
	case m.Why != "":
		parts = append(parts, m.Why)
	}
	if m.Phase == state.Failed && !m.RetryAt.IsZero() {
		parts = append(parts, fmt.Sprintf("try %d in %s", m.Attempt+1, field.Span(m.RetryAt.Sub(now))))
	}
	if m.LastExit != "" && m.Phase != state.Failed {
		parts = append(parts, fmt.Sprintf("%s %s ago", m.LastExit, field.Span(now.Sub(m.LastExitAt))))
	}
	return strings.Join(parts, "; ")
}

func (a *app) journalCommand() *cobra.Command {
	var follow bool
	var part control.Range
	var since string
	cmd := &cobra.Command{Use: "journal [FILE]", Short: "Show what happened",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if part.Since, err = moment(since, time.Now()); err != nil {
				return err
			}
			return a.journal(cmd.Context(), folder, part, follow)
		}}
	cmd.Flags().BoolVarP(&follow, "follow", "f", false, "go on until interrupted")
	cmd.Flags().StringVar(&since, "since", "", "what happened from then on: a time (2026-01-31 15:04, or only 15:04), or how long ago (90m, 3d)")
	cmd.Flags().IntVar(&part.Last, "last", 0, "the newest so many events")
	cmd.Flags().Uint64Var(&part.After, "after", 0, "the events above that number (--json gives the numbers)")
	a.jsonFlag(cmd)
	return cmd
}

// moment understands a time, or how long ago it was.
func moment(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if days, err := strconv.Atoi(strings.TrimSuffix(text, "d")); err == nil && strings.HasSuffix(text, "d") && days >= 0 {
		return now.AddDate(0, 0, -days), nil
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return now.Add(-ago), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			y, m, day := now.Local().Date()
			if at = time.Date(y, m, day, at.Hour(), at.Minute(), at.Second(), 0, time.Local); at.After(now) {
				at = at.AddDate(0, 0, -1)
			}
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("--since %q is no time; write 2026-01-31 15:04, 15:04, or how long ago: 90m, 3d", text)
}

// lateBy is how many events later than others one may be stored and still be shown in its place.
const lateBy = 10_000

// journal prints events in the order in which they happened: reports of agents may be stored late. It holds no more than a few thousand.
func (a *app) journal(ctx context.Context, folder control.Folder, part control.Range, follow bool) error {
	list := 0
	show := func(e control.Entry) error {
		if a.json {
			return a.listed(&list, e)
		}
		if e.Kind != "heard" && e.Kind != "order-taken" {
			printEntry(a.out, e)
		}
		return nil
	}
	if follow {
		show = func(e control.Entry) error {
			if e.Kind != "heard" && e.Kind != "order-taken" {
				printEntry(a.out, e)
			}
			return nil
		}
	}
	for {
		var waiting []control.Entry
		flush := func(n int) error {
			if !follow {
				slices.SortStableFunc(waiting, func(x, y control.Entry) int { return x.At.Compare(y.At) })
			}
			for _, e := range waiting[:n] {
				if err := cmp.Or(ctx.Err(), show(e)); err != nil {
					return err
				}
			}
			waiting = append(waiting[:0], waiting[n:]...)
			return nil
		}
		err := control.EachEntry(folder, part, func(e control.Entry) error {
			part.After = max(part.After, e.Seq)
			waiting = append(waiting, e)
			if len(waiting) >= 2*lateBy {
				return flush(lateBy)
			}
			return nil
		})
		if errors.Is(err, control.ErrNothing) {
			if !follow {
				return fmt.Errorf("nothing has happened yet: %s holds no journal", folder.Dir)
			}
			err = nil
		}
		if err = cmp.Or(err, flush(len(waiting))); err != nil {
			return err
		}
		if !follow {
			if a.json {
				a.listEnd(list)
			}
			return nil
		}
		part.Last, part.Since = 0, time.Time{}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}

// listed prints one more thing of a JSON list.
func (a *app) listed(n *int, v any) error {
	if a.fit != nil {
		a.fit.JSON = true
	}
	data, err := json.MarshalIndent(v, "  ", "  ")
	if err != nil {
		return err
	}
	between := ",\n  "
	if *n == 0 {
		between = "[\n  "
	}
	*n++
	_, err = fmt.Fprintf(a.out, "%s%s", between, data)
	return err
}

// listEnd ends it.
func (a *app) listEnd(n int) {
	if n == 0 {
		fmt.Fprintln(a.out, "[]")
		return
	}
	fmt.Fprintln(a.out, "\n]")
}

func printEntry(w io.Writer, e control.Entry) {
	fmt.Fprintf(w, "%s  %s\n", e.At.Local().Format("2006-01-02 15:04:05.000"), e.Text)
}

// isTerminal tells whether somebody can be asked.
func isTerminal(f *os.File) bool {
	if f == nil {
		return false
	}
	_, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
	return err == nil
}

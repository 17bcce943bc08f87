package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plain"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/fieldfile"
)

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
				m := &shown.Members[i]
				m.Probe.LatencyMS, m.Memory, m.Gauge, m.Signs = 0, 0, nil, snapshot.Signs{}
				if late := m.Late(); late != "" { // for how long changes all the time; that it is so is news
					shown.Verdict, m.Trouble = "", string(m.Pace.Word)
				}
				m.Pace = nil
			}
			if len(shown.Notices) > 0 { // likewise: their numbers change all the time
				shown.Verdict, shown.Notices = "", slices.Clone(shown.Notices)
				for i := range shown.Notices {
					shown.Notices[i].Text = ""
				}
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
	return snapshot.OfDraft(drafted(f, folder).Field, time.Now().UTC()), nil
}

// printQuestion prints what waits for a person, why, and the command that gives each answer.
func printQuestion(w io.Writer, q snapshot.Question) {
	fmt.Fprintln(w, "It waits for an answer: "+q.Text)
	for _, why := range q.Why {
		fmt.Fprintln(w, "  "+why)
	}
	for _, c := range q.Answers {
		fmt.Fprintln(w, "  "+answer(q, c))
	}
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
	for _, n := range s.Notices {
		if n.Kind == state.NoticeState { // the verdict says it
			continue
		}
		fmt.Fprintf(a.out, "notice, for %s: %s\n", field.Span(s.At.Sub(n.Since)), n.Text)
	}
	for _, q := range s.Questions {
		printQuestion(a.out, q)
	}
	if len(s.Roles) > 0 {
		fmt.Fprintln(a.out)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		proved := func(snapshot.RoleView) string { return "" }
		head := ""
		if len(s.Proofs) > 0 {
			head = "proved\t"
			proved = func(r snapshot.RoleView) string { return cmp.Or(s.Proved(r.Role, s.At), "-") + "\t" }
		}
		fmt.Fprintf(w, "role\tkind\tready\tsurvives\tleader\t%swaits for\n", head)
		for _, r := range s.Roles {
			fmt.Fprintf(w, "%s\t%s\t%d/%d\t%s\t%s\t%s%s\n", r.Role, r.Kind, r.Ready, r.Want, survives(r), leader(r), proved(r), closedGates(s, r))
		}
		w.Flush()
	}
	if len(s.Members) > 0 {
		fmt.Fprintln(a.out)
		w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		version, head := func(snapshot.MemberView) string { return "" }, ""
		if slices.ContainsFunc(s.Members, func(m snapshot.MemberView) bool { return m.Version != "" }) {
			version, head = func(m snapshot.MemberView) string { return cmp.Or(m.Version, "-") + "\t" }, "version\t"
		}
		fmt.Fprintf(w, "member\tnode\tphase\tfor\t%saddress\t\n", head)
		for _, m := range s.Members {
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s%s\t%s\n", m.Member, m.Node, m.Phase, field.Span(s.At.Sub(m.Since)), version(m), address(m), remark(m, s.At))
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

// answer words how a question is answered from the command line, and what that costs.
func answer(q snapshot.Question, c snapshot.Choice) string {
	line := "lanternfield start " + strings.Join(q.Names(c), " ")
	for _, m := range c.Without {
		line += " --without " + string(m)
	}
	text := fmt.Sprintf("%s: `%s`", c.Word, line)
	if c.Costs != "" {
		text += "; " + c.Costs
	}
	return text
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
	case s.State != snapshot.Draft && s.State != snapshot.Retired:
		return "Nobody keeps the field just now; nothing that was ordered is left to do."
	}
	return ""
}

func survives(r snapshot.RoleView) string {
	switch {
	case r.IsOutside():
		return "-" // how much it survives is known to whose it is
	case r.Halted:
		return "stopped"
	case r.Want == 0:
		return "-"
	case !r.Votes && r.Survives < 0 && !r.Worked:
		return "not up yet"
	case r.Leased && r.Survives < 0 && r.Ready > 0:
		return "writes wait for another member"
	case !r.Votes && r.Survives < 0:
		return "nobody is ready"
	case !r.Votes && !r.Leased && r.Led && r.Leader != "" && r.Survives > 0:
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
	case r.Floating != "":
		return fmt.Sprintf("%s (%s)", r.Leader, r.Floating)
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
	switch {
	case m.Floating != "":
		parts = append(parts, "has "+m.Floating)
	case m.Leads:
		parts = append(parts, "leads")
	}
	if m.Leaving {
		parts = append(parts, "is being removed")
	}
	if far := m.Far(now); far != "" {
		parts = append(parts, far)
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

// isTerminal tells whether somebody can be asked.
func isTerminal(f *os.File) bool {
	if f == nil {
		return false
	}
	_, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
	return err == nil
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// waited is what is waited for: the end of what was asked for, and a state of the field.
type waited struct {
	what  string
	names []string // whom it is about; everybody when empty
	want  snapshot.Condition
}

// over tells whether what was asked for has come true.
func (w waited) over(snap *snapshot.Snapshot) bool {
	ended := !snap.Rollout.Active
	switch w.what {
	case "deploy", "prove":
		ended = ended && !snap.Proving()
	case "stop", "start", "restart": // over whatever else goes on
		ended = !slices.ContainsFunc(snap.Tasks, func(t snapshot.TaskView) bool { return t.What == w.what })
	}
	return ended && (snap.State == w.want || w.want == "")
}

// proved says how many proofs hold after a deploy.
func proved(snap *snapshot.Snapshot, w waited) string {
	holds := 0
	for _, p := range snap.Proofs {
		if p.OK {
			holds++
		}
	}
	if w.what != "deploy" || holds == 0 || holds < len(snap.Proofs) {
		return ""
	}
	return fmt.Sprintf(", and %s %s", wording.Counted(holds, "proof"), wording.Plural(holds, "holds", "hold"))
}

// electedWithin is how long after a start or restart somebody is waited for to lead.
const electedWithin = 5 * time.Second

// elects tells whether some role that was started has nobody yet who leads it.
func (w waited) elects(snap *snapshot.Snapshot) bool {
	return (w.what == "start" || w.what == "restart") && slices.ContainsFunc(snap.Roles, func(r snapshot.RoleView) bool { return r.Leaderless() && r.Ready > 0 })
}

// String says what did not come true.
func (w waited) String() string {
	whom := strings.Join(w.names, ", ")
	switch {
	case w.want != "":
		return "did not become " + string(w.want)
	case whom == "":
		whom = "all members"
	}
	return map[string]string{"stop": "has not stopped ", "start": "has not started ", "restart": "has not restarted "}[w.what] + whom
}

// follow prints what changes until what was asked for has come true.
func (a *app) follow(ctx context.Context, session control.Session, timeout time.Duration, w waited) error {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	snapshots, err := session.Watch(ctx)
	if err != nil {
		return err
	}
	began := time.Now()
	phases := map[field.MemberName]string{}
	var last *snapshot.Snapshot
	quiet := time.NewTicker(quietFor)
	defer quiet.Stop()
	said := ""
	var elected <-chan time.Time // when it is not waited any longer for somebody to lead
	late := false
	for {
		var snap *snapshot.Snapshot
		var more bool
		select {
		case snap, more = <-snapshots:
		case <-elected:
			snap, more, late = last, true, true
		case <-quiet.C:
			// No member changes, and it is not over: the verdict tells for what it waits.
			if last != nil && last.Verdict != said && !a.json {
				said = last.Verdict
				fmt.Fprintf(a.out, "%8s  %s\n", field.Span(time.Since(began)), said)
			}
			continue
		}
		if !more {
			break
		}
		last = snap
		if a.printChanges(snap, phases, began) {
			quiet.Reset(quietFor)
		}
		if w.what == "deploy" && !snap.Rollout.Active && snap.Rollout.Failed != "" {
			return a.stopped(snap)
		}
		if w.what == "deploy" && !snap.Rollout.Active && !snap.Proving() && snap.State == snapshot.Degraded && slices.ContainsFunc(snap.Proofs, snapshot.ProofView.Failed) {
			return a.notProved(snap)
		}
		if over := w.over(snap); over && !late && w.elects(snap) { // who was started leads, or votes, in a moment
			if elected == nil {
				elected = time.After(electedWithin)
			}
		} else if over {
			if a.json {
				if fresh, err := session.Snapshot(ctx); err == nil {
					snap = fresh
				}
				a.printJSON(snap)
			} else {
				compared := ""
				if w.what == "deploy" && snap.Rollout.Began.After(began.Add(-time.Second)) {
					compared = snap.Rollout.Compared()
				}
				fmt.Fprintf(a.out, "%s is %s after %s%s%s. %s\n", snap.Field, snap.State, field.Span(time.Since(began)), compared, proved(snap, w), snap.Verdict)
			}
			return nil
		}
		if m := snap.GivenUp(w.names); m != nil && w.what != "retire" && w.what != "stop" { // what fails ends all the same
			return a.gaveUp(snap, m)
		}
	}
	if last == nil {
		last = &snapshot.Snapshot{}
	}
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return a.outOfTime(last, w, timeout)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if _, err := session.Snapshot(context.Background()); err != nil {
		return err
	}
	return errors.New("the process that kept the field has ended, so what was ordered does not go on by itself; give the command again, or `lanternfield serve` takes it up")
}

// outOfTime says what is waited for when the time to follow is over, and how it goes on.
func (a *app) outOfTime(last *snapshot.Snapshot, w waited, timeout time.Duration) error {
	if a.json {
		a.printJSON(last)
	}
	fmt.Fprintf(a.err, "%s %s within %s: %s\n", last.Field, w, field.Span(timeout), last.Verdict)
	for _, m := range last.Members {
		if m.WaitsFor != "" {
			fmt.Fprintf(a.err, "  %s waits for %s\n", m.Member, m.WaitsFor)
		}
	}
	if k := last.Keeper; k != nil {
		fmt.Fprintf(a.err, "What was ordered goes on: process %d keeps the field. `lanternfield status --wait converged` follows it, `lanternfield pause` holds it.\n", k.PID)
	} else {
		fmt.Fprintf(a.err, "What was ordered stays ordered; `lanternfield status` tells how it goes on.\n")
	}
	return errBadAnswer
}

// quietFor is after how long without a change of any member the verdict is printed.
const quietFor = 3 * time.Second

// printChanges prints how members have changed, and says whether any has.
func (a *app) printChanges(snap *snapshot.Snapshot, phases map[field.MemberName]string, began time.Time) (any bool) {
	if a.json {
		return false
	}
	first := len(phases) == 0
	for _, m := range snap.Members {
		line := string(m.Phase)
		if m.Phase == state.Failed || m.Phase == state.Unready || m.Phase == state.Unknown {
			line += ": " + m.Why
		} else if m.Phase == state.Planned && m.WaitsFor != "" {
			line += ", waits for " + gateNames(m.WaitsFor)
		}
		if phases[m.Member] != line {
			phases[m.Member] = line
			if first && m.Phase == state.Ready {
				continue // it was lit before anything was asked
			}
			any = true
			fmt.Fprintf(a.out, "%8s  %-14s %s\n", field.Span(time.Since(began)), m.Member, line)
		}
	}
	return any
}

// gateNames drops the counts from what a member waits for, so that it is not said again at every step.
func gateNames(waits string) string {
	parts := strings.Split(waits, ", ")
	for i, p := range parts {
		parts[i], _, _ = strings.Cut(p, " (")
	}
	return strings.Join(parts, ", ")
}

// stopped says why a deploy stopped half-way, and what is still due.
func (a *app) stopped(snap *snapshot.Snapshot) error {
	if a.json {
		a.printJSON(snap)
		return errBadAnswer
	}
	fmt.Fprintf(a.err, "The deploy stopped half-way: %s\n", snap.Rollout.Failed)
	fmt.Fprintf(a.err, "No further member is changed. Mend it and deploy again, or put the draft back; `lanternfield review` lists what is still due.\n")
	return errBadAnswer
}

// gaveUp says why waiting on makes no sense, with what the member wrote last.
func (a *app) gaveUp(snap *snapshot.Snapshot, m *snapshot.MemberView) error {
	if a.json {
		a.printJSON(snap)
		return errBadAnswer
	}
	if i := slices.IndexFunc(snap.Questions, func(q snapshot.Question) bool { return q.Role == m.Role }); i >= 0 {
		printQuestion(a.err, snap.Questions[i])
		return errBadAnswer
	}
	if m.Trouble != "" {
		fmt.Fprintf(a.err, "%s\nNobody else is added or removed before that is settled. Deploy again to go on trying, or scale back to give it up.\n", m.Trouble)
		return errBadAnswer
	}
	fmt.Fprintf(a.err, "%s on %s failed %d times: %s\n", m.Member, m.Node, m.Attempt, m.Why)
	for _, line := range m.LastLines {
		fmt.Fprintf(a.err, "    | %s\n", line)
	}
	switch {
	case len(m.LastLines) > 0:
		fmt.Fprintf(a.err, "Its whole log is %s\n", m.Log)
	case m.PID == 0 && m.LastExit == "":
	default:
		fmt.Fprintf(a.err, "It wrote nothing to its log before that.\n")
	}
	fmt.Fprintf(a.err, "Its agent goes on trying. Mend it and deploy again, or retire the field.\n")
	return errBadAnswer
}

package rollout

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// Judge adds to the rows how those go that are slow or stuck, and to what is expected, whom nobody can wait out.
func (r *Record) Judge(snap *snapshot.Snapshot) {
	by := map[field.MemberName]*snapshot.MemberView{}
	for i := range snap.Members {
		by[snap.Members[i].Member] = &snap.Members[i]
	}
	for i := range r.Rows {
		row := &r.Rows[i]
		m := by[row.Member]
		if m == nil || !row.Done.IsZero() || m.Phase != row.Now().Phase {
			continue
		}
		row.Pace = m.Pace
		if m.Pace != nil && m.Pace.Word == pace.Stuck && r.Expected != nil {
			r.Expected.Awaits = append(r.Expected.Awaits, fmt.Sprintf("%s goes on, which is stuck", m.Member))
			if row.Expected != nil {
				row.Expected.Known = false
			}
		}
	}
	r.spread()
}

// Stuck lists the members of a field that are stuck.
func Stuck(snap *snapshot.Snapshot) []field.MemberName {
	var out []field.MemberName
	for _, m := range snap.Members {
		if m.Pace != nil && m.Pace.Word == pace.Stuck {
			out = append(out, m.Member)
		}
	}
	return out
}

// deepest bounds how far reasons are followed.
const deepest = 8

// Reasons says what a member waits for, what that waits for, and so on down to the root, a line each.
func Reasons(snap *snapshot.Snapshot, name field.MemberName) []string {
	var lines []string
	for seen := map[field.MemberName]bool{}; name != "" && !seen[name] && len(lines) < deepest; {
		seen[name] = true
		i := slices.IndexFunc(snap.Members, func(m snapshot.MemberView) bool { return m.Member == name })
		if i < 0 {
			break
		}
		m := snap.Members[i]
		text, next := reason(snap, m, seen)
		if text != "" {
			lines = append(lines, text)
		}
		name = next
	}
	return lines
}

// reason says what one member waits for, and which other one that is up to.
func reason(snap *snapshot.Snapshot, m snapshot.MemberView, seen map[field.MemberName]bool) (string, field.MemberName) {
	var text string
	switch {
	case m.Phase == state.Ready && !m.RestartDue:
		return "", ""
	case m.Phase == state.Planned || m.Phase == state.Ready:
		text = fmt.Sprintf("%s waits for %s", m.Member, orElse(m.WaitsFor, "its turn"))
		return text, upTo(snap, m, seen)
	case m.Phase == state.Failed:
		text = fmt.Sprintf("%s has failed: %s", m.Member, orElse(m.Why, m.LastExit))
		if m.Attempt > 1 {
			text += fmt.Sprintf(", %d times in a row", m.Attempt)
		}
		return text, ""
	case m.Phase == state.Unknown:
		return fmt.Sprintf("nothing is known of %s: %s", m.Member, orElse(m.Why, string(m.Node)+" cannot be reached")), ""
	case m.Phase == state.Unready:
		return fmt.Sprintf("%s is not ready: %s", m.Member, m.Why), ""
	}
	text = fmt.Sprintf("%s is %s", m.Member, m.Phase)
	if m.Pace != nil {
		if m.Pace.Word != pace.AsUsual {
			text += ", and " + string(m.Pace.Word)
		}
		text += ": " + m.Pace.Told()
	}
	if m.WaitsFor != "" && (m.Pace == nil || m.Pace.Word != pace.AsUsual || m.Phase == state.Joining) {
		text += "; it waits for " + m.WaitsFor
	}
	return text, m.WaitsOn
}

// upTo finds whom a waiting member waits for: whoever its turn waits for, else, behind a closed gate, the one that is worst off.
func upTo(snap *snapshot.Snapshot, m snapshot.MemberView, seen map[field.MemberName]bool) field.MemberName {
	var worst *snapshot.MemberView
	for _, r := range snap.Roles {
		if r.Role != m.Role {
			continue
		}
		for _, g := range r.Gates {
			if g.Open {
				continue
			}
			for i := range snap.Members {
				o := &snap.Members[i]
				if o.Role == g.On && !seen[o.Member] && (o.Phase != state.Ready || o.RestartDue) && !o.Leaving && (worst == nil || weight(*o) > weight(*worst)) {
					worst = o
				}
			}
		}
	}
	if worst == nil {
		return m.WaitsOn
	}
	return worst.Member
}

// weight is how much a member is the reason that others wait.
func weight(m snapshot.MemberView) int {
	base := map[state.Phase]int{state.Failed: 9, state.Unknown: 8, state.Unready: 7, state.Joining: 4, state.Starting: 3, state.Placing: 2, state.Planned: 1}[m.Phase]
	if m.Pace != nil {
		base += map[pace.Word]int{pace.Slow: 2, pace.Stuck: 4}[m.Pace.Word]
	}
	return base
}

func orElse(text, other string) string {
	if strings.TrimSpace(text) == "" {
		return other
	}
	return text
}

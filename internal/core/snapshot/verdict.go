package snapshot

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// judge finds the state of the field. A role that worked and cannot work any more outranks a rollout that goes on.
func judge(s *state.State, snap *Snapshot) Condition {
	if s.Refused() {
		return Degraded // what runs goes on, and is not known
	}
	if s.Retiring {
		return Deploying
	}
	halted, broken, warming := len(snap.Members) > 0, false, false
	for _, m := range snap.Members {
		halted = halted && m.Phase == state.Stopped && m.Halted
		if m.Left && m.Phase == state.Unknown {
			continue // nobody misses it; it ends when its node can be reached again
		}
		if m.Leaving {
			warming = true
		}
		broken = broken || m.TakenOff || m.Unfit != ""
		warming = warming || m.RestartDue || s.Members[m.Member].Awaited()
		switch m.Phase {
		case state.Failed, state.Unready, state.Unknown:
			broken = true
		case state.Planned, state.Placing, state.Starting, state.Joining:
			warming = true
		}
	}
	for _, n := range s.Nodes {
		warming = warming || len(n.Strays) > 0
	}
	if halted && len(snap.Members) > 0 {
		return Stopped
	}
	if slices.ContainsFunc(snap.Roles, func(r RoleView) bool { return r.Worked && cannotWork(r) && failing(snap, r.Role) }) {
		return Down
	}
	if s.UnderWay() {
		return Deploying
	}
	if s.Listening() > 0 {
		return Converging
	}
	if slices.ContainsFunc(snap.Roles, cannotWork) {
		return Down
	}
	switch {
	case broken, slices.ContainsFunc(snap.Roles, func(r RoleView) bool {
		return r.Leaderless() && !r.LeaderSince.IsZero() || len(r.Strangers) > 0 || len(r.Rivals) > 0 || r.Unsure != "" || r.Unread != ""
	}), slices.ContainsFunc(snap.Members, func(m MemberView) bool { return (m.Phase == state.Stopped || m.Phase == state.Stopping) && !m.Leaving }), slices.ContainsFunc(snap.Proofs, ProofView.Failed):
		return Degraded
	case warming, slices.ContainsFunc(snap.Roles, func(r RoleView) bool { return r.Leaderless() || r.Founding }):
		return Converging
	}
	return Converged
}

// cannotWork tells whether a role that should do its work cannot.
func cannotWork(r RoleView) bool { return r.Want > 0 && !r.Halted && r.Survives < 0 }

// Leaderless tells whether a role that could have a leader has none.
func (r RoleView) Leaderless() bool {
	return r.Leader == "" && (r.LeaderTerm > 0 || r.Led || r.Floating != "") && r.Survives >= 0 && !r.Halted && r.Want > 0
}

// failing tells whether a member of the role is dark without having been asked to.
func failing(snap *Snapshot, role field.RoleName) bool {
	return slices.ContainsFunc(snap.Members, func(m MemberView) bool {
		return m.Role == role && (m.Phase == state.Failed || m.Phase == state.Unready || m.Phase == state.Unknown)
	})
}

// sentence words how the field is: the worst first, and what it means.
func sentence(s *state.State, snap *Snapshot) string {
	lit, wanted := snap.Lit()
	switch {
	case s.Refused():
		return refusal(s, lit, wanted)
	case s.Retiring:
		return retiring(s, snap)
	case snap.State == Stopped:
		return fmt.Sprintf("Stopped on purpose (%s); data and place are kept.", wording.Counted(len(snap.Members), "member"))
	}
	count := fmt.Sprintf("%d of %d lit", lit, wanted)
	if n := s.Listening(); n > 0 {
		count = fmt.Sprintf("asking %s how they are · %s when last heard", wording.Counted(n, "node"), count)
	}
	parts := worst(s, snap)
	if len(parts) == 0 || lit == wanted && !s.Rollout.Paused {
		parts = append([]string{count}, parts...)
	} else {
		parts = append(parts, count)
	}
	for _, more := range [][]string{strays(s), missingNodes(snap), darkMembers(snap), troubledRoles(snap), unproved(snap), unlikeTheList(snap), halted(snap), paused(s), waiting(snap), restartsToCome(s)} {
		parts = append(parts, more...)
	}
	return strings.Join(parts, " · ")
}

// worst words what stands before the count of members: what is paused, two that lead, lost work, a deploy that has stopped.
func worst(s *state.State, snap *Snapshot) []string {
	var parts []string
	if s.Rollout.Paused {
		parts = append(parts, "paused, nothing new is begun until it goes on")
	}
	for _, r := range snap.Roles {
		if len(r.Rivals) > 0 {
			parts = append(parts, fmt.Sprintf("%s and %s both say that they lead %s: they may accept different writes", r.Leader, wording.Members(r.Rivals), r.Role))
		}
	}
	for _, r := range snap.Roles {
		if cannotWork(r) && r.Worked {
			parts = append(parts, lostWork(r))
		}
	}
	if s.Stalled != "" {
		parts = append(parts, "the deploy stopped half-way: "+s.Stalled)
	}
	return parts
}

// strays words what runs on nodes and is not in the log.
func strays(s *state.State) []string {
	var parts []string
	for _, n := range state.SortedNodes(s) {
		for _, name := range n.StrayNames() {
			parts = append(parts, fmt.Sprintf("%s on %s, which the log does not know, is taken down", name, n.Name))
		}
	}
	return parts
}

// troubledRoles words which roles have no leader, or cannot be read, or are one loss from stopping.
func troubledRoles(snap *Snapshot) []string {
	var parts []string
	for _, r := range snap.Roles {
		if r.Leaderless() && r.Floating != "" {
			parts = append(parts, fmt.Sprintf("nobody has the address %s of %s: whoever uses it reaches nobody", r.Floating, r.Role))
		} else if r.Leaderless() {
			what := "writes wait for an election"
			if !r.Votes {
				what = "writes stop until somebody does"
			}
			parts = append(parts, fmt.Sprintf("nobody leads %s: %s", r.Role, what))
		}
		if r.Unsure != "" {
			parts = append(parts, fmt.Sprintf("whether %s still leads %s is not known: %s", r.Leader, r.Role, r.Unsure))
		}
		if r.Unread != "" {
			parts = append(parts, fmt.Sprintf("the members that %s lists cannot be read: %s", r.Role, r.Unread))
		}
	}
	for _, r := range snap.Roles {
		if r.Votes && r.Survives == 0 && r.Voters > 1 && r.Worked {
			parts = append(parts, fmt.Sprintf("%s holds %d of %d votes, one more loss stops writes", r.Role, r.VotesReady, r.Voters))
		}
		if r.Leased && r.Survives == 0 && r.Want > 1 && r.Worked {
			parts = append(parts, fmt.Sprintf("one more loss in %s stops writes", r.Role))
		}
	}
	return parts
}

// unlikeTheList words what clusters list and the field does not have, the other way round, and what is being changed about that.
func unlikeTheList(snap *Snapshot) []string {
	var parts []string
	for _, r := range snap.Roles {
		if r.Change != "" {
			parts = append(parts, r.Change)
		}
		if len(r.Strangers) > 0 {
			parts = append(parts, fmt.Sprintf("%s lists %s, which %s none of ours", r.Role, wording.FirstOf(r.Strangers, 3), wording.Plural(len(r.Strangers), "is", "are")))
		}
	}
	for _, m := range snap.Members {
		if m.TakenOff {
			parts = append(parts, fmt.Sprintf("%s does not list %s any more: somebody has taken it off by hand", m.Role, m.Member))
		}
		if m.Left && m.Phase == state.Unknown {
			parts = append(parts, fmt.Sprintf("%s is replaced, and ends when %s can be reached again", m.Member, m.Node))
		}
	}
	return parts
}

// halted words how many members were stopped on purpose.
func halted(snap *Snapshot) []string {
	n := 0
	for _, m := range snap.Members {
		if m.Phase == state.Stopped && m.Halted {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%s stopped on purpose", wording.Counted(n, "member"))}
}

// missingNodes words which nodes their grounds have not given yet, with up to two reasons for which they cannot.
func missingNodes(snap *Snapshot) []string {
	var asked, awaited, parts []string
	failing := 0
	for _, n := range snap.Nodes {
		switch {
		case !n.Asked:
		case n.Awaited:
			awaited = append(awaited, string(n.Node))
		case n.Why == "":
			asked = append(asked, string(n.Node))
		case failing < 2:
			parts = append(parts, fmt.Sprintf("%s cannot be had: %s", n.Node, n.Why))
			failing++
		default:
			failing++
		}
	}
	if failing > 2 {
		parts = append(parts, fmt.Sprintf("%s more cannot be had", wording.Counted(failing-2, "node")))
	}
	if len(awaited) > 0 {
		parts = append(parts, fmt.Sprintf("waiting for %s to join as %s", wording.Plural(len(awaited), "a machine", "machines"), wording.FirstOf(awaited, 3)))
	}
	if len(asked) > 0 {
		parts = append(parts, fmt.Sprintf("%s %s asked for", wording.FirstOf(asked, 3), wording.Plural(len(asked), "is", "are")))
	}
	return parts
}

// waiting words which roles wait for which gates.
func waiting(snap *Snapshot) []string {
	var parts []string
	for _, r := range snap.Roles {
		planned := slices.ContainsFunc(snap.Members, func(m MemberView) bool { return m.Role == r.Role && m.Phase == state.Planned })
		for _, g := range r.Gates {
			if planned && !g.Open {
				parts = append(parts, fmt.Sprintf("%s waits for %s", r.Role, g))
			}
		}
	}
	return parts
}

// refusal says that agents do not obey this log: then what it tells of their members is not how they are.
func refusal(s *state.State, lit, wanted int) string {
	var nodes []field.NodeName
	why := ""
	for _, n := range state.SortedNodes(s) {
		if n.Refuses && !n.Released {
			nodes, why = append(nodes, n.Name), n.UnreachableWhy
		}
	}
	text := fmt.Sprintf("This log is not obeyed by %s: %s · what runs there goes on and is not known", wording.Nodes(nodes), why)
	if lit > 0 {
		text += fmt.Sprintf(" · %d of %d lit", lit, wanted)
	}
	return text + " · put the right log back, or take the field over (deploy --take-over NAME)"
}

func retiring(s *state.State, snap *Snapshot) string {
	gone := s.FormerCount
	for _, m := range s.Members {
		if m.Phase == state.Gone {
			gone++
		}
	}
	text := fmt.Sprintf("Retiring: %d of %d members are gone", gone, len(s.Members)+s.FormerCount)
	for _, n := range snap.Nodes {
		if n.Unreachable {
			text += fmt.Sprintf(" · %s cannot be reached (%s), so what is on it cannot be taken down yet", n.Node, n.Why)
		}
	}
	return text
}

// Lit counts the members that are lit and those that should be.
func (snap *Snapshot) Lit() (lit, wanted int) {
	for _, r := range snap.Roles {
		lit += r.Ready
		wanted += r.Want
	}
	return lit, wanted
}

// restartsToCome words which members wait to be restarted, for whom, and which take a change at their next start only.
func restartsToCome(s *state.State) []string {
	var parts []string
	for i := range s.Field.Roles {
		members := s.MembersOf(s.Field.Roles[i].Name)
		due, pending, what := 0, 0, ""
		for _, m := range members {
			if m.RestartDue {
				due++
			} else if p := m.Pending(); len(p) > 0 {
				if pending++; what == "" || what == wording.Changed(order.Named(p)) {
					what = wording.Changed(order.Named(p))
				} else {
					what = "changes"
				}
			}
		}
		if b := s.Blocker(members); due > 0 && b != nil {
			parts = append(parts, fmt.Sprintf("%s of %s %s for %s to be %s before the next restart", wording.Counted(due, "member"), s.Field.Roles[i].Name, wording.Plural(due, "waits", "wait"), b.Name, awaited(b)))
		}
		if pending > 0 {
			parts = append(parts, fmt.Sprintf("%s of %s %s for a restart to take %s", wording.Counted(pending, "member"), s.Field.Roles[i].Name, wording.Plural(pending, "waits", "wait"), what))
		}
	}
	return parts
}

// awaited is what others wait for a member to be.
func awaited(m *state.Member) string {
	if m.Leaving {
		return "gone"
	}
	return "ready"
}

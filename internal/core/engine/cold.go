package engine

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// coldStart starts clusters of which nobody runs, where the order matters: every member's data is read while all are stopped,
// the one that is the most advanced begins, and the others are started when it is ready. Who was ended by a crash of all is
// stopped first, since its agent would go on starting it by itself. Data that cannot be read blocks all that, until a person
// has named whose data is given up: it might have been the newest.
func (w *pass) coldStart() []state.Fact {
	var facts []state.Fact
	for i := range w.Field.Roles {
		role := &w.Field.Roles[i]
		r := w.RoleOf(role.Name)
		if role.Program == nil || role.Program.ColdStart == nil || !r.Founded {
			continue
		}
		members := w.active(role.Name)
		if !r.Cold {
			if why := w.wentCold(members); why != "" {
				facts = append(facts, state.RoleCold{Role: role.Name, Why: why})
			}
			continue
		}
		facts = append(facts, w.takeColdStep(role, r, members)...)
	}
	return facts
}

// wentCold tells whether all members of a role that has worked are down, and somebody is to be started again.
func (w *pass) wentCold(members []*state.Member) string {
	worked, wanted, crashed := false, false, false
	for _, m := range members {
		worked = worked || m.WasReady
		switch w.PhaseOf(m) {
		case state.Stopped:
			wanted = wanted || !m.Halted && (!w.held || m.Asked)
		case state.Failed:
			crashed = true
		case state.Planned:
		default:
			return ""
		}
	}
	switch {
	case !worked || !wanted && !crashed:
		return ""
	case crashed:
		return "all have ended"
	}
	return "all were stopped"
}

// takeColdStep takes the next step of starting a cluster of which nobody runs.
func (w *pass) takeColdStep(role *field.Role, r *state.Role, members []*state.Member) []state.Fact {
	given := func(m *state.Member) bool { return slices.Contains(r.Without, m.Name) }
	var facts []state.Fact
	if begins := w.Members[r.Begins]; begins != nil && begins.Phase != state.Gone && !begins.Leaving && !begins.Halted && !given(begins) {
		if w.IsReady(begins) {
			return []state.Fact{state.RoleWarm{Role: role.Name}}
		}
		return w.waits(r, membership.Wait{For: string(begins.Name) + ", which begins, to be ready"})
	}
	ready := true
	for _, m := range members {
		if m.Ordered.Want == order.Run {
			facts = append(facts, w.order(m, order.Stop, "nobody of "+string(role.Name)+" runs, and who begins is found out first"))
		}
		ready = ready && (m.Phase == state.Stopped || m.Ordered.Want == "" || w.Nodes[m.Node].Unreachable || given(m))
	}
	if len(facts) > 0 || !ready || r.Op != nil {
		return facts
	}
	var unread []string
	var unreadable []field.MemberName
	for _, m := range members {
		if m.Rank != nil || given(m) || m.Ordered.Want == "" {
			continue
		}
		if w.Nodes[m.Node].Unreachable {
			unread, unreadable = append(unread, fmt.Sprintf("%s (%s cannot be reached)", m.Name, m.Node)), append(unreadable, m.Name)
			continue
		}
		if m.Tries > 0 {
			unread, unreadable = append(unread, string(m.Name)), append(unreadable, m.Name)
		}
		if facts = w.ask(role, m, order.Rank, 0, ""); len(facts) > 0 && m.Tries == 0 {
			return facts
		}
	}
	if len(unread) > 0 {
		return append(facts, w.waits(r, membership.Wait{Blocked: true, For: fmt.Sprintf("the data of %s to be read: it may be the newest", strings.Join(unread, ", "))},
			state.Answer{Without: unreadable})...)
	}
	if len(facts) > 0 {
		return facts
	}
	var best *state.Member
	for _, m := range members {
		if m.Rank != nil && !given(m) && (best == nil || cmp.Compare(*m.Rank, *best.Rank) > 0 || *m.Rank == *best.Rank && best.Halted && !m.Halted) {
			best = m
		}
	}
	switch {
	case best == nil:
		return w.waits(r, membership.Wait{Blocked: true, For: "a member whose data is not given up"})
	case best.Halted:
		return w.waits(r, membership.Wait{Blocked: true, For: fmt.Sprintf("%s to be started too: its data is the newest", best.Name)},
			state.Answer{Start: []field.MemberName{best.Name}}, state.Answer{Without: []field.MemberName{best.Name}})
	}
	return []state.Fact{state.MemberBegins{Member: best.Name, Role: role.Name, Why: fmt.Sprintf("its data is at %g, and nobody's is further", *best.Rank)}}
}

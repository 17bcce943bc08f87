package rollout

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/core/wording"
)

// Consequences completes a review with what clients notice while it is carried out, and with what of it cannot be undone. What is noticed is what would be
// where a member failed as it is ended: one of a role at a time, since nobody that works is ended while another of its role is not ready.
func Consequences(s *state.State, r *plan.Review, now time.Time) {
	r.Notices, r.Lasting = notices(s, r.Steps, now), lasting(s, r.Steps)
}

// ended is whom of a role a review ends: those that come back, and those that do not.
type ended struct{ restarted, leaving []field.MemberName }

func notices(s *state.State, steps []plan.Step, now time.Time) []plan.Notice {
	if !s.Deployed() {
		return nil
	}
	of := map[field.RoleName]*ended{}
	var order []field.RoleName
	for _, step := range steps {
		m := s.Members[step.Member]
		if m == nil || !s.Works(m) || step.Kind != plan.Take && !(step.Kind == plan.Change && step.Restarts) {
			continue
		}
		e := of[step.Role]
		if e == nil {
			e = &ended{}
			of[step.Role] = e
			order = append(order, step.Role)
		}
		if step.Kind == plan.Take {
			e.leaving = append(e.leaving, step.Member)
		} else {
			e.restarted = append(e.restarted, step.Member)
		}
	}
	if len(order) == 0 {
		return nil
	}
	scene := snapshot.Of(s, now).Scene()
	var out []plan.Notice
	for _, role := range order {
		e := of[role]
		if len(e.restarted) > 0 {
			out = append(out, restarted(s, scene, role, e.restarted))
		}
		switch there := working(s, role); {
		case len(e.leaving) == 0 || !called(s.Field, role):
		case len(e.leaving) == there && !comes(steps, role):
			n := toldOf(scene, role, fmt.Sprintf("%s ends, and its clients get no answer any more", role), whatif.Fault{Role: role})
			n.Stops = true
			out = append(out, n)
		default:
			text := fmt.Sprintf("%s %s: who is connected there is cut off", wording.Members(e.leaving), wording.Plural(len(e.leaving), "leaves", "leave"))
			if leader := s.RoleOf(role).Leader; slices.Contains(e.leaving, leader) {
				text += fmt.Sprintf(", and writes wait until another than %s leads", leader)
			}
			out = append(out, plan.Notice{Role: role, Text: text})
		}
	}
	return out
}

// restarted tells what is noticed while members of a role are restarted one by one: by the one whose failure would cost most.
func restarted(s *state.State, scene *whatif.Scene, role field.RoleName, members []field.MemberName) plan.Notice {
	leader := s.RoleOf(role).Leader
	worst := leader
	if !slices.Contains(members, leader) { // those who vote are alike, and so are all others
		worst, leader = members[0], ""
		for _, m := range scene.Members {
			if m.Votes && slices.Contains(members, m.Name) {
				worst = m.Name
				break
			}
		}
	}
	how := fmt.Sprintf("while %s is restarted", members[0])
	if len(members) > 1 {
		how = fmt.Sprintf("while %d of %s are restarted one by one", len(members), role)
		if leader != "" {
			how += ", the leader last"
		}
	}
	n := toldOf(scene, role, how, whatif.Fault{Member: worst})
	n.Each = members
	return n
}

// toldOf words what a fault means for its role, and for whom else it stops.
func toldOf(scene *whatif.Scene, role field.RoleName, how string, fault whatif.Fault) plan.Notice {
	n := plan.Notice{Role: role, Text: how}
	sign := ": "
	for _, l := range scene.Fail(fault).Roles {
		words, weight := l.Words(false)
		if l.Already || l.Role != role && weight != whatif.Stopped || l.Role == role && fault.Role == role {
			continue
		}
		n.Stops = n.Stops || weight == whatif.Stopped
		n.Text += sign + words
		sign = "; "
	}
	return n
}

// called tells whether a role has clients: roles that call it, or people who come in by it.
func called(f *field.Field, role field.RoleName) bool {
	if r := f.Role(role); r != nil && r.Kind == field.Entry {
		return true
	}
	return slices.ContainsFunc(f.Roles, func(r field.Role) bool { return slices.Contains(r.Relied(), role) })
}

func working(s *state.State, role field.RoleName) int {
	n := 0
	for _, m := range s.MembersOf(role) {
		if s.Works(m) {
			n++
		}
	}
	return n
}

// comes tells whether members of a role are started.
func comes(steps []plan.Step, role field.RoleName) bool {
	return slices.ContainsFunc(steps, func(s plan.Step) bool { return s.Role == role && s.Kind == plan.Start })
}

// lasting lists what is gone for good.
func lasting(s *state.State, steps []plan.Step) []string {
	var out []string
	var lost []field.MemberName
	for _, step := range steps {
		switch m := s.Members[step.Member]; {
		case step.Lasts && step.Kind == plan.Take && m != nil:
			lost = append(lost, step.Member)
		case step.Lasts:
			out = append(out, step.Text)
		}
	}
	if len(lost) > 0 {
		out = slices.Insert(out, 0, fmt.Sprintf("the data of %s is gone with %s", wording.Members(lost), wording.Plural(len(lost), "it", "them")))
	}
	return out
}

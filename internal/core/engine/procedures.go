package engine

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// When a step of a procedure is due.
const (
	beforeStart = "before-start"
	afterStart  = "after-start"
	beforeStop  = "before-stop"
	afterStop   = "after-stop"
)

func due(procedure order.Procedure, step field.Step) string {
	if step.When != "" {
		return step.When
	}
	return map[order.Procedure]string{order.Join: beforeStart, order.Leave: beforeStop}[procedure]
}

// runProcedures takes the next step of every procedure that is due.
func (w *pass) runProcedures() []state.Fact {
	var facts []state.Fact
	for _, name := range slices.Sorted(maps.Keys(w.members)) {
		role, r := w.Field.Role(name), w.RoleOf(name)
		members := w.members[name]
		if w.Dissolving(name, members) {
			continue
		}
		if r.Op != nil {
			facts = append(facts, w.lost(r)...)
			continue
		}
		if !r.Founded {
			continue
		}
		if more, goOn := w.foundSteps(role, r); !goOn {
			facts = append(facts, more...)
			continue
		}
		if state.Procedural(role) && !r.Cold {
			facts = append(facts, w.change(role, r, members)...)
		}
	}
	return facts
}

// lost gives up an operation whose answer cannot be had any more: whether it has happened must be found out.
func (w *pass) lost(r *state.Role) []state.Fact {
	op := r.Op
	asked, member := w.Member(op.Asked), w.Member(op.Member)
	why := ""
	switch {
	case asked == nil || asked.Phase == state.Gone:
		why = fmt.Sprintf("%s is gone", op.Asked)
	case w.Nodes[asked.Node].Unreachable:
		why = fmt.Sprintf("%s, whose agent was to do it, cannot be reached", asked.Node)
	case member.Leaving && op.Procedure != order.Leave && op.Procedure != order.HandOver && !op.VerifyOnly:
		why = fmt.Sprintf("%s is not wanted any more", op.Member)
	default:
		return nil
	}
	return []state.Fact{state.OperationLost{Role: r.Name, Member: op.Member, ID: op.ID, Procedure: op.Procedure, Why: why}}
}

// foundSteps carries out what founds a cluster beyond starting its founders. It tells whether that is behind.
func (w *pass) foundSteps(role *field.Role, r *state.Role) (facts []state.Fact, behind bool) {
	if role.Program == nil || r.FoundSteps >= min(r.FoundDue, len(role.Program.Found)) {
		return nil, true
	}
	for _, name := range r.Founders {
		if m := w.Members[name]; m == nil || m.PID == 0 {
			return nil, false
		}
	}
	return w.ask(role, w.Members[r.Founders[0]], order.Found, r.FoundSteps, ""), false
}

// change makes the next change of a cluster's membership.
func (w *pass) change(role *field.Role, r *state.Role, members []*state.Member) []state.Fact {
	for _, m := range members {
		if facts, busy := w.unfinished(role, r, m); busy || len(facts) > 0 {
			return facts
		}
	}
	if r.HandedOver != "" && r.HandedOver == r.Leader {
		return nil // the cluster has not shown it yet
	}
	c := w.Cluster(role, members)
	if leader := w.Members[r.Leader]; leader != nil && leader.Tries >= handOverTries {
		c.HandsOver = false
	}
	open := w.open(role)
	for i, m := range members {
		c.Members[i].Absent = c.Members[i].Absent || !open && c.Members[i].Seat == membership.Outside
		if w.unlisted(role, m) && c.Learners {
			c.Members[i].Seat = membership.Learner
		} else if w.unlisted(role, m) {
			c.Members[i].Seat = membership.Voter
		}
	}
	next, waits := membership.Next(c)
	m := w.Members[next.Member]
	switch next.Kind {
	case membership.Admit:
		if i := m.Steps[order.Join]; i < len(role.Program.Join) && (due(order.Join, role.Program.Join[i]) == beforeStart || m.PID != 0) {
			return w.ask(role, m, order.Join, i, "")
		}
		if !m.Admitted {
			return []state.Fact{admitted(role, m)}
		}
	case membership.Promote:
		if i := m.Steps[order.Promote]; i < len(role.Program.Promote) {
			return w.ask(role, m, order.Promote, i, "")
		}
	case membership.HandOver:
		return w.ask(role, m, order.HandOver, m.Steps[order.HandOver], next.To)
	case membership.Dismiss:
		return w.dismiss(role, m)
	case membership.None:
		if m := w.needed(role, c, members); m != nil {
			return []state.Fact{w.order(m, order.Run, "its vote is needed")}
		}
		return w.waits(r, waits)
	}
	return nil
}

// needed finds a member that was to leave and has ended too early: it still has a vote, and the cluster cannot do without.
func (w *pass) needed(role *field.Role, c *membership.Cluster, members []*state.Member) *state.Member {
	if voters, healthy := c.Votes(); !role.Votes || healthy >= quorum.Needed(voters) {
		return nil
	}
	for _, m := range members {
		if m.Leaving && !m.Halted && m.Ordered.NoRestart && m.Phase == state.Stopped && w.Seat(role, m) == membership.Voter && !w.Nodes[m.Node].Unreachable {
			return m
		}
	}
	return nil
}

func (w *pass) waits(r *state.Role, wait membership.Wait, answers ...state.Answer) []state.Fact {
	if wait == r.Waits && reflect.DeepEqual(answers, r.Answers) {
		return nil
	}
	return []state.Fact{state.ChangeWaits{Role: r.Name, For: wait.For, Blocked: wait.Blocked, Answers: answers}}
}

// unlisted tells whether a member that leaves has joined, and its cluster's list was last read before that.
func (w *pass) unlisted(role *field.Role, m *state.Member) bool {
	return m.Leaving && !m.Left && !m.Founding && m.Steps[order.Join] > 0 && !m.Listed && w.RoleOf(role.Name).Roster != nil && m.Steps[order.Leave] == 0 && len(role.Program.Leave) > 0
}

// unfinished looks at what has been done about one member and has not shown yet. Busy says that the cluster must show
// it before anything else is changed.
func (w *pass) unfinished(role *field.Role, r *state.Role, m *state.Member) (facts []state.Fact, busy bool) {
	p, seat := role.Program, w.Seat(role, m)
	known := r.Roster != nil
	switch {
	case m.Left:
		return nil, false
	case m.Leaving && seat == membership.Outside:
		if m.Unsettled == order.Join {
			return w.ask(role, m, order.Join, m.Steps[order.Join], ""), true
		}
		if w.unlisted(role, m) {
			return nil, false
		}
		if i := m.Steps[order.Leave]; i > 0 && i < len(p.Leave) && due(order.Leave, p.Leave[i]) == afterStop {
			return w.dismiss(role, m), true
		}
		return []state.Fact{state.MemberLeft{Member: m.Name}}, true
	case !m.Leaving && (m.Unsettled == order.Join || m.Unsettled == order.Promote):
		return w.ask(role, m, m.Unsettled, m.Steps[m.Unsettled], ""), true
	case m.Leaving:
		return nil, m.Steps[order.Leave] >= len(p.Leave) && len(p.Leave) > 0 // its list shall show it
	case !m.Founding && !m.Admitted && m.Steps[order.Join] == w.firstAfterStart(p) && m.Steps[order.Join] > 0:
		return []state.Fact{admitted(role, m)}, true
	case !m.Founding && !m.Admitted && seat != membership.Outside && m.Steps[order.Join] < w.firstAfterStart(p): // let in by hand
		return w.ask(role, m, order.Join, m.Steps[order.Join], ""), true
	case !m.Founding && m.Admitted && m.Steps[order.Join] >= len(p.Join) && known && !m.Listed:
		return nil, true
	case len(p.Promote) > 0 && m.Steps[order.Promote] >= len(p.Promote) && known && seat == membership.Learner:
		return nil, true
	}
	return nil, false
}

// firstAfterStart counts the steps of joining that come before the start.
func (w *pass) firstAfterStart(p *field.Program) int {
	for i, step := range p.Join {
		if due(order.Join, step) != beforeStart {
			return i
		}
	}
	return len(p.Join)
}

// dismiss takes a member out of its cluster. Its agent knows before the cluster does that it shall not start it again.
func (w *pass) dismiss(role *field.Role, m *state.Member) []state.Fact {
	reachable := !w.Nodes[m.Node].Unreachable
	if reachable && m.Ordered.Want == order.Run && !m.Ordered.NoRestart {
		o := w.order(m, order.Run, "it leaves "+string(role.Name))
		o.Order.NoRestart = true
		return []state.Fact{o}
	}
	if reachable && m.Ordered.Revision > m.Taken {
		return nil
	}
	i := m.Steps[order.Leave]
	if len(role.Program.Leave) == 0 {
		return []state.Fact{state.MemberLeft{Member: m.Name}}
	}
	if i >= len(role.Program.Leave) {
		return nil
	}
	if next := w.nextOf(role.Program.Leave, i, m); next != i {
		return []state.Fact{state.StepsSkipped{Member: m.Name, Procedure: order.Leave, Done: next}}
	}
	if reachable && due(order.Leave, role.Program.Leave[i]) == afterStop {
		if m.Ordered.Want == order.Run {
			return []state.Fact{w.order(m, order.Stop, "it leaves "+string(role.Name))}
		}
		if m.Phase != state.Stopped {
			return nil
		}
	}
	return w.ask(role, m, order.Leave, i, "")
}

// nextOf gives the next step of leaving, from one on, that is for a member as it is: live or dead.
func (w *pass) nextOf(steps []field.Step, from int, m *state.Member) int {
	for i, s := range steps[from:] {
		if s.Of == "" || (s.Of == "live") == m.Lived {
			return from + i
		}
	}
	return len(steps)
}

// admitted says that a member may be started, and how much of joining is to be done in all.
func admitted(role *field.Role, m *state.Member) state.MemberAdmitted {
	return state.MemberAdmitted{Member: m.Name, Steps: len(role.Program.Join)}
}

// handOverTries is how often a leader that leaves is asked to hand over before it leaves without.
const handOverTries = 2

// How long the engine has a procedure wait that was refused until the time to retry was over.
const (
	againAfter = time.Second
	againMost  = 30 * time.Second
	// An agent that is cut off gives up trying after a few seconds; a call that it has made may take as long again.
	triesOn = 20 * time.Second
)

// ask has one step of a procedure carried out by the agent of whoever is to be called.
func (w *pass) ask(role *field.Role, m *state.Member, procedure order.Procedure, index int, target field.MemberName) []state.Fact {
	r := w.RoleOf(role.Name)
	steps := render.Steps(role.Program, procedure)
	if m.Stuck || index >= len(steps) {
		return nil
	}
	asked, waits := w.whom(role, m, steps[index])
	lag := time.Duration(0)
	if m.Tries > 1 || m.Tries > 0 && m.Unsettled == "" {
		lag = min(againAfter<<min(m.Tries-1, 5), againMost)
	}
	settle := m.Leaving && procedure == order.Join
	if before := w.Member(m.LastAsked); settle && before != nil {
		if before.Phase != state.Gone && !w.Nodes[before.Node].Unreachable {
			asked = before // its agent then stops trying
		} else {
			lag = triesOn // so that it has stopped trying by itself
		}
	}
	if asked == nil {
		return w.waits(r, membership.Wait{For: waits})
	}
	scene := w.scene()
	subject := scene.Members[m.Name]
	if subject.Via == "" && !m.Founding {
		subject.Via = w.admits(role, m)
		scene.Members[m.Name] = subject
	}
	changing := render.Secret{}
	if procedure == order.ChangeSecret {
		name := w.SecretsDue(role.Name)[0]
		changing = w.SecretOf(name).Newest(name)
		scene.Changing = changing
	}
	step, err := scene.Step(m.Name, procedure, index, target)
	if err != nil {
		w.err = err
		return nil
	}
	spec, err := scene.Spec(asked.Name)
	if err != nil {
		w.err = err
		return nil
	}
	w.revision = max(w.revision, w.Revision) + 1
	op := order.Operation{ID: w.revision, Term: w.Term, Member: m.Name, Asked: asked.Name, Procedure: procedure, Step: index,
		Last: index == len(steps)-1, VerifyFirst: m.Unsettled == procedure || step.DoneWhen != "" && w.already(role, m, procedure), Do: step,
		Spec: &order.Spec{Role: spec.Role, Address: spec.Address, LookIn: spec.LookIn, User: spec.User, IfRoot: spec.IfRoot, Ports: spec.Ports, Env: spec.Env, Roster: spec.Roster, TLS: spec.TLS}}
	if op.VerifyOnly, op.Delay = settle, lag; procedure == order.ChangeSecret {
		op.Secret, op.Number = changing.Name, changing.Number
		op.Spec.Env = maps.Clone(op.Spec.Env)
		if op.Spec.Env == nil {
			op.Spec.Env = map[string]string{}
		}
		op.Spec.Env[NewSecret] = changing.Mark()
	}
	return []state.Fact{state.OperationAsked{Role: role.Name, Operation: op, Via: subject.Via}}
}

// already tells whether what a procedure is to bring about may be so: somebody has let the member in by hand, or it is not known to have come in.
func (w *pass) already(role *field.Role, m *state.Member, procedure order.Procedure) bool {
	return procedure == order.Leave && w.unlisted(role, m) || procedure == order.Join && w.RoleOf(role.Name).Roster != nil && w.Seat(role, m) != membership.Outside
}

// admits is who leads as a member joins; where nobody does, another member that works.
func (w *pass) admits(role *field.Role, m *state.Member) field.MemberName {
	if leader := w.RoleOf(role.Name).Leader; leader != "" {
		return leader
	}
	for _, o := range w.members[role.Name] {
		if o != m && !o.Leaving && w.Works(o) && w.Seat(role, o) == membership.Voter {
			return o.Name
		}
	}
	return ""
}

// whom finds the member that a step is carried out on, or says for what it waits.
func (w *pass) whom(role *field.Role, m *state.Member, step field.Step) (*state.Member, string) {
	fit := func(o *state.Member) bool {
		return o != nil && o != m && w.Works(o) && w.Seat(role, o) == membership.Voter
	}
	leader := w.Members[w.RoleOf(role.Name).Leader]
	switch step.On {
	case "leader":
		if leader != nil && w.Works(leader) {
			return leader, ""
		}
		if role.Program.Leader != nil {
			return nil, fmt.Sprintf("somebody to lead %s", role.Name)
		}
		fallthrough
	case "peer":
		if fit(leader) {
			return leader, "" // its agent sees first what changes
		}
		for _, staying := range []bool{true, false} {
			for _, o := range w.members[role.Name] {
				if fit(o) && o.Leaving != staying {
					return o, ""
				}
			}
		}
		return nil, fmt.Sprintf("another member of %s that works", role.Name)
	}
	if w.Nodes[m.Node].Unreachable {
		return nil, fmt.Sprintf("%s to answer", m.Node)
	}
	return m, ""
}

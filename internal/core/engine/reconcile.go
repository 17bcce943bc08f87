package engine

import (
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// step is one question that a pass asks: what of this kind is to be done next?
type step struct {
	name   string // for who reads this list
	decide func(*pass) []state.Fact
	// held says that it is asked also while the rollout is held: what a person asks for of single members is done all the same.
	held bool
}

// steps are the questions of a pass, in their order. The first that is answered ends the pass: its facts are applied, and the next pass
// begins anew. The order matters:
//
//   - Who refused a change stops the rollout before anybody else is given it.
//   - A cluster of which nothing is left is dissolved before its members are planned anew, so that they found another.
//   - Nodes are asked for before members are planned on them.
//   - Members are planned before founders are chosen among them, and founders are frozen before a procedure or a start needs them.
//   - Certificates are issued before anything is rendered for those who have them.
//   - Programs take another secret by steps before any file has it.
//   - Procedures come before starts, since they let members in; a cold start comes before starts too, since it says who begins.
//   - Who is to stop, or to go, is told before others are restarted, so that a restart waits for them.
//   - A restart brings the new spec with it, so restarts come before the specs of those that are not restarted.
//   - Tasks end by themselves, beside a rollout.
//   - Nodes are freed when nothing is left on them, and the rollout ends when nothing is left to do. Only then is proved what it has brought.
var steps = []step{
	{name: "stop the rollout on a refusal", decide: (*pass).stopOnRefusal},
	{name: "dissolve clusters without members", decide: (*pass).dissolveClusters},
	{name: "ask for nodes", decide: (*pass).askForNodes},
	{name: "plan members", decide: (*pass).planMembers},
	{name: "freeze founders", decide: (*pass).freezeFounders},
	{name: "issue certificates", decide: (*pass).issueCertificates, held: true},
	{name: "change secrets", decide: (*pass).changeSecrets, held: true},
	{name: "run procedures", decide: (*pass).runProcedures},
	{name: "start cold clusters", decide: (*pass).coldStart, held: true},
	{name: "start members", decide: (*pass).startMembers, held: true},
	{name: "stop members", decide: (*pass).stopMembers, held: true},
	{name: "remove members", decide: (*pass).removeMembers},
	{name: "delete kept data", decide: (*pass).deleteKeptData},
	{name: "restart the next member", decide: (*pass).restartNext, held: true},
	{name: "update specs", decide: (*pass).updateSpecs},
	{name: "free nodes", decide: (*pass).freeNodes},
	{name: "prove what gates wait for", decide: (*pass).proveForGates},
	{name: "end tasks", decide: (*pass).endTasks, held: true},
	{name: "end the rollout", decide: (*pass).endRollout},
	{name: "prove what was deployed", decide: (*pass).proveDeployed},
}

// decide looks for the next thing to do. Each step decides from the state alone, so that a controller which died at any
// event finds its place again.
func (reconcile) decide(s *state.State) ([]state.Fact, error) {
	if !s.Deployed() {
		return nil, nil
	}
	if s.Listening() > 0 {
		return nil, nil // first hear how things are, then decide
	}
	if s.Refused() {
		return nil, nil // this log lacks something: a person has to say how it goes on
	}
	w := &pass{State: s, members: s.ByRole(), held: s.Rollout.Held() || s.Stalled != ""}
	if s.Retiring {
		w.held = false
		return w.takeDown(), nil
	}
	for _, step := range steps {
		if w.held && !step.held {
			continue
		}
		if facts := step.decide(w); len(facts) > 0 {
			return facts, w.err
		}
	}
	return nil, w.err
}

// pass is one look for the next thing to do.
type pass struct {
	*state.State
	members  map[field.RoleName][]*state.Member
	revision uint64 // of the newest order of this look
	drawn    *render.Scene
	held     bool // nothing of the rollout is begun
	err      error

	newAddresses map[field.RoleName]bool // roles of which a node is to be given more addresses
}

// order is a new order for a member; what it runs with stays as it was ordered before.
func (w *pass) order(m *state.Member, want order.Want, why string) state.MemberOrdered {
	w.revision = max(w.revision, w.Revision) + 1
	o := order.Order{Term: w.Term, Revision: w.revision, Member: m.Name, Want: want, Round: m.Ordered.Round, Spec: m.Ordered.Spec}
	return state.MemberOrdered{Order: o, Why: why}
}

// scene is what templates see, drawn once a pass.
func (w *pass) scene() *render.Scene {
	if w.drawn == nil {
		w.drawn = w.Scene()
	}
	return w.drawn
}

// spec renders what the member's agent needs; via is who admits the member where that is only being decided.
func (w *pass) spec(m *state.Member, via field.MemberName) *order.Spec {
	w.scene()
	if via != "" {
		joiner := w.drawn.Members[m.Name]
		joiner.Via = via
		w.drawn.Members[m.Name] = joiner
	}
	spec, err := w.drawn.Spec(m.Name)
	if err != nil {
		w.err = err
		return nil
	}
	return spec
}

// active are the members of a role that are there to stay.
func (w *pass) active(role field.RoleName) []*state.Member {
	return slices.DeleteFunc(slices.Clone(w.members[role]), func(m *state.Member) bool { return m.Leaving })
}

package review

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// finalScene is who is who when a draft has been deployed: with those who come and without those who leave.
func finalScene(s *state.State, draft *field.Field, p plan.Plan) *render.Scene {
	shadow := *s
	shadow.Field = draft
	scene := shadow.Scene()
	scene.Supposed = render.SupposedWord
	supposeNodes(s, scene, draft)
	for _, x := range p.Removes {
		gone := scene.Members[x.Member]
		gone.Leaving = true
		scene.Members[x.Member] = gone
		same := func(m field.MemberName) bool { return m == x.Member }
		scene.Joined[x.Role] = slices.DeleteFunc(scene.Joined[x.Role], same)
		scene.Wanted[x.Role] = slices.DeleteFunc(scene.Wanted[x.Role], same)
	}
	for role, names := range scene.Wanted { // who is on the way will have joined
		joined := setOf(scene.Joined[role])
		for _, name := range names {
			if !joined[name] {
				scene.Joined[role] = append(scene.Joined[role], name)
			}
		}
	}
	addTo(s, scene, draft, p.Adds)
	for _, names := range scene.Joined {
		slices.SortFunc(names, func(a, b field.MemberName) int { return a.Number() - b.Number() })
	}
	return scene
}

func setOf(names []field.MemberName) map[field.MemberName]bool {
	set := make(map[field.MemberName]bool, len(names))
	for _, name := range names {
		set[name] = true
	}
	return set
}

// bindingOf is what the ground has given for a node, with the names of what it has not given yet.
func bindingOf(s *state.State, node field.NodeName, networks []string) state.Binding {
	at := state.Binding{Address: "<" + string(node) + ">", Dir: "<folder of " + string(node) + ">"}
	if n := s.Nodes[node]; n != nil && !n.Released && n.There() {
		at = n.Binding()
	}
	given := at.Addresses
	at.Addresses = map[string]string{}
	for _, network := range networks {
		at.Addresses[network] = cmp.Or(given[network], "<"+string(node)+" on "+network+">")
	}
	return at
}

// supposeNodes completes a scene of a state for a draft: nodes that are not there yet will be, on all networks of the draft.
func supposeNodes(s *state.State, scene *render.Scene, draft *field.Field) {
	wanted := map[field.RoleName]map[field.MemberName]bool{}
	for role, names := range scene.Wanted {
		wanted[role] = setOf(names)
	}
	for _, m := range state.SortedMembers(s) {
		drawn, there := scene.Members[m.Name]
		if !there {
			continue
		}
		at := bindingOf(s, m.Node, draft.Networks)
		drawn.Address, drawn.NodeDir = at.Address, at.Dir
		for network, address := range drawn.Addresses {
			at.Addresses[network] = address
		}
		drawn.Addresses = at.Addresses
		scene.Members[m.Name] = drawn
		if !m.Leaving && m.Phase != state.Gone && !wanted[m.Role][m.Name] {
			scene.Wanted[m.Role] = append(scene.Wanted[m.Role], m.Name)
		}
	}
}

// addTo puts those who come into a scene: founders where their cluster is not founded yet, and else as admitted by who leads.
func addTo(s *state.State, scene *render.Scene, draft *field.Field, adds []place.Member) {
	founding := map[field.RoleName]bool{}
	for i := range draft.Roles {
		r := s.Roles[draft.Roles[i].Name]
		founding[draft.Roles[i].Name] = len(scene.Joined[draft.Roles[i].Name]) == 0 || r != nil && !r.Founded
	}
	for _, a := range adds {
		role := draft.Role(a.Role)
		founds := founding[a.Role] && role.Founds(len(scene.Founders[a.Role]))
		m := state.SceneMember(draft.Node(a.Node), a, bindingOf(s, a.Node, draft.Networks), founds, "")
		if founds {
			scene.Founders[a.Role] = append(slices.Clone(scene.Founders[a.Role]), a.Name)
		} else if joined := scene.Joined[a.Role]; len(joined) > 0 {
			m.Via, m.ID, m.Captured = joined[0], "<id>", capturedBy(role.Program)
			if r := s.Roles[a.Role]; r != nil && r.Leader != "" && slices.Contains(joined, r.Leader) {
				m.Via = r.Leader
			}
		}
		scene.Members[a.Name] = m
		scene.Joined[a.Role] = append(scene.Joined[a.Role], a.Name)
		scene.Wanted[a.Role] = append(scene.Wanted[a.Role], a.Name)
	}
}

// changeSteps finds the members that stay and whose configuration, or rest, the draft would change, and those that are
// restarted since the configuration with which they start does not list all that it will have to.
//
// Configuration is rendered as it will be in the end: with those who come and without those who leave, so that what
// follows their coming and going is in the review too.
func changeSteps(s *state.State, draft *field.Field, p plan.Plan, stages map[field.RoleName]int) ([]plan.Step, error) {
	scene := finalSceneOf(s, draft, p)
	leaving := map[field.MemberName]bool{}
	for _, x := range p.Removes {
		leaving[x.Member] = true
	}
	var steps []plan.Step
	for _, stage := range draft.Stages() {
		for _, role := range stage {
			for _, m := range s.MembersOf(role) {
				if leaving[m.Name] || m.Leaving || m.Ordered.Spec == nil {
					continue
				}
				step := plan.Step{Stage: stages[role], Kind: plan.Change, Member: m.Name, Role: role, Node: m.Node, Zone: zoneOf(draft, m.Node)}
				if m.Halted {
					step.Kind, step.Text = plan.Start, fmt.Sprintf("start %s again on %s, with its data", m.Name, m.Node)
					steps = append(steps, step)
					continue
				}
				spec, err := scene.Spec(m.Name)
				if err != nil {
					return nil, err
				}
				if step.Text = wordChange(s, m, spec); step.Text != "" {
					step.Restarts = order.Effect(m.Runs(), spec) == field.OnRestart
					step.Due = m.RestartDue && m.Unfit == "" && order.Effect(m.Runs(), spec) == field.OnRestart && sameDraft(s, draft)
					steps = append(steps, step)
				}
			}
			again, err := startedAgain(s, draft, p, scene, role)
			if err != nil {
				return nil, err
			}
			for _, a := range again {
				a.Stage, a.Zone = stages[role], zoneOf(draft, a.Node)
				steps = append(steps, a)
			}
		}
	}
	return steps, nil
}

func finalSceneOf(s *state.State, draft *field.Field, p plan.Plan) *render.Scene {
	if s.Field == nil {
		fresh := *s
		fresh.Field = draft
		return finalScene(&fresh, draft, p)
	}
	return finalScene(s, draft, p)
}

// sameDraft tells whether a draft is what was deployed last.
func sameDraft(s *state.State, draft *field.Field) bool {
	return s.Rollout.Active() && s.Field != nil && reflect.DeepEqual(s.Field, draft)
}

// wordChange words what giving a member another spec leads to; "" when that is nothing.
func wordChange(s *state.State, m *state.Member, spec *order.Spec) string {
	running := m.PID != 0
	from := m.Ordered.Spec
	if running && (m.Undone || m.RestartDue) {
		from = m.Runs()
	}
	if !running || len(order.Differences(from, spec)) == 0 && !m.Undone {
		if differences := order.Differences(m.Ordered.Spec, spec); !running && len(differences) > 0 {
			return fmt.Sprintf("change %s of %s, which is used when it is started next", order.Named(differences), m.Name)
		}
		return ""
	}
	var atOnce, other []order.Difference
	for _, d := range order.Differences(m.Runs(), spec) {
		if d.AtOnce {
			atOnce = append(atOnce, d)
		} else {
			other = append(other, d)
		}
	}
	if len(other) == 0 && len(atOnce) == 0 && m.Undone {
		return fmt.Sprintf("leave %s as it runs: what it refused is taken back", m.Name)
	}
	if len(other) == 0 && len(atOnce) == 0 {
		return fmt.Sprintf("leave %s as it runs: what it was to take at its next start is taken back", m.Name)
	}
	then := map[field.OnChange]string{field.OnRestart: "restarts it", field.OnReload: "has it read its files again",
		field.OnApply: "is brought to it by a call", field.OnItself: "is written, and it reads it by itself", field.OnNextStart: "takes effect at its next start"}[order.Effect(m.Runs(), spec)]
	switch {
	case len(other) == 0:
		return fmt.Sprintf("change %s of %s, which takes effect at once", order.Named(atOnce), m.Name)
	case len(atOnce) == 0 || order.Effect(m.Runs(), spec) == field.OnRestart:
		return fmt.Sprintf("change %s of %s, which %s", order.Named(append(other, atOnce...)), m.Name, then)
	}
	return fmt.Sprintf("change %s of %s, which %s, and at once %s", order.Named(other), m.Name, then, order.Named(atOnce))
}

// startedAgain finds the members that come and are restarted once their whole role has joined: who starts before the others
// is started with a configuration that does not list them.
func startedAgain(s *state.State, draft *field.Field, p plan.Plan, final *render.Scene, name field.RoleName) ([]plan.Step, error) {
	role := draft.Role(name)
	if role.Program == nil || !lists(role.Program) || !restarts(role.Program) {
		return nil, nil
	}
	founded := s.Roles[name] != nil && s.Roles[name].Founded && len(s.MembersOf(name)) > 0
	all := final.Joined[name]
	defer func() { final.Joined[name] = all }()
	var there []field.MemberName // joined when the next one starts
	coming := map[field.MemberName]bool{}
	for _, a := range p.Adds {
		coming[a.Name] = a.Role == name
	}
	for _, m := range all {
		if !coming[m] {
			there = append(there, m)
		}
	}
	var steps []plan.Step
	index := 0
	for _, a := range p.Adds {
		if a.Role != name {
			continue
		}
		last, err := final.Spec(a.Name)
		if err != nil {
			return nil, err
		}
		switch {
		case !founded && role.Start == field.Together && !state.Procedural(role): // all are listed from the first
			index++
			continue
		default:
			final.Joined[name] = append(slices.Clone(there), a.Name)
		}
		first, err := final.Spec(a.Name)
		final.Joined[name] = all
		if err != nil {
			return nil, err
		}
		if order.Effect(first, last) == field.OnRestart {
			steps = append(steps, plan.Step{Kind: plan.Change, Restarts: true, Member: a.Name, Role: name, Node: a.Node,
				Text: fmt.Sprintf("restart %s once when all of %s have joined: %s lists them", a.Name, name, order.Named(order.Differences(first, last)))})
		}
		if role.Start != field.SeedFirst || state.Procedural(role) || index == 0 && !founded { // the others of seed-first start at the same time
			there = append(there, a.Name)
		}
		index++
	}
	return steps, nil
}

// lists tells whether a program's templates mention the members that have joined.
func lists(p *field.Program) bool {
	mentions := func(text string) bool { return strings.Contains(text, ".Joined") }
	for _, f := range p.Files {
		if mentions(f.Template) {
			return true
		}
	}
	for _, e := range p.Env {
		if mentions(string(e)) {
			return true
		}
	}
	return slices.ContainsFunc(p.Command, mentions)
}

// restarts tells whether some change of a program's configuration restarts it.
func restarts(p *field.Program) bool {
	for _, f := range p.Files {
		if f.OnChange == field.OnRestart {
			return true
		}
	}
	return p.OnChange == field.OnRestart
}

// due lists what was ordered before and is not done yet.
func due(s *state.State, draft *field.Field, p plan.Plan, stages map[field.RoleName]int) []plan.Step {
	if !s.Deployed() {
		return nil
	}
	leaves := map[field.MemberName]bool{}
	for _, x := range p.Removes {
		leaves[x.Member] = true
	}
	var steps []plan.Step
	for _, m := range state.SortedMembers(s) {
		step := plan.Step{Stage: stages[m.Role], Member: m.Name, Role: m.Role, Node: m.Node, Zone: zoneOf(draft, m.Node), Due: true}
		phase := s.PhaseOf(m)
		switch {
		case m.Phase == state.Gone || leaves[m.Name]:
			continue
		case m.Leaving:
			step.Kind, step.Text = plan.Take, fmt.Sprintf("finish taking %s off %s", m.Name, m.Node)
		case m.Halted || draft.Role(m.Role) == nil || s.IsReady(m):
			continue
		case m.Ordered.Revision == 0:
			step.Kind, step.Text = plan.Start, fmt.Sprintf("start %s on %s, where it is placed already", m.Name, m.Node)
		default:
			step.Kind, step.Text = plan.Start, fmt.Sprintf("get %s ready on %s: it is %s", m.Name, m.Node, phase)
			if m.Why != "" && (phase == state.Failed || phase == state.Unready) {
				step.Text += " (" + m.Why + ")"
			}
		}
		steps = append(steps, step)
	}
	for i := range draft.Roles {
		role := &draft.Roles[i]
		if s.Founding(role) {
			steps = append(steps, plan.Step{Stage: stages[role.Name], Kind: plan.Start, Role: role.Name, Due: true,
				Text: fmt.Sprintf("finish founding %s: %d of %d steps are done", role.Name, s.Roles[role.Name].FoundSteps, s.Roles[role.Name].FoundDue)})
		}
	}
	return steps
}

// pendings collects what members take at their next start only, role by role.
func pendings(s *state.State, draft *field.Field, p plan.Plan) []plan.Pending {
	if !s.Deployed() {
		return nil
	}
	var out []plan.Pending
	for i := range draft.Roles {
		for _, m := range s.MembersOf(draft.Roles[i].Name) {
			what := order.Named(m.Pending())
			if what == "" || slices.ContainsFunc(p.Removes, func(x plan.Remove) bool { return x.Member == m.Name }) {
				continue
			}
			what = wording.Changed(what)
			if j := slices.IndexFunc(out, func(o plan.Pending) bool { return o.Role == m.Role && o.What == what }); j >= 0 {
				out[j].Members = append(out[j].Members, m.Name)
				continue
			}
			out = append(out, plan.Pending{Role: m.Role, Members: []field.MemberName{m.Name}, What: what})
		}
	}
	return out
}

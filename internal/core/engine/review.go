package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/render"
)

// Review lists exactly what deploying the draft would change, in order. It uses the same comparison and the same
// rendering as the rollout itself.
func Review(s *State, draft *field.Field) (*plan.Review, error) {
	r := &plan.Review{Field: draft.Name, Gates: plan.Gates(draft)}
	if s.Retired || s.Field == nil {
		s = NewState()
	}
	if s.Retiring {
		return nil, fmt.Errorf("%s is being retired; wait until it is gone", draft.Name)
	}
	draft = plan.Grow(draft, s.live())
	if err := s.guard(draft); err != nil {
		return nil, err
	}
	p := plan.Make(draft, s.live())
	stages := plan.StageOf(draft)
	r.Unplaced = p.Unplaced
	for _, n := range draft.Nodes {
		if bound := s.Nodes[n.Name]; bound == nil || bound.Released {
			r.Steps = append(r.Steps, plan.Step{Kind: plan.Prepare, Node: n.Name, Zone: n.Zone,
				Text: fmt.Sprintf("start the agent of %s", n.Name)})
		}
	}
	added := map[field.RoleName]int{}
	for _, a := range p.Adds {
		role := draft.Role(a.Role)
		text := fmt.Sprintf("place %s on %s and start it", a.Name, a.Node)
		if before := s.Members[a.Name]; before != nil && before.Kept {
			text = fmt.Sprintf("start %s again on %s, with the data that was kept of it", a.Name, a.Node)
		}
		founded := s.Roles[a.Role]
		switch fresh := founded == nil || !founded.Founded; {
		case fresh && !role.Votes && role.Start == field.Together:
		case fresh && role.Founds(added[a.Role]):
			text += ", founding " + string(a.Role)
		case len(role.Program.Promote) > 0:
			text += fmt.Sprintf("; it joins %s as a learner, and votes when it has caught up", a.Role)
		case len(role.Program.Join) > 0:
			text += fmt.Sprintf("; it joins %s", a.Role)
		}
		added[a.Role]++
		r.Steps = append(r.Steps, plan.Step{Stage: stages[a.Role], Kind: plan.Start, Member: a.Name, Role: a.Role, Node: a.Node,
			Zone: zoneOf(draft, a.Node), Text: text})
	}
	for _, x := range p.Removes {
		text := fmt.Sprintf("take %s off %s for good, with its data (%s)", x.Member, x.Node, x.Why)
		if m := s.Members[x.Member]; s.keeps(draft, m) && draft.Node(x.Node) != nil {
			text = fmt.Sprintf("take %s off %s (%s); its data is kept there", x.Member, x.Node, x.Why)
		}
		if role := draft.Role(x.Role); role != nil && role.Members > 0 && len(role.Program.Leave) > 0 {
			first := fmt.Sprintf("remove %s from the members of %s", x.Member, x.Role)
			if s.role(x.Role).Leader == x.Member && s.works(s.Members[x.Member]) && len(role.Program.HandOver) > 0 {
				first = fmt.Sprintf("have %s hand over the lead and remove it from the members of %s", x.Member, x.Role)
			}
			text = first + ", then " + text
		}
		r.Steps = append(r.Steps, plan.Step{Stage: stages[x.Role], Kind: plan.Take, Member: x.Member, Role: x.Role, Node: x.Node,
			Zone: zoneOf(draft, x.Node), Text: text, Why: x.Why, Moves: x.Moves})
	}
	changes, err := changeSteps(s, draft, p, stages)
	if err != nil {
		return nil, err
	}
	r.Steps = append(r.Steps, changes...)
	r.Steps = append(r.Steps, s.clearing(draft)...)
	r.Steps = append(r.Steps, s.due(draft, p, stages)...)
	r.Pending = s.pendings(draft, p)
	plan.SortSteps(r.Steps)
	return r, nil
}

// keeps tells whether the data of a member would be kept when the draft removes it.
func (s *State) keeps(draft *field.Field, m *Member) bool {
	if r := draft.Role(m.Role); r != nil {
		return r.Keeps()
	}
	return m.Keeps
}

// clearing lists the data that is kept no longer, and the nodes that the draft has no more.
func (s *State) clearing(draft *field.Field) []plan.Step {
	var steps []plan.Step
	lost := map[field.NodeName][]string{}
	for _, m := range SortedMembers(s) {
		switch {
		case m.Phase != Gone || !m.Kept:
		case draft.Node(m.Node) == nil:
			lost[m.Node] = append(lost[m.Node], string(m.Name))
		case !s.keeps(draft, m):
			steps = append(steps, plan.Step{Kind: plan.Forget, Member: m.Name, Role: m.Role, Node: m.Node, Zone: zoneOf(draft, m.Node),
				Text: fmt.Sprintf("delete the data kept of %s on %s, %s", m.Name, m.Node, field.Bytes(m.Bytes))})
		}
	}
	for _, n := range SortedNodes(s) {
		if n.Released || draft.Node(n.Name) != nil {
			continue
		}
		text := fmt.Sprintf("end the agent of %s and remove its folder", n.Name)
		if names := lost[n.Name]; len(names) > 0 {
			text += ", with the data kept there of " + strings.Join(names, ", ")
		}
		steps = append(steps, plan.Step{Kind: plan.Free, Node: n.Name, Text: text})
	}
	return steps
}

func zoneOf(f *field.Field, node field.NodeName) field.ZoneName {
	if n := f.Node(node); n != nil {
		return n.Zone
	}
	return ""
}

// MostTried is how many members a draft may have for each of them to be rendered whenever it is looked at.
const MostTried = 200

// tried chooses the members of a large draft whose templates are executed while it is edited: of each role the first and
// the last, and the first in two more zones.
func tried(adds []place.Member, nodes map[field.NodeName]*field.Node) []place.Member {
	var out []place.Member
	zones := map[field.ZoneName]bool{}
	for i, a := range adds {
		first, last := i == 0 || adds[i-1].Role != a.Role, i == len(adds)-1 || adds[i+1].Role != a.Role
		if first {
			zones = map[field.ZoneName]bool{}
		}
		zone := nodes[a.Node].Zone
		if first || last || !zones[zone] && len(zones) < 3 {
			out = append(out, a)
		}
		zones[zone] = true
	}
	return out
}

// TryTemplates renders the members of a draft as if it were deployed afresh, both founding and joining, and gives every
// template that cannot be executed. Adds must come from a plan for an empty live field. Of a draft with more than
// MostTried members a few of each role are rendered, unless all are asked for.
func TryTemplates(draft *field.Field, adds []place.Member, all bool) []*render.Error {
	sc := &render.Scene{Field: draft, Members: map[field.MemberName]render.Member{},
		Founders: map[field.RoleName][]field.MemberName{}, Joined: map[field.RoleName][]field.MemberName{},
		Wanted: map[field.RoleName][]field.MemberName{}}
	nodes := draft.NodesByName()
	sample := adds
	if !all && len(adds) > MostTried { // and of those whom they are told of, the first few
		sample = tried(adds, nodes)
		perRole := map[field.RoleName]int{}
		few := slices.Clone(sample)
		for _, a := range adds {
			if perRole[a.Role]++; perRole[a.Role] <= 20 {
				few = append(few, a)
			}
		}
		adds = few
	}
	for i, a := range adds {
		if _, twice := sc.Members[a.Name]; twice {
			continue
		}
		sc.Members[a.Name] = sceneMember(nodes[a.Node], a, fmt.Sprintf("127.84.%d.%d", i/250, i%250+1), "/node/"+string(a.Node), true, "")
		sc.Founders[a.Role] = append(sc.Founders[a.Role], a.Name)
		sc.Joined[a.Role] = append(sc.Joined[a.Role], a.Name)
		sc.Wanted[a.Role] = append(sc.Wanted[a.Role], a.Name)
	}
	var errs []*render.Error
	seen := map[string]bool{}
	note := func(err error) {
		joined, ok := err.(interface{ Unwrap() []error })
		if !ok {
			return
		}
		for _, err := range joined.Unwrap() {
			var e *render.Error
			if !errors.As(err, &e) {
				continue
			}
			if key := strings.Join(append([]string{string(e.Role)}, e.Path...), "\x00"); !seen[key] {
				seen[key] = true
				errs = append(errs, e)
			}
		}
	}
	try := func(name field.MemberName) {
		spec, err := sc.Spec(name)
		note(err)
		if role := draft.Role(sc.Members[name].Role); err == nil {
			note(render.CheckRendered(role, name, spec))
		}
	}
	for _, a := range sample {
		m := sc.Members[a.Name]
		try(a.Name)
		m.Founding, m.Via = false, sc.Founders[a.Role][0]
		m.ID, m.Captured = "1", capturedBy(draft.Role(a.Role).Program)
		sc.Members[a.Name] = m
		try(a.Name)
		for _, procedure := range []order.Procedure{order.Found, order.Join, order.Promote, order.Leave, order.HandOver} {
			target := field.MemberName("")
			if procedure == order.HandOver {
				target = a.Name
			}
			for i := range render.Steps(draft.Role(a.Role).Program, procedure) {
				step, err := sc.Step(a.Name, procedure, i, target)
				note(err)
				if err == nil {
					note(render.CheckRenderedStep(draft.Role(a.Role), a.Name, procedure, i, step))
				}
			}
		}
		m.Founding, m.Via = true, ""
		sc.Members[a.Name] = m
	}
	return errs
}

// capturedBy gives a value for everything that a program's procedures capture.
func capturedBy(p *field.Program) map[string]string {
	out := map[string]string{}
	for _, steps := range [][]field.Step{p.Found, p.Join, p.Promote} {
		for _, step := range steps {
			for name := range step.Capture {
				out[name] = "1"
			}
		}
	}
	return out
}

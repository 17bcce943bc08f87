package engine

import (
	"errors"
	"fmt"
	"reflect"
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
	if err := errors.Join(s.guardNodes(draft), s.guardVotes(draft)); err != nil {
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
			text += fmt.Sprintf("; %s lets it in as a learner, and lets it vote when it has caught up", a.Role)
		case len(role.Program.Join) > 0:
			text += fmt.Sprintf("; %s lets it in", a.Role)
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
			first := fmt.Sprintf("have %s let %s go", x.Role, x.Member)
			if s.role(x.Role).Leader == x.Member && s.works(s.Members[x.Member]) && len(role.Program.HandOver) > 0 {
				first = fmt.Sprintf("have %s hand over and %s let it go", x.Member, x.Role)
			}
			text = first + ", then " + text
		}
		r.Steps = append(r.Steps, plan.Step{Stage: stages[x.Role], Kind: plan.Take, Member: x.Member, Role: x.Role, Node: x.Node,
			Zone: zoneOf(draft, x.Node), Text: text})
	}
	changes, err := changeSteps(s, draft, p, stages)
	if err != nil {
		return nil, err
	}
	r.Steps = append(r.Steps, changes...)
	r.Steps = append(r.Steps, s.clearing(draft)...)
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

// changeSteps finds the members that stay and whose configuration, or rest, the draft would change.
//
// Configuration is rendered as it will be in the end: with those who come and without those who leave, so that what
// follows their coming and going is in the review too.
func changeSteps(s *State, draft *field.Field, p plan.Plan, stages map[field.RoleName]int) ([]plan.Step, error) {
	if s.Field == nil {
		return nil, nil
	}
	shadow := *s
	shadow.Field = draft
	scene := shadow.scene()
	leaving := map[field.MemberName]bool{}
	for _, x := range p.Removes {
		leaving[x.Member] = true
		gone := scene.Members[x.Member]
		gone.Leaving = true
		scene.Members[x.Member] = gone
		scene.Joined[x.Role] = slices.DeleteFunc(scene.Joined[x.Role], func(m field.MemberName) bool { return m == x.Member })
	}
	for _, a := range p.Adds {
		at := Node{}
		if n := s.Nodes[a.Node]; n != nil {
			at = *n
		}
		scene.Members[a.Name] = sceneMember(draft.Node(a.Node), a, at.Address, at.Dir, false, "")
		scene.Joined[a.Role] = append(scene.Joined[a.Role], a.Name)
	}
	var steps []plan.Step
	for _, stage := range draft.Stages() {
		for _, role := range stage {
			for _, m := range s.of(role) {
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
				if what := differences(m.Ordered.Spec, spec); what != "" {
					then := map[field.OnChange]string{field.OnRestart: "restarts it", field.OnReload: "has it read its files again"}[Effect(m.Ordered.Spec, spec)]
					switch {
					case then != "":
					case what == theCeiling:
						then = "holds at once"
					default:
						then = "takes effect at its next start"
					}
					step.Text = fmt.Sprintf("change %s of %s, which %s", what, m.Name, then)
					steps = append(steps, step)
				}
			}
		}
	}
	return steps, nil
}

const theCeiling = "the ceiling"

// differences names what differs between two specs; "" when nothing does.
func differences(a, b *order.Spec) string {
	var what []string
	add := func(name string, differ bool) {
		if differ {
			what = append(what, name)
		}
	}
	add("the command line", !slices.Equal(a.Command, b.Command))
	add("the environment", !reflect.DeepEqual(a.Env, b.Env))
	old := map[string]order.File{}
	for _, f := range a.Files {
		old[f.Path] = f
	}
	for _, f := range b.Files {
		add("the file "+f.Path, old[f.Path] != f)
	}
	add(theCeiling, a.Ceiling != b.Ceiling)
	add("the probes", !reflect.DeepEqual([]any{a.Ready, a.Alive, a.Leader, a.Roster}, []any{b.Ready, b.Alive, b.Leader, b.Roster}))
	if len(what) == 0 && !reflect.DeepEqual(a, b) {
		what = append(what, "the way of running")
	}
	return strings.Join(what, " and ")
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
		Founders: map[field.RoleName][]field.MemberName{}, Joined: map[field.RoleName][]field.MemberName{}}
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
		_, err := sc.Spec(name)
		note(err)
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
				_, err := sc.Step(a.Name, procedure, i, target)
				note(err)
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

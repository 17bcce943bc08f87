// Package review lists what deploying a draft would change: the steps in their order, what of each member's configuration differs, what
// nodes must have for it. It makes the comparison and the rendering that the rollout itself makes.
package review

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/guard"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/state"
)

// Changed says that a deploy would not do what was reviewed.
type Changed struct {
	Gone, Come []plan.Step
	What, By   string    // the rollout that goes on, and who asked for it; empty where none goes on
	Since      time.Time // when that was
}

func (e *Changed) Error() string {
	text := "what deploying would do has changed since it was reviewed"
	if e.By != "" {
		text = fmt.Sprintf("%s has asked for a %s at %s, so that what deploying would do has changed since it was reviewed", e.By, e.What, e.Since.Local().Format("15:04:05"))
	}
	list := func(word string, steps []plan.Step) {
		if len(steps) == 0 {
			return
		}
		words := make([]string, 0, 4)
		for i, s := range steps {
			if i == 3 && len(steps) > 4 {
				words = append(words, fmt.Sprintf("%d more", len(steps)-3))
				break
			}
			words = append(words, s.Text)
		}
		text += fmt.Sprintf("; %s: %s", word, strings.Join(words, ", "))
	}
	list("no longer", e.Gone)
	list("now", e.Come)
	return text + "; nothing has been changed; review it again"
}

// Of lists exactly what deploying the draft would change, in order. It uses the same comparison and the same
// rendering as the rollout itself.
func Of(s *state.State, draft *field.Field) (*plan.Review, error) {
	r := &plan.Review{Field: draft.Name, Gates: plan.Gates(draft)}
	if s.Retired || s.Field == nil {
		s = state.NewState()
	}
	if s.Retiring {
		return nil, fmt.Errorf("%s is being retired; wait until it is gone", draft.Name)
	}
	resolved := resolve.Of(s, draft)
	if err := guard.Check(s, resolved); err != nil {
		return nil, err
	}
	p := resolved.Plan
	draft = resolved.Field
	stages := plan.StageOf(draft)
	r.Unplaced = p.Unplaced
	r.Steps = append(newNodes(s, draft), arrivals(s, draft, p.Adds, stages)...)
	r.Steps = append(r.Steps, departures(s, draft, p.Removes, stages)...)
	changes, err := changeSteps(s, draft, p, stages)
	if err != nil {
		return nil, err
	}
	r.Steps = append(r.Steps, changes...)
	r.Steps = append(r.Steps, clearing(s, draft)...)
	r.Steps = append(r.Steps, due(s, draft, p, stages)...)
	r.Pending = pendings(s, draft, p)
	plan.SortSteps(r.Steps)
	return r, nil
}

// newNodes are the nodes that are not there yet.
func newNodes(s *state.State, draft *field.Field) []plan.Step {
	var steps []plan.Step
	for _, n := range draft.Nodes {
		if bound := s.Nodes[n.Name]; bound == nil || bound.Released {
			text := fmt.Sprintf("start the agent of %s", n.Name)
			switch draft.GroundOf(&n) {
			case field.GroundSSH:
				text = fmt.Sprintf("bring the agent to %s, the host at %s, and start it", n.Name, draft.Given(&n))
			case field.GroundJoin:
				text = fmt.Sprintf("wait for a machine to join as %s", n.Name)
			}
			steps = append(steps, plan.Step{Kind: plan.Prepare, Node: n.Name, Zone: n.Zone, Text: text, Comes: draft.GroundOf(&n) == field.GroundJoin})
		}
	}
	return steps
}

// arrivals are the members that come.
func arrivals(s *state.State, draft *field.Field, adds []place.Member, stages map[field.RoleName]int) []plan.Step {
	var steps []plan.Step
	added := map[field.RoleName]int{}
	for _, a := range adds {
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
		steps = append(steps, plan.Step{Stage: stages[a.Role], Kind: plan.Start, Member: a.Name, Role: a.Role, Node: a.Node,
			Zone: zoneOf(draft, a.Node), Text: text})
	}
	return steps
}

// departures are the members that go.
func departures(s *state.State, draft *field.Field, removes []plan.Remove, stages map[field.RoleName]int) []plan.Step {
	var steps []plan.Step
	for _, x := range removes {
		text, lasts := fmt.Sprintf("take %s off %s for good, with its data (%s)", x.Member, x.Node, x.Why), true
		if m := s.Members[x.Member]; keeps(s, draft, m) && draft.Node(x.Node) != nil {
			lasts = false
			text = fmt.Sprintf("take %s off %s (%s); its data is kept there", x.Member, x.Node, x.Why)
		}
		if role := draft.Role(x.Role); role != nil && role.Members > 0 && len(role.Program.Leave) > 0 {
			first := fmt.Sprintf("remove %s from the members of %s", x.Member, x.Role)
			if s.RoleOf(x.Role).Leader == x.Member && s.Works(s.Members[x.Member]) && len(role.Program.HandOver) > 0 {
				first = fmt.Sprintf("have %s hand over the lead and remove it from the members of %s", x.Member, x.Role)
			}
			text = first + ", then " + text
		}
		steps = append(steps, plan.Step{Stage: stages[x.Role], Kind: plan.Take, Member: x.Member, Role: x.Role, Node: x.Node,
			Zone: zoneOf(draft, x.Node), Text: text, Why: x.Why, Moves: x.Moves, Lasts: lasts})
	}
	return steps
}

// keeps tells whether the data of a member would be kept when the draft removes it.
func keeps(s *state.State, draft *field.Field, m *state.Member) bool {
	if r := draft.Role(m.Role); r != nil {
		return r.Keeps()
	}
	return m.Keeps
}

// clearing lists the data that is kept no longer, and the nodes that the draft has no more.
func clearing(s *state.State, draft *field.Field) []plan.Step {
	var steps []plan.Step
	lost := map[field.NodeName][]string{}
	for _, m := range state.SortedMembers(s) {
		switch {
		case m.Phase != state.Gone || !m.Kept:
		case draft.Node(m.Node) == nil:
			lost[m.Node] = append(lost[m.Node], string(m.Name))
		case !keeps(s, draft, m):
			steps = append(steps, plan.Step{Kind: plan.Forget, Lasts: true, Member: m.Name, Role: m.Role, Node: m.Node, Zone: zoneOf(draft, m.Node),
				Text: fmt.Sprintf("delete the data kept of %s on %s, %s", m.Name, m.Node, field.Bytes(m.Bytes))})
		}
	}
	for _, n := range state.SortedNodes(s) {
		if n.Released || draft.Node(n.Name) != nil {
			continue
		}
		text := fmt.Sprintf("end the agent of %s and remove its folder", n.Name)
		if names := lost[n.Name]; len(names) > 0 {
			text += ", with the data kept there of " + strings.Join(names, ", ")
		}
		steps = append(steps, plan.Step{Kind: plan.Free, Node: n.Name, Text: text, Lasts: len(lost[n.Name]) > 0})
	}
	return steps
}

func zoneOf(f *field.Field, node field.NodeName) field.ZoneName {
	if n := f.Node(node); n != nil {
		return n.Zone
	}
	return ""
}

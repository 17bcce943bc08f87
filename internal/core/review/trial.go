package review

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

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
		sc.Members[a.Name] = state.SceneMember(nodes[a.Node], a, supposed(i, a.Node, draft.Networks), true, "")
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

// supposed gives a node addresses out of the block that is set aside for trials (RFC 2544), on each network another.
func supposed(i int, node field.NodeName, networks []string) state.Binding {
	at := state.Binding{Address: fmt.Sprintf("198.18.%d.%d", i/250%64, i%250+1), Addresses: map[string]string{}, Dir: "/node/" + string(node)}
	for k, network := range networks {
		at.Addresses[network] = fmt.Sprintf("198.%d.%d.%d", 18+(k+1)/4, (k+1)%4*64+i/250%64, i%250+1)
	}
	return at
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

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
	sample := adds
	if !all && len(adds) > MostTried {
		sample = tried(adds, draft.NodesByName())
		adds = append(slices.Clone(sample), firstOfEach(adds, 20)...) // of those whom they are told of, the first few
	}
	t := &trial{draft: draft, scene: supposedScene(draft, adds), seen: map[string]bool{}, begins: map[field.RoleName]bool{}}
	for _, a := range sample {
		t.member(a)
	}
	for i := range draft.Roles {
		t.note(t.scene.TryProofs(&draft.Roles[i], func(of field.RoleName) (field.MemberName, bool) {
			if founders := t.scene.Founders[of]; len(founders) > 0 {
				return founders[0], true
			}
			return "", false
		}))
	}
	for i := range draft.Roles {
		_, err := t.scene.AccessTo(&draft.Roles[i], render.AccessPaths{Authority: "authority.pem", Client: "client.pem"})
		t.note(err)
	}
	return t.errs
}

// firstOfEach gives the first members of each role.
func firstOfEach(adds []place.Member, most int) []place.Member {
	var few []place.Member
	perRole := map[field.RoleName]int{}
	for _, a := range adds {
		if perRole[a.Role]++; perRole[a.Role] <= most {
			few = append(few, a)
		}
	}
	return few
}

// supposedScene is what templates would see if those members had founded their clusters.
func supposedScene(draft *field.Field, adds []place.Member) *render.Scene {
	sc := &render.Scene{Field: draft, Members: map[field.MemberName]render.Member{},
		Founders: map[field.RoleName][]field.MemberName{}, Joined: map[field.RoleName][]field.MemberName{},
		Wanted: map[field.RoleName][]field.MemberName{}, Supposed: render.SupposedAddress}
	nodes := draft.NodesByName()
	for i, a := range adds {
		if _, twice := sc.Members[a.Name]; twice {
			continue
		}
		sc.Members[a.Name] = state.SceneMember(nodes[a.Node], a, supposed(i, a.Node, draft.Networks), true, "")
		sc.Founders[a.Role] = append(sc.Founders[a.Role], a.Name)
		sc.Joined[a.Role] = append(sc.Joined[a.Role], a.Name)
		sc.Wanted[a.Role] = append(sc.Wanted[a.Role], a.Name)
	}
	return sc
}

// trial collects what templates say when they are executed, each thing once.
type trial struct {
	draft *field.Field
	scene *render.Scene
	seen  map[string]bool // by role and path
	errs  []*render.Error

	begins map[field.RoleName]bool
}

// member tries one member as a founder at its first start and when it is started again, then as one that joins, with every step of every
// procedure.
func (t *trial) member(a place.Member) {
	m := t.scene.Members[a.Name]
	t.spec(a.Name)
	if t.asksWhoBegins(a.Role) {
		m.Begins = true
		t.scene.Members[a.Name] = m
		t.spec(a.Name)
		m.Begins = false
	}
	m.Founding, m.Via = false, t.scene.Founders[a.Role][0]
	m.ID, m.Captured = "1", capturedBy(t.draft.Role(a.Role).Program)
	t.scene.Members[a.Name] = m
	t.spec(a.Name)
	for _, procedure := range []order.Procedure{order.Found, order.Join, order.Promote, order.Leave, order.HandOver, order.ChangeSecret} {
		t.steps(a, procedure)
	}
	m.Founding, m.Via = true, ""
	t.scene.Members[a.Name] = m
}

// asksWhoBegins tells whether a role's templates make a difference between a first start and others.
func (t *trial) asksWhoBegins(role field.RoleName) bool {
	asks, known := t.begins[role]
	if !known {
		p := t.draft.Role(role).Program
		texts := slices.Clone(p.Command)
		for _, value := range p.Env {
			texts = append(texts, string(value))
		}
		for _, f := range p.Files {
			texts = append(texts, f.Template)
		}
		asks = slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(text, ".Begins") })
		t.begins[role] = asks
	}
	return asks
}

// spec tries what a member is run with.
func (t *trial) spec(name field.MemberName) {
	spec, err := t.scene.Spec(name)
	t.note(err)
	if err == nil {
		t.note(render.CheckRendered(t.draft.Role(t.scene.Members[name].Role), name, spec))
	}
}

// steps tries the steps of a procedure that is about a member.
func (t *trial) steps(a place.Member, procedure order.Procedure) {
	target := field.MemberName("")
	if procedure == order.HandOver {
		target = a.Name
	}
	role := t.draft.Role(a.Role)
	t.scene.Changing = render.Secret{}
	if procedure == order.ChangeSecret {
		t.scene.Changing = render.Secret{Name: "secret", Number: 2}
	}
	for i := range render.Steps(role.Program, procedure) {
		step, err := t.scene.Step(a.Name, procedure, i, target)
		t.note(err)
		if err == nil {
			t.note(render.CheckRenderedStep(role, a.Name, procedure, i, step))
		}
	}
}

// note takes in every template error in one that joins several.
func (t *trial) note(err error) {
	joined, ok := err.(interface{ Unwrap() []error })
	if !ok {
		return
	}
	for _, err := range joined.Unwrap() {
		var e *render.Error
		if !errors.As(err, &e) {
			continue
		}
		if key := strings.Join(append([]string{string(e.Role)}, e.Path...), "\x00"); !t.seen[key] {
			t.seen[key] = true
			t.errs = append(t.errs, e)
		}
	}
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
				if slices.Contains(step.Secret, name) {
					out[name] = render.SealedMark("trial", "")
				}
			}
		}
	}
	return out
}

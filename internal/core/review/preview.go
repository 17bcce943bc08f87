package review

import (
	"fmt"
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/state"
)

// Files is what a member is, or would be, run with.
type Files struct {
	Member field.MemberName `json:"member"`
	Draft  []render.Text    `json:"draft,omitempty"` // as the draft has it; nil where the draft has no such member
	Live   []render.Text    `json:"live,omitempty"`  // with what it runs, or would be started; nil where it is not there
}

// Preview renders what a member would be run with if the draft were deployed, and what it runs with now. Nodes that are
// not bound yet have no address; their name in angle brackets stands for it.
func Preview(s *state.State, draft *field.Field, name field.MemberName) (*Files, error) {
	f := &Files{Member: name}
	if m := s.Members[name]; m != nil && m.Phase != state.Gone && s.Field != nil {
		texts, err := s.Scene().Texts(name)
		if err != nil {
			return nil, err
		}
		if f.Live = texts; m.Running != nil { // with what its process was started, which may be older
			f.Live = render.WithOrigins(render.TextsOf(m.Running), texts)
		}
	}
	if draft.Cycle() != nil {
		return f, fmt.Errorf("roles of the draft wait for each other, so that it has no members yet")
	}
	sc := draftScene(s, draft)
	if _, there := sc.Members[name]; !there {
		if f.Live == nil {
			return nil, fmt.Errorf("there is no member %s, neither in the draft nor in what runs; members are named like %s", name, draft.Roles[0].Name.Member(1))
		}
		return f, nil
	}
	texts, err := sc.Texts(name)
	if err != nil {
		return nil, err
	}
	f.Draft = texts
	return f, nil
}

// draftScene is who would be who if the draft were deployed now: who runs and stays, and who would come.
func draftScene(s *state.State, draft *field.Field) *render.Scene {
	sc := &render.Scene{Field: draft, Members: map[field.MemberName]render.Member{},
		Founders: map[field.RoleName][]field.MemberName{}, Joined: map[field.RoleName][]field.MemberName{},
		Wanted: map[field.RoleName][]field.MemberName{}, Supposed: render.SupposedWord}
	if s.Field != nil && !s.Retired {
		was := s.Scene()
		supposeNodes(s, was, draft)
		sc.Founders, sc.Links = was.Founders, was.Links
		maps.Copy(sc.Wanted, was.Wanted)
		for name, m := range was.Members {
			sc.Members[name] = m
		}
		for role, names := range was.Joined {
			sc.Joined[role] = append([]field.MemberName(nil), names...)
		}
	}
	resolved := resolve.Of(s, draft)
	draft = resolved.Field
	sc.Field = draft
	p := resolved.Plan
	for role, names := range sc.Wanted {
		sc.Wanted[role] = slices.Clone(names)
	}
	for _, r := range p.Removes {
		sc.Wanted[r.Role] = slices.DeleteFunc(sc.Wanted[r.Role], func(n field.MemberName) bool { return n == r.Member })
		m := sc.Members[r.Member]
		m.Leaving = true
		sc.Members[r.Member] = m
	}
	addTo(s, sc, draft, p.Adds)
	return sc
}

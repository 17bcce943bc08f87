package review

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
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
	resolved := resolve.Of(s, draft)
	sc := finalSceneOf(s, resolved.Field, resolved.Plan)
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

// around is how many lines that stay are shown before and after those that differ.
const around = 2

// Altered lists in what the texts differ that a member is run with by the draft from those that it runs with.
func (f *Files) Altered() []plan.Altered {
	var out []plan.Altered
	for _, text := range render.Beside(f.Live, f.Draft) {
		near := make([]bool, len(text.Lines))
		differs := false
		for i, l := range text.Lines {
			if l.Mark == ' ' {
				continue
			}
			differs = true
			for j := max(0, i-around); j <= min(i+around, len(near)-1); j++ {
				near[j] = true
			}
		}
		if !differs {
			continue
		}
		a := plan.Altered{Name: text.Name}
		for i, l := range text.Lines {
			switch {
			case i == len(near)-1 && l.Mark == ' ' && l.Text == "": // the end of the last line
			case near[i]:
				a.Lines = append(a.Lines, plan.Line{Mark: string(l.Mark), Text: l.Text})
			case i == 0 || near[i-1]:
				a.Lines = append(a.Lines, plan.Line{Mark: "…"})
			}
		}
		out = append(out, a)
	}
	return out
}

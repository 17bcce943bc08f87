package draw

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"

	"lanternfield/internal/core/field"
)

// fieldOf makes a field of that many roles in a chain with side branches, over nodes in three zones.
func fieldOf(roles, nodes int) *field.Field {
	f := &field.Field{Name: "saltmarsh"}
	for i := range nodes {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("gull-%d", i+1)), Zone: field.ZoneName([]string{"north", "south", "light"}[i%3])})
	}
	for i := range roles {
		r := field.Role{Name: field.RoleName(fmt.Sprintf("role-%d", i+1)), Members: 1 + i%4, Votes: i%5 == 0, Program: &field.Program{Command: []string{"x"}}}
		if i > 0 {
			r.Calls = map[string]field.RoleName{"a": f.Roles[i/2].Name}
		}
		if i > 3 {
			r.After = map[field.RoleName]field.Gate{f.Roles[i-3].Name: "first"}
			r.Knows = map[string]field.RoleName{"k": f.Roles[0].Name}
		}
		f.Roles = append(f.Roles, r)
	}
	field.FillDefaults(f)
	return f
}

// TestDrawingsOfThreeSizes looks at the order and at what survives as structure: everybody is there, nothing lies over
// anything else, and nothing is off the page.
func TestDrawingsOfThreeSizes(t *testing.T) {
	fonts := font.NewCache(liberation.Collection())
	for _, size := range [][2]int{{1, 1}, {5, 9}, {18, 60}} {
		f := fieldOf(size[0], size[1])
		snap := Draft(f)
		for _, kind := range Kinds {
			d := Of(kind, snap, Light)
			var boxes, texts []Shape
			said := ""
			for _, s := range d.Shapes {
				x0, x1 := min(s.X, s.X+s.W), max(s.X, s.X+s.W)
				if s.Kind != Text && (x0 < 0 || x1 > d.W+0.5 || min(s.Y, s.Y+s.H) < 0 || max(s.Y, s.Y+s.H) > d.H) {
					t.Errorf("%s of %v: off the page of %g by %g: %+v", kind, size, d.W, d.H, s)
				}
				switch s.Kind {
				case Box:
					for _, o := range boxes {
						if s.X < o.X+o.W && o.X < s.X+s.W && s.Y < o.Y+o.H && o.Y < s.Y+s.H {
							t.Errorf("%s of %v: %q lies over %q", kind, size, s.Label, o.Label)
						}
					}
					boxes = append(boxes, s)
				case Text:
					said += s.Text + "\n"
					face := textFace(fonts, s)
					end := s.X + float64(face.Width(s.Text))
					if s.Right {
						end = s.X
					}
					if s.Y < 0 || s.Y > d.H || end > d.W {
						t.Errorf("%s of %v: the text %q is off the page", kind, size, s.Text)
					}
					for _, o := range texts {
						if s.Y == o.Y && s.X == o.X {
							t.Errorf("%s of %v: %q is written over %q", kind, size, s.Text, o.Text)
						}
					}
					texts = append(texts, s)
				}
			}
			for _, r := range f.Roles {
				if !strings.Contains(said, string(r.Name)) {
					t.Errorf("%s of %v: %s is not in it", kind, size, r.Name)
				}
			}
			if kind == "board" {
				for _, m := range snap.Members {
					if !slices.ContainsFunc(boxes, func(s Shape) bool { return s.Label == string(m.Member) }) {
						t.Errorf("board of %v: %s is missing", size, m.Member)
					}
				}
				if most := 2*edge + margin + mostColumns*(column+zoneGap); d.W > most || d.W > 2*d.H {
					t.Errorf("board of %v: %g by %g is no page", size, d.W, d.H)
				}
			}
			if kind == "order" {
				roles := slices.DeleteFunc(boxes, func(s Shape) bool { return !strings.HasPrefix(s.Label, "role ") })
				if len(roles) != size[0] {
					t.Errorf("%d of %d roles are drawn", len(roles), size[0])
				}
			}
			var out strings.Builder
			if err := d.Write(&out, "x.svg"); err != nil || !strings.Contains(out.String(), "<svg") {
				t.Errorf("%s of %v: %v", kind, size, err)
			}
			if err := d.Write(&out, "x.pdf"); err != nil {
				t.Errorf("%s of %v: %v", kind, size, err)
			}
		}
	}
}

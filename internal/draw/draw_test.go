package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

// sample is a field with two zones, a leader, a dark member, and two members on one node.
func sample() *snapshot.Snapshot {
	s := &snapshot.Snapshot{Field: "saltmarsh", State: snapshot.Degraded, At: time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC), Verdict: "5 of 6 lit · wardens-2 is dark"}
	for i := range 4 {
		s.Nodes = append(s.Nodes, snapshot.NodeView{Node: field.NodeName(fmt.Sprintf("gull-%d", i+1)), Zone: field.ZoneName([]string{"north-quay", "lighthouse"}[i%2])})
	}
	add := func(role field.RoleName, node, number int, phase state.Phase, leads bool) {
		s.Members = append(s.Members, snapshot.MemberView{Member: role.Member(number), Role: role, Node: s.Nodes[node].Node, Phase: phase, Leads: leads})
	}
	s.Roles = []snapshot.RoleView{{Role: "wardens", Kind: field.Master, Want: 3, Ready: 2, Votes: true, Voters: 3, Worked: true}, {Role: "crews", Kind: field.Worker, Want: 3, Ready: 2}}
	add("wardens", 0, 1, state.Ready, true)
	add("wardens", 1, 2, state.Failed, false)
	add("wardens", 2, 3, state.Ready, false)
	add("crews", 3, 1, state.Ready, false)
	add("crews", 3, 2, state.Starting, false)
	add("crews", 0, 3, state.Unknown, false)
	return s
}

// TestNothingOverlapsAndEverybodyIsThere looks at the drawing as structure.
func TestNothingOverlapsAndEverybodyIsThere(t *testing.T) {
	for _, theme := range []Theme{Light, Night} {
		snap := sample()
		d := Board(snap, theme)
		boxes, texts := map[string]Shape{}, map[string]bool{}
		var all []Shape
		for _, s := range d.Shapes {
			if s.Kind == Text {
				texts[s.Text] = true
				continue
			}
			if s.X < 0 || s.Y < 0 || s.X+s.W > d.W || s.Y+s.H > d.H {
				t.Errorf("off the page of %g by %g: %+v", d.W, d.H, s)
			}
			if s.Kind == Box {
				boxes[s.Label] = s
				for _, o := range all {
					if s.X < o.X+o.W && o.X < s.X+s.W && s.Y < o.Y+o.H && o.Y < s.Y+s.H {
						t.Errorf("%q lies over %q", s.Label, o.Label)
					}
				}
				all = append(all, s)
			}
		}
		for _, m := range snap.Members {
			if _, ok := boxes[string(m.Member)]; !ok || !texts[string(m.Member)] {
				t.Errorf("%s is missing", m.Member)
			}
		}
		for _, want := range []string{"saltmarsh", "north-quay", "lighthouse", "gull-4", "wardens", "2/3", "master, survives 0", "dark", "5 of 6 lit · wardens-2 is dark"} {
			if !texts[want] {
				t.Errorf("%q is not written; there is %v", want, texts)
			}
		}
		if a, b := boxes["crews-1"], boxes["crews-2"]; a.X != b.X || a.Y == b.Y {
			t.Errorf("two on one post: %+v, %+v", a, b)
		}
		if a, b := boxes["wardens-1"], boxes["crews-3"]; a.X != b.X {
			t.Error("members of one node do not hang on one post")
		}
	}
}

func TestItIsWrittenAsSVGAndPDF(t *testing.T) {
	d := Board(sample(), Light)
	var svg, again, pdf bytes.Buffer
	if err := d.Write(&svg, "out.SVG"); err != nil {
		t.Fatal(err)
	}
	if err := d.Write(&again, "other.svg"); err != nil || svg.String() != again.String() {
		t.Errorf("the same drawing is written differently, %v", err)
	}
	dec, words := xml.NewDecoder(&again), ""
	for {
		token, err := dec.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if text, ok := token.(xml.CharData); ok {
			words += string(text) + " "
		}
	}
	for _, want := range []string{"saltmarsh", "wardens-2", "lighthouse"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not in the SVG", want)
		}
	}
	if err := d.Write(&pdf, "out.pdf"); err != nil || !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) || !bytes.Contains(pdf.Bytes(), []byte("%%EOF")) {
		t.Errorf("%d bytes of PDF, %v", pdf.Len(), err)
	}
	if err := d.Write(io.Discard, "out.png"); err == nil || !strings.Contains(err.Error(), "written as .svg or .pdf") {
		t.Errorf("got %v", err)
	}
}

package nodes

import (
	"errors"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// machines are so many in two zones; the third lacks a program, and the fourth cannot be reached.
func machines(n int) *preflight.Matrix {
	m := &preflight.Matrix{Paths: 7}
	for i := range n {
		node := preflight.Node{Name: field.NodeName("gull-" + string(rune('a'+i%26)) + string(rune('a'+i/26))), Zone: []field.ZoneName{"north-quay", "lighthouse"}[i%2], Ground: "ssh", Address: "10.1.0.1",
			Found: &machine.Machine{System: "debian 12", CPUs: 2}}
		node.Skip(preflight.Agent)
		for _, c := range preflight.Checks {
			if c != preflight.Agent && i != 3 {
				node.Pass(c)
			}
		}
		switch i {
		case 2:
			node.Fail(preflight.Programs, "store-1: there is no program", "install it there")
		case 3:
			node.Fail(preflight.Reachable, "it cannot be reached", "is it on?")
		}
		node.Complete()
		m.Nodes = append(m.Nodes, node)
	}
	return m
}

func drawn(v *View, w, h int) string {
	g := grid.New(w, h, theme.Dark().Page())
	v.Draw(g, theme.Dark(), time.Unix(100, 0), board.Area{W: w, H: h})
	return g.Plain()
}

func TestWhatFailsIsShownFirstWithItsRemedy(t *testing.T) {
	v := &View{}
	v.Take(machines(6), nil, time.Unix(100, 0))
	if v.Node != "gull-ca" || v.Check != preflight.Programs {
		t.Errorf("it stands on %s of %s", v.Check, v.Node)
	}
	for _, size := range [][2]int{{160, 30}, {100, 30}, {80, 15}} {
		text := drawn(v, size[0], size[1])
		for _, want := range []string{"2 of 6 nodes not ready", "north-quay", "lighthouse", "gull-ca", "store-1: there is no program", "install it there", "programs"} {
			if !strings.Contains(text, want) {
				t.Errorf("at %v there is no %q:\n%s", size, want, text)
			}
		}
		if strings.Contains(text, "agent") {
			t.Errorf("what nobody wants is shown:\n%s", text)
		}
	}
	if !v.ToFailing() || v.Node != "gull-da" || v.Check != preflight.Reachable {
		t.Errorf("then it stands on %s of %s", v.Check, v.Node)
	}
	v.Move(0, 1)
	if text := drawn(v, 160, 30); !strings.Contains(text, "it could not be looked at, because of what fails before it") || !strings.Contains(text, "it cannot be reached") {
		t.Errorf("of what is open it says:\n%s", text)
	}
	// Looking again leaves it where it stands.
	node, check := v.Node, v.Check
	v.Take(machines(6), nil, time.Unix(100, 0))
	if v.Node != node || v.Check != check {
		t.Errorf("after another look it stands on %s of %s", v.Check, v.Node)
	}
	v.Take(nil, errors.New("the keyring is sealed"), time.Unix(100, 0))
	if text := drawn(v, 160, 30); !strings.Contains(text, "could not be looked at: the keyring is sealed") || !strings.Contains(text, "gull-ca") {
		t.Errorf("a look that fails:\n%s", text)
	}
}

// TestManyMachinesAreWalkedThrough goes through a hundred, of which few fit.
func TestManyMachinesAreWalkedThrough(t *testing.T) {
	v := &View{}
	v.Take(machines(100), nil, time.Unix(100, 0))
	v.Move(-1000, -1000)
	seen := map[field.NodeName]bool{}
	for range 100 {
		seen[v.Node] = true
		if text := drawn(v, 80, 24); !strings.Contains(text, string(v.Node)) {
			t.Fatalf("%s is not on the screen:\n%s", v.Node, text)
		}
		v.Move(1, 0)
	}
	if len(seen) != 100 {
		t.Errorf("%d of 100 were reached", len(seen))
	}
}

func TestBeforeAnythingIsKnownItSaysWhatWouldBe(t *testing.T) {
	v := &View{}
	if text := drawn(v, 100, 24); !strings.Contains(text, "enter looks at all machines") {
		t.Errorf("it says:\n%s", text)
	}
	v.Busy, v.Done, v.Of, v.Waiting = true, 1, 3, []preflight.Node{{Name: "gull-1", Zone: "a"}, {Name: "gull-2", Zone: "a"}}
	if text := drawn(v, 100, 24); !strings.Contains(text, "looking: 1 of 3 nodes") || !strings.Contains(text, "gull-2") {
		t.Errorf("while it looks:\n%s", text)
	}
	v.Move(1, 1)
	v.Past = true
	if text := drawn(v, 100, 24); !strings.Contains(text, "is not kept") {
		t.Errorf("in the past:\n%s", text)
	}
}

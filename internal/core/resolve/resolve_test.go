package resolve

import (
	"encoding/json"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/state"
)

func draft(members int) *field.Field {
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1"}, {Name: "tern-1"}},
		Roles: []field.Role{{Name: "crews", Members: members, Program: &field.Program{Command: []string{"crew"}}}}}
	field.FillDefaults(f)
	return f
}

func copied(t *testing.T, f *field.Field) *field.Field {
	t.Helper()
	data, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	again := &field.Field{}
	if err := json.Unmarshal(data, again); err != nil {
		t.Fatal(err)
	}
	return again
}

// first gives the place at which a solution begins: the same for those that are the same one.
func first(t *testing.T, r *Resolved) *place.Member {
	t.Helper()
	if len(r.Plan.Adds) == 0 {
		t.Fatal("nobody comes: this shows nothing")
	}
	return &r.Plan.Adds[0]
}

// TestTheSolverRunsOnceForADraft resolves a draft as a deploy does: as it is reviewed, as a copy of it that came through a socket, as what nodes
// must have is asked, and as what was deployed.
func TestTheSolverRunsOnceForADraft(t *testing.T) {
	s := state.NewState()
	d := draft(3)
	once := first(t, Of(s, d))
	if first(t, Of(s, d)) != once || first(t, Of(s, copied(t, d))) != once || first(t, Of(s.Clone(), copied(t, d))) != once {
		t.Error("the same draft was solved again")
	}
	own := copied(t, d)
	if Of(s, own).Field != own {
		t.Error("what is deployed is somebody else's draft, who may change it")
	}
	state.Apply(s, state.Event{At: time.Unix(0, 0), Fact: state.Accepted{Field: own, Bound: map[field.NodeName]state.Binding{"gull-1": {Address: "198.18.0.1"}}}})
	carried := Carried(s)
	if again := Carried(s); first(t, carried) != first(t, again) {
		t.Error("what was deployed was solved twice")
	}
}

// TestAnotherDraftOrAnotherFieldIsSolvedAnew changes the draft in place, and the field that it is resolved for.
func TestAnotherDraftOrAnotherFieldIsSolvedAnew(t *testing.T) {
	s := state.NewState()
	d := draft(3)
	if n := len(Of(s, d).Plan.Adds); n != 3 {
		t.Fatalf("%d come, want 3", n)
	}
	d.Roles[0].Members = 5
	if n := len(Of(s, d).Plan.Adds); n != 5 {
		t.Errorf("the draft was changed, and %d come, want 5", n)
	}
	state.Apply(s, state.Event{At: time.Unix(0, 0), Fact: state.Accepted{Field: copied(t, d)}})
	state.Apply(s, state.Event{At: time.Unix(1, 0), Fact: state.MemberPlanned{Member: place.Member{Name: "crews-1", Role: "crews", Node: "gull-1"}, Number: 1}})
	if n := len(Of(s, d).Plan.Adds); n != 4 {
		t.Errorf("one is there, and %d come, want 4", n)
	}
}

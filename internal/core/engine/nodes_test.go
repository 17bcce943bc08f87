package engine

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// TestANodeIsGivenUpOnlyWhereNothingElseIsLeft says of a node that it is gone for good: while it answers, while it is wanted, and while the field waits for
// nothing else.
func TestANodeIsGivenUpOnlyWhereNothingElseIsLeft(t *testing.T) {
	s := sailing(t, 2)
	refused := func(want string) {
		t.Helper()
		if events, err := Step(s, morning, GiveUpNode{Node: "gull-1", By: "the pilot"}); err == nil || !strings.Contains(err.Error(), want) || len(events) > 0 {
			t.Errorf("got %v, %v; want %s", events, err, want)
		}
	}
	if _, err := Step(s, morning, GiveUpNode{Node: "skua-9"}); err == nil || !strings.Contains(err.Error(), "there is no node skua-9") {
		t.Errorf("a node that is not: %v", err)
	}
	refused("gull-1 can be reached, so nothing has to be given up")
	must(t, s, NodeLost{Node: "gull-1", Why: "no answer in time"})
	refused("gull-1 is still in the field: take it out of the file and deploy first")
	must(t, s, Retire{By: "the pilot"})
	if s.Retired {
		t.Fatal("the field is retired although a node of it cannot be reached")
	}
	events := must(t, s, GiveUpNode{Node: "gull-1", By: "the pilot"})
	n := s.Nodes["gull-1"]
	if !s.Retired || !n.Released || !n.Lost {
		t.Errorf("after it was given up: retired %t, node %+v", s.Retired, n)
	}
	said := ""
	for _, e := range events {
		said += e.Fact.Sentence() + "\n"
	}
	for _, want := range []string{"what is left on gull-1 could not be confirmed: it is gone for good, as the pilot says", "gull-1 is gone for good, as the pilot says; what was on it was not looked for"} {
		if !strings.Contains(said, want) {
			t.Errorf("there is no %q in\n%s", want, said)
		}
	}
	for _, m := range state.SortedMembers(s) {
		if m.Phase != state.Gone {
			t.Errorf("%s is %s", m.Name, m.Phase)
		}
	}
	if again, err := Step(s, morning, GiveUpNode{Node: "gull-1"}); err == nil {
		t.Errorf("once more: %v", again)
	}
}

// TestAHostIsAskedForAnewWhenItIsReachedInAnotherWay changes the key by which a host is logged in to, and nothing else of it.
func TestAHostIsAskedForAnewWhenItIsReachedInAnotherWay(t *testing.T) {
	hosts := func(key string) *field.Field {
		f := draft(1)
		f.Ground = field.Ground{Kind: "ssh", Key: key, Sudo: "always"}
		f.Nodes[0].Address = "10.1.0.1"
		return f
	}
	s := state.NewState()
	must(t, s, TakeOver{By: "test"})
	at := func() state.Binding {
		return state.Binding{Kind: "ssh", Address: "10.1.0.1", Dir: "/n", Ground: s.Field.Ground}
	}
	give := func() {
		t.Helper()
		n := s.Nodes["gull-1"]
		if !n.Asked {
			t.Fatal("it is not asked for")
		}
		b := at()
		b.Ground.Kind = ""
		if _, err := Step(s, morning, NodeGiven{Node: "gull-1", Times: n.Bound, Binding: b}); err != nil {
			t.Fatal(err)
		}
		if n.Asked {
			t.Fatal("it is asked for once more")
		}
	}
	for _, key := range []string{"/keys/a", "/keys/b"} {
		if _, err := Step(s, morning, Deploy{Draft: hosts(key), By: "test"}); err != nil {
			t.Fatal(err)
		}
		give()
		if got := s.Nodes["gull-1"].Ground.Key; got != key {
			t.Errorf("it is reached by %q, want %q", got, key)
		}
	}
	if _, err := Step(s, morning, Deploy{Draft: hosts("/keys/b"), By: "test"}); err != nil {
		t.Fatal(err)
	}
	if s.Nodes["gull-1"].Asked {
		t.Error("nothing has changed, and it is asked for")
	}
}

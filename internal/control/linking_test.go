package control

import (
	"testing"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/state"
)

// TestAKeeperStaysUntilItHasSaidWhatMembersRunWith has nobody give a field up before the other field, which waits for it, has been told that its new authority
// is what members here run with; but not for ever where that one does not answer.
func TestAKeeperStaysUntilItHasSaidWhatMembersRunWith(t *testing.T) {
	f := sleepers(1)
	f.Roles = append(f.Roles, field.Role{Name: "ledger", External: &field.External{Field: "harbour", Role: "store"}})
	field.FillDefaults(f)
	s := state.NewState()
	told := func(in engine.Input) {
		t.Helper()
		if _, err := engine.Step(s, utc(), in); err != nil {
			t.Fatal(err)
		}
	}
	content := func(authority int) link.Content {
		return link.Content{Client: "client", TLS: true, Authorities: []int{authority},
			Members: []link.Member{{Name: "store-1", Number: 1, Address: "10.0.0.1", Ports: map[string]link.Port{"client": {Number: 7000}}}}}
	}
	told(engine.TakeOver{By: "test"})
	told(engine.Deploy{Draft: f, By: "test"})
	c := &Controller{state: s, ranWith: map[field.RoleName]linkSaid{}}
	if c.runsUntold() {
		t.Error("nothing was handed over, and there is something to be said about it")
	}
	told(engine.TellLink{Role: "ledger", Field: "harbour", Of: "store", Content: content(1), Number: 1})
	if !c.runsUntold() {
		t.Error("the other field has not been told, and the keeper would end")
	}
	c.saidRuns("ledger", 0, true)
	if !c.runsUntold() {
		t.Error("what was said before they ran with it counts")
	}
	c.saidRuns("ledger", 1, true)
	if c.runsUntold() {
		t.Error("all has been said, and the keeper would stay")
	}
	told(engine.TellLink{Role: "ledger", Field: "harbour", Of: "store", Content: content(2), Number: 2})
	for i := range grantTries {
		if !c.runsUntold() {
			t.Errorf("given up after %d tries", i)
		}
		c.saidRuns("ledger", 2, false)
	}
	if c.runsUntold() {
		t.Error("a field that never answers is waited for")
	}
}

package engine

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/mending"
)

// TestWhatIsDoneOnAMachineIsInTheLedgerUntilItIsUndone goes from the beginning of a step to its being undone: by way of an end that is not heard, a failure,
// a node that is given up while it cannot be reached, and the end of the field.
func TestWhatIsDoneOnAMachineIsInTheLedgerUntilItIsUndone(t *testing.T) {
	s := sailing(t, 1)
	step := mending.Step{Kind: mending.Kernel, Setting: "vm.max_map_count", Value: 262144}
	begin := BeginMending{Node: "gull-1", Address: "10.0.0.1", Ground: field.Ground{Kind: "ssh"}, Step: step, By: "the pilot"}
	ledger := func() string {
		var lines []string
		for _, e := range s.Mended() {
			line := string(e.Node) + ": " + e.What
			if e.Due {
				line += " DUE"
			}
			if e.Owed != "" {
				line += " OWED " + e.Owed
			}
			lines = append(lines, line)
		}
		return strings.Join(lines, "\n")
	}
	check := func(want string) {
		t.Helper()
		if got := ledger(); got != want {
			t.Errorf("the ledger:\n%s\nwant\n%s", got, want)
		}
	}
	bad := begin
	bad.Step.Setting = "../x"
	if _, err := Step(s, morning, bad); err == nil {
		t.Error("what is no step is begun")
	}
	if _, err := Step(s, morning, EndMending{Node: "gull-1", Entry: mending.Entry{Step: step}}); err == nil {
		t.Error("what was not begun has ended")
	}
	must(t, s, begin)
	check("gull-1: unknown, since it was begun and its result was never heard: set vm.max_map_count to 262144, persistently, by a file in /etc/sysctl.d")
	must(t, s, begin)
	must(t, s, EndMending{Node: "gull-1", Entry: mending.Entry{Step: step, Before: "65530"}})
	check("gull-1: the kernel's vm.max_map_count is 262144; it was 65530")

	install := mending.Step{Kind: mending.Packages, Packages: []string{"etcd-server"}}
	begin.Step = install
	must(t, s, begin)
	must(t, s, EndMending{Node: "gull-1", Entry: mending.Entry{Step: install}, Why: "the disk is full"})
	check("gull-1: the kernel's vm.max_map_count is 262144; it was 65530")

	must(t, s, Settle{Node: "gull-1", Key: step.Key(), Why: "no answer in time"})
	if events, err := Step(s, morning, Settle{Node: "gull-1", Key: step.Key(), Why: "no answer in time"}); err != nil || len(events) > 0 {
		t.Errorf("the same is noted again: %v %v", events, err)
	}
	must(t, s, NodeLost{Node: "gull-1", Why: "no answer in time"})
	must(t, s, Retire{By: "the pilot"})
	must(t, s, GiveUpNode{Node: "gull-1", By: "the pilot"})
	if !s.Retired {
		t.Fatal("the field is not retired")
	}
	check("gull-1: the kernel's vm.max_map_count is 262144; it was 65530 DUE OWED no answer in time")

	// It is deployed anew: what is owed is still known.
	must(t, s, Deploy{Draft: draft(1), By: "the pilot"})
	check("gull-1: the kernel's vm.max_map_count is 262144; it was 65530 OWED no answer in time")
	events := must(t, s, Settle{Node: "gull-1", Key: step.Key(), Stays: "vm.max_map_count is 262144, which another field needs"})
	check("")
	if len(s.Ledger) > 0 || !strings.Contains(events[0].Fact.Sentence(), "on gull-1 this stays: vm.max_map_count is 262144") {
		t.Errorf("%v %v", s.Ledger, events)
	}
	if len(s.LedgerOf()) == 0 || s.LedgerOf()[0].What != "the agent and its folder /n, at 198.18.0.1" {
		t.Errorf("%v", s.LedgerOf())
	}
}

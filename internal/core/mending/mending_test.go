package mending

import (
	"slices"
	"strings"
	"testing"
)

func TestStepsForOneMachineAreOne(t *testing.T) {
	got := Merge([]Step{
		{Kind: Kernel, Setting: "vm.max_map_count", Value: 100}, {Kind: Packages, Packages: []string{"b", "a"}}, {Kind: Kernel, Setting: "vm.max_map_count", Value: 300},
		{Kind: Kernel, Setting: "fs.nr_open", Value: 7}, {Kind: Packages, Packages: []string{"c", "a"}}, {Kind: Kernel, Setting: "vm.max_map_count", Value: 200}})
	var words []string
	for _, s := range got {
		words = append(words, s.String())
	}
	want := []string{"set fs.nr_open to 7, persistently, by a file in /etc/sysctl.d",
		"set vm.max_map_count to 300, persistently, by a file in /etc/sysctl.d", "install a, b and c with apt-get"}
	if !slices.Equal(words, want) {
		t.Errorf("%q", words)
	}
}

func TestWhatIsNoStepIsRefused(t *testing.T) {
	for _, s := range []Step{{}, {Kind: "shell"}, {Kind: Packages}, {Kind: Packages, Packages: []string{"--force"}}, {Kind: Packages, Packages: []string{"etcd", "a b"}},
		{Kind: Kernel, Setting: "../../etc/passwd", Value: 1}, {Kind: Kernel, Setting: "vm/x", Value: 1}, {Kind: Kernel, Setting: "vm", Value: 1}, {Kind: Kernel, Setting: "vm..x", Value: 1}, {Kind: Kernel, Setting: "vm.x", Value: -1}} {
		if s.Valid() == nil {
			t.Errorf("%+v is done", s)
		}
	}
	for _, s := range []Step{{Kind: Packages, Packages: []string{"galera-4", "libstdc++6"}}, {Kind: Kernel, Setting: "net.ipv4.tcp_keepalive_time", Value: 0}} {
		if err := s.Valid(); err != nil {
			t.Error(err)
		}
	}
}

// TestWhatStoodThereAtFirstIsWhatCounts does the same on a machine again and again: with more, after an end that was not heard, after a failure.
func TestWhatStoodThereAtFirstIsWhatCounts(t *testing.T) {
	raise := func(value int, before string) Entry {
		return Entry{Step: Step{Kind: Kernel, Setting: "vm.x", Value: value}, Before: before}
	}
	if got := raise(200, "100").Upon(raise(100, "50")); got.Before != "50" || got.Value != 200 {
		t.Errorf("raised twice: %+v", got)
	}
	unheard := Entry{Step: Step{Kind: Kernel, Setting: "vm.x", Value: 100}, Begun: true}
	if got := raise(100, "50").Upon(unheard); got.Before != "50" || got.Begun {
		t.Errorf("after one whose end was not heard: %+v", got)
	}
	installed := Entry{Step: Step{Kind: Packages, Packages: []string{"a"}}, Made: []string{"a", "liba"}}
	got := Entry{Step: Step{Kind: Packages, Packages: []string{"a", "b"}}, Made: []string{"b"}}.Upon(installed)
	if !slices.Equal(got.Made, []string{"a", "b", "liba"}) || !strings.Contains(got.String(), "the packages a, b, liba") {
		t.Errorf("%+v", got)
	}
	if text := unheard.String(); !strings.Contains(text, "unknown, since it was begun and its result was never heard: set vm.x to 100") {
		t.Error(text)
	}
}

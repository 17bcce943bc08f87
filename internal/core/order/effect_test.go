package order

import (
	"testing"

	"lanternfield/internal/core/field"
)

// TestWhatAChangeLeadsTo gives a running member another spec in every way, and asks what follows, how it is named, whether its
// agent answers, and what still waits for its next start when the agent has taken it.
func TestWhatAChangeLeadsTo(t *testing.T) {
	before := func() *Spec {
		return &Spec{Command: []string{"run", "1"}, OnChange: field.OnNextStart, Validate: []string{"check"}, Version: "1",
			Ports: map[string]Port{"main": {Number: 7}},
			Files: []File{{Path: "read", Content: "1", OnChange: field.OnReload}, {Path: "kept", Content: "1", OnChange: field.OnNextStart},
				{Path: "own", Content: "1", Once: true, OnChange: field.OnRestart}}}
	}
	for _, test := range []struct {
		what           string
		change         func(*Spec)
		effect         field.OnChange
		named, waiting string
		answered       bool
	}{
		{"nothing", func(*Spec) {}, field.OnNextStart, "", "", false},
		{"a word of the command", func(s *Spec) { s.Command = []string{"run", "2"} }, field.OnNextStart, "the command line", "the command line", false},
		{"a version", func(s *Spec) { s.Version = "2" }, field.OnNextStart, "the version from 1 to 2", "the version from 1 to 2", false},
		{"a word that restarts", func(s *Spec) { s.Command, s.OnChange = []string{"run", "2"}, field.OnRestart }, field.OnRestart, "the command line", "the command line", false},
		{"a file that is read again", func(s *Spec) { s.Files[0].Content = "2" }, field.OnReload, "the file read", "", true},
		{"a file for the next start", func(s *Spec) { s.Files[1].Content = "2" }, field.OnNextStart, "the file kept", "the file kept", true},
		{"a mode", func(s *Spec) { s.Files[0].Mode = 0o600 }, field.OnReload, "the file read", "", true},
		{"a file that is its own", func(s *Spec) { s.Files[2].Content = "2" }, field.OnNextStart, "how changes are brought to it", "", false},
		{"both files", func(s *Spec) { s.Files[0].Content, s.Files[1].Content = "2", "2" }, field.OnReload, "the file read and the file kept", "the file kept", true},
		{"a port", func(s *Spec) { s.Ports = map[string]Port{"main": {Number: 8}} }, field.OnRestart, "the ports", "the ports", false},
		{"a call", func(s *Spec) { s.Apply = []field.Probe{{}} }, field.OnApply, "what it is called with (apply)", "", true},
		{"a probe", func(s *Spec) { s.Ready = &field.Probe{} }, field.OnNextStart, "the probes", "", false},
	} {
		a, b := before(), before()
		test.change(b)
		if got := Effect(a, b); got != test.effect {
			t.Errorf("%s: leads to %s, want %s", test.what, got, test.effect)
		}
		if got := Named(Differences(a, b)); got != test.named {
			t.Errorf("%s: named %q, want %q", test.what, got, test.named)
		}
		if got := Answered(a, b); got != test.answered {
			t.Errorf("%s: answered %v", test.what, got)
		}
		if got := Named(Pending(InForce(a, b, true), b)); got != test.waiting {
			t.Errorf("%s: %q waits for the next start, want %q", test.what, got, test.waiting)
		}
	}
}

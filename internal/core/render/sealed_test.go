package render

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

// TestWhatWasCapturedInSecret uses a captured value that was encrypted where secrets may be used, and where they may not.
func TestWhatWasCapturedInSecret(t *testing.T) {
	s := harbour(false)
	m := s.Members["berths-1"]
	m.Captured = map[string]string{"token": SealedMark("gull-2", "QUJD"), "plain": "it's"}
	s.Members["berths-1"] = m
	p := s.Field.Roles[0].Program
	p.Env = map[string]field.Text{"TOKEN": `{{.Captured "token"}}`}
	p.Files = map[string]field.File{"a": {Template: `'{{.Captured "token" "shell"}}' '{{.Captured "plain" "shell"}}'`}, "b": {Template: `{{.Captured "plain"}}`}}
	spec, err := s.Spec("berths-1")
	if err != nil {
		t.Fatal(err)
	}
	opened := Kept{Sealed: func(node field.NodeName, data string) string { return "it's " + string(node) + " " + data }}
	if got := Put(spec.Files[0].Content, opened); got != `'it'\''s gull-2 QUJD' 'it'\''s'` {
		t.Errorf("in a file: %s", got)
	}
	if got := Put(spec.Env["TOKEN"], opened); got != "it's gull-2 QUJD" {
		t.Errorf("in the environment: %s", got)
	}
	if spec.Files[0].Mode != 0o600 || spec.Files[1].Mode != 0o644 {
		t.Errorf("modes %o and %o", spec.Files[0].Mode, spec.Files[1].Mode)
	}
	if got := Put(spec.Files[0].Content, Named); !strings.Contains(got, "(captured, secret)") {
		t.Errorf("for people: %s", got)
	}
	p.Command = []string{`{{.Captured "token"}}`}
	if _, err := s.Spec("berths-1"); err == nil || !strings.Contains(err.Error(), "everybody on the node can read command lines") {
		t.Errorf("on a command line: %v", err)
	}
	p.Command = []string{`{{.Captured "plain" "xml"}}`}
	if _, err := s.Spec("berths-1"); err == nil || !strings.Contains(err.Error(), "a secret can be put into url, json, sql and shell") {
		t.Errorf("in a form that there is not: %v", err)
	}
}

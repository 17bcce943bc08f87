package field

import (
	"slices"
	"strings"
	"testing"
)

func TestASecretIsCheckedByItsRule(t *testing.T) {
	for _, row := range []struct {
		name, value string
		rule        SecretRule
		wrong       []string // what is said; nothing where it is right
	}{
		{"as usual", "low-tide-at-noon", SecretRule{}, nil},
		{"with signs that hurt nobody", "a/b%c@d&e=f?g", SecretRule{}, nil},
		{"letters of others", "flut-ebbe-über", SecretRule{}, nil},
		{"empty", "", SecretRule{}, []string{"it is empty"}},
		{"short", "tide", SecretRule{}, []string{"it has 4 characters, and must have at least 8"}},
		{"counted in characters", "üüüüüüüü", SecretRule{}, nil},
		{"long", strings.Repeat("x", 10<<10), SecretRule{}, []string{"it has 10240 characters, and may have at most 128"}},
		{"quotes, dollar, blank", `it's "$HOME" here`, SecretRule{}, []string{"the quote '", `the quote "`, "$", "a blank"}},
		{"line breaks", "low tide\nat noon", SecretRule{Without: "x"}, []string{"a line break"}},
		{"control characters", "low\x00tide\x1bat noon", SecretRule{Without: "x"}, []string{"the control character U+0000", "U+001B"}},
		{"no text", "low tide \xff\xfe", SecretRule{}, []string{"it is no text (UTF-8)"}},
		{"what the program says", "a:b:c:d:e", SecretRule{Without: ":"}, []string{"it must be without :"}},
		{"what the program says alone counts", "it's $ \"fine\"", SecretRule{Without: ":"}, nil},
		{"classes", "lowtideatnoon", SecretRule{Needs: []string{"lower", "upper", "digit", "other"}}, []string{"it has no upper-case letter", "no digit", "neither a letter nor a digit"}},
		{"all of them", "Low-tide-at-12", SecretRule{Needs: []string{"lower", "upper", "digit", "other"}}, nil},
		{"several at once", "a b", SecretRule{Least: 12}, []string{"must have at least 12", "without a blank"}},
	} {
		err := row.rule.Check(row.value)
		if (err == nil) != (len(row.wrong) == 0) {
			t.Errorf("%s: %v", row.name, err)
			continue
		}
		for _, text := range row.wrong {
			if !strings.Contains(err.Error(), text) {
				t.Errorf("%s: %q does not say %q", row.name, err, text)
			}
		}
		if err != nil && len(row.value) > 3 && strings.Contains(err.Error(), row.value) {
			t.Errorf("%s: the message shows the secret", row.name)
		}
	}
}

func TestSecretsThatAProgramNames(t *testing.T) {
	p := &Program{Command: []string{"run"}, Env: map[string]Text{"A": `{{.Secret "in-env"}}`}, Access: &Access{Secret: "in-access"},
		Files: map[string]File{"a": {Template: "{{.Secret `back-quoted` `json`}} {{.Secret \"in-file\" \"sql\"}}"}}, Secrets: map[string]SecretRule{"ruled": {}},
		Proofs: map[string]Proof{"p": {Steps: []ProofStep{{Call: Call{HTTP: &HTTPCall{Headers: map[string]Text{"Authorization": `{{.Basic (.Setting "user") "basic"}}`}}}}}}},
		Join:   []Step{{Call: Call{HTTP: &HTTPCall{Headers: map[string]Text{"Authorization": "{{.Basic `clerk` `basic-too`}}"}}}}}}
	want := []string{"back-quoted", "basic", "basic-too", "in-access", "in-env", "in-file", "ruled"}
	if got := p.SecretNames(); !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
	if (*Program)(nil).SecretNames() != nil {
		t.Error("a role without a program has secrets")
	}
}

func TestWhatAFieldSaysOfSecretsThatMeansNothing(t *testing.T) {
	program := func(rules map[string]SecretRule, change ...Step) *Program {
		return &Program{Command: []string{"run"}, Files: map[string]File{"a": {Template: `{{.Secret "base"}}`}}, Secrets: rules, ChangeSecret: change}
	}
	step := Step{Call: Call{Exec: []string{"true"}}}
	for _, row := range []struct {
		name    string
		given   map[string]GivenSecret
		program *Program
		says    string
	}{
		{"fine", map[string]GivenSecret{"base": {Prompt: true}}, program(map[string]SecretRule{"base": {Change: BySteps}}, step), ""},
		{"two places", map[string]GivenSecret{"base": {Prompt: true, Env: "BASE"}}, program(nil), "must be said once, and is said 2 times"},
		{"no place", map[string]GivenSecret{"base": {}}, program(nil), "is said 0 times"},
		{"nobody's", map[string]GivenSecret{"bass": {Prompt: true}}, program(nil), "no program of the field names a secret bass"},
		{"must be given", nil, program(map[string]SecretRule{"base": {Needs: []string{"upper"}}}), "the secret base of berths must be given"},
		{"must be longer", nil, program(map[string]SecretRule{"base": {Least: 40}}), "another length than the 32 characters"},
		{"is given", map[string]GivenSecret{"base": {Env: "BASE"}}, program(map[string]SecretRule{"base": {Needs: []string{"upper"}}}), ""},
		{"runs backwards", nil, program(map[string]SecretRule{"base": {Least: 20, Most: 10}}), "at least 20 characters and at most 10"},
		{"no steps", nil, program(map[string]SecretRule{"base": {Change: BySteps}}), "is changed by steps, and the program says none"},
		{"steps of nothing", nil, program(nil, step), "there are steps to change a secret, and no secret that is changed by steps"},
	} {
		f := &Field{Name: "quay", Nodes: []Node{{Name: "gull-1"}}, Roles: []Role{{Name: "berths", Members: 1, Program: row.program}}, Secrets: row.given}
		FillDefaults(f)
		var all []string
		for _, p := range Validate(f, nil) {
			all = append(all, p.Text)
		}
		if text := strings.Join(all, "\n"); row.says == "" && text != "" || !strings.Contains(text, row.says) {
			t.Errorf("%s: %q", row.name, text)
		}
	}
}

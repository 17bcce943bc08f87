package render

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/trust"
)

// Secret is a secret of the field, which of those that it was, and the form in which it is put into a text.
type Secret struct {
	Name   string
	Number int    // from 1; each change makes another
	Given  bool   // somebody gave it; else it is made
	Form   string // url, json, sql or shell: what must be escaped there is; empty for it as it is
}

// forms say how a secret is escaped.
var forms = map[string]func(string) string{
	"":      func(s string) string { return s },
	"url":   func(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") },
	"sql":   func(s string) string { return strings.ReplaceAll(s, "'", "''") },
	"shell": func(s string) string { return strings.ReplaceAll(s, "'", `'\''`) },
	"json": func(s string) string {
		var b strings.Builder
		enc := json.NewEncoder(&b)
		enc.SetEscapeHTML(false)
		_ = enc.Encode(s) // a text can be
		return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(b.String()), `"`), `"`)
	},
}

// In gives a value in the form of the secret.
func (s Secret) In(value string) string {
	if form := forms[s.Form]; form != nil {
		return form(value)
	}
	return value
}

// mark stands for a secret in texts. That of the first that was made is as it always was.
func (s Secret) mark() string {
	text := s.Name
	if s.Number > 1 || s.Given || s.Form != "" {
		text += fmt.Sprintf(":%d%s:%s", s.Number, map[bool]string{true: "g"}[s.Given], s.Form)
	}
	return "\x00secret:" + text + "\x00"
}

// Mark stands for a secret in texts.
func (s Secret) Mark() string { return s.mark() }

// readSecret reads what is in a mark.
func readSecret(name, number, given, form string) Secret {
	s := Secret{Name: name, Number: 1, Given: given != "", Form: form}
	if n, err := strconv.Atoi(number); err == nil {
		s.Number = n
	}
	return s
}

// secretOf is which secret is in force.
func (s *Scene) secretOf(name string) Secret {
	if known, ok := s.Secrets[name]; ok {
		return known
	}
	return Secret{Name: name, Number: 1}
}

// Secret stands for a secret of the field; the controller puts it in as the order leaves, so that it is never stored. A form says what it is put into.
func (v *View) Secret(name string, form ...string) (string, error) {
	if err := v.maySecret(name); err != nil {
		return "", err
	}
	s := v.scene.secretOf(name)
	return s.formed(form)
}

// NewSecret is, in a step of change_secret, the secret that the program is to take.
func (v *View) NewSecret(form ...string) (string, error) {
	s := v.scene.Changing
	if s.Name == "" {
		return "", errors.New("only steps of change_secret have a .NewSecret")
	}
	if err := v.maySecret(s.Name); err != nil {
		return "", err
	}
	return s.formed(form)
}

func (s Secret) formed(form []string) (string, error) {
	if len(form) > 1 || len(form) == 1 && forms[form[0]] == nil {
		return "", fmt.Errorf("a secret can be put into url, json, sql and shell; not into %q", strings.Join(form, " "))
	}
	if len(form) == 1 {
		s.Form = form[0]
	}
	return s.mark(), nil
}

func (v *View) maySecret(name string) error {
	if !v.secrets {
		return fmt.Errorf("a secret may be used in files, in env, in access, and in what procedures and proofs send by http, tcp and sql; everybody on the node can read command lines")
	}
	if !field.NamePattern.MatchString(name) {
		return fmt.Errorf("%q cannot name a secret; %s", name, field.NameRule)
	}
	return nil
}

var (
	secretMark = regexp.MustCompile("\x00secret:([a-z0-9-]+)(?::([0-9]+)(g?):([a-z]*))?\x00")
	basicMark  = regexp.MustCompile("\x00basic:([^\x00:]*):([a-z0-9-]+)(?::([0-9]+)(g?):)?\x00")
)

// Basic is the value of an HTTP header Authorization for a user and a secret, where secrets may be used.
func (v *View) Basic(user, secret string) (string, error) {
	if err := v.maySecret(secret); err != nil {
		return "", err
	}
	if strings.Contains(user, ":") {
		return "", fmt.Errorf("the user %q has a colon in it, and HTTP ends the name of a user with one", user)
	}
	mark := strings.TrimPrefix(v.scene.secretOf(secret).mark(), "\x00secret:")
	return fmt.Sprintf("Basic \x00basic:%s:%s", user, mark), nil
}

// Kept is what marks in texts stand for: the field's secrets, and what its members' certificates are.
type Kept struct {
	Secret func(Secret) string
	Trust  func(trust.Mark) string
	// Sealed opens what the agent of a node has encrypted, in base 64; nil says only that there is something.
	Sealed func(node field.NodeName, data string) string
}

// Named names what marks stand for, for people.
var Named = Kept{Secret: func(s Secret) string {
	if s.Number > 1 {
		return fmt.Sprintf("(secret %s, number %d)", s.Name, s.Number)
	}
	return "(secret " + s.Name + ")"
}, Trust: trust.Mark.Word}

// Put replaces the marks in a text.
func Put(text string, kept Kept) string {
	text = putSealed(trust.Put(text, kept.Trust), kept.Sealed)
	text = basicMark.ReplaceAllStringFunc(text, func(mark string) string {
		m := basicMark.FindStringSubmatch(mark)
		return base64.StdEncoding.EncodeToString([]byte(m[1] + ":" + kept.Secret(readSecret(m[2], m[3], m[4], ""))))
	})
	return secretMark.ReplaceAllStringFunc(text, func(mark string) string {
		m := secretMark.FindStringSubmatch(mark)
		return kept.Secret(readSecret(m[1], m[2], m[3], m[4]))
	})
}

// Filled replaces the marks in what is sent in a call.
func Filled(c field.Call, kept Kept) field.Call {
	if c.HTTP != nil {
		h := *c.HTTP
		h.Path, h.Body = Put(h.Path, kept), Put(h.Body, kept)
		h.Headers = maps.Clone(h.Headers)
		for name, value := range h.Headers {
			h.Headers[name] = field.Text(Put(string(value), kept))
		}
		c.HTTP = &h
	}
	if c.TCP != nil {
		t := *c.TCP
		t.Send, t.Expect = Put(t.Send, kept), Put(t.Expect, kept)
		c.TCP = &t
	}
	return c
}

// eachSecret calls for every secret in the files and the environment of a spec.
func eachSecret(spec *order.Spec, found func(Secret)) {
	look := func(text string) {
		for _, m := range secretMark.FindAllStringSubmatch(text, -1) {
			found(readSecret(m[1], m[2], m[3], ""))
		}
		for _, m := range basicMark.FindAllStringSubmatch(text, -1) {
			found(readSecret(m[2], m[3], m[4], ""))
		}
	}
	for _, f := range spec.Files {
		look(f.Content)
	}
	for _, text := range spec.Env {
		look(text)
	}
}

// SecretsIn tells whether the files or the environment of a spec have that secret, and whether they have another number of it.
func SecretsIn(spec *order.Spec, newest Secret) (has, old bool) {
	eachSecret(spec, func(s Secret) {
		if s.Name == newest.Name {
			has, old = true, old || s.Number != newest.Number
		}
	})
	return has, old
}

// SameSecrets tells whether two specs have the same secrets.
func SameSecrets(a, b *order.Spec) bool {
	in := func(spec *order.Spec) map[Secret]bool {
		all := map[Secret]bool{}
		eachSecret(spec, func(s Secret) { all[s] = true })
		return all
	}
	return maps.Equal(in(a), in(b))
}

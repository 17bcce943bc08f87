package render

import (
	"encoding/base64"
	"fmt"
	"regexp"

	"lanternfield/internal/core/field"
)

// Secret stands for a secret of the field; the controller puts it in as the order leaves, so that it is never stored.
func (v *View) Secret(name string) (string, error) {
	if !v.secrets {
		return "", fmt.Errorf("a secret may be used in files, in env, and in http, tcp, sql and expect of proofs only: everybody on the node can read command lines")
	}
	if !field.NamePattern.MatchString(name) {
		return "", fmt.Errorf("%q cannot name a secret; %s", name, field.NameRule)
	}
	return "\x00secret:" + name + "\x00", nil
}

var (
	secretMark = regexp.MustCompile("\x00secret:([a-z0-9-]+)\x00")
	basicMark  = regexp.MustCompile("\x00basic:([^\x00]*):([a-z0-9-]+)\x00")
)

// Basic is the value of an HTTP header Authorization for a user and a secret, where secrets may be used.
func (v *View) Basic(user, secret string) (string, error) {
	if _, err := v.Secret(secret); err != nil {
		return "", err
	}
	return fmt.Sprintf("Basic \x00basic:%s:%s\x00", user, secret), nil
}

// PutSecrets replaces the marks that Secret left.
func PutSecrets(text string, value func(name string) string) string {
	text = basicMark.ReplaceAllStringFunc(text, func(mark string) string {
		m := basicMark.FindStringSubmatch(mark)
		return base64.StdEncoding.EncodeToString([]byte(m[1] + ":" + value(m[2])))
	})
	return secretMark.ReplaceAllStringFunc(text, func(mark string) string {
		return value(secretMark.FindStringSubmatch(mark)[1])
	})
}

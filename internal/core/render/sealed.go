package render

import (
	"regexp"
	"strings"

	"lanternfield/internal/core/field"
)

// What a step captures out of an answer and calls secret is encrypted by the agent that has read it, with the key of its node. Nobody but the keyring's
// holder can open it, as an order leaves.
var sealedMark = regexp.MustCompile("\x00sealed:([a-z0-9-]+):([a-z]*):([A-Za-z0-9+/=]*)\x00")

// SealedMark stands in a text for what the agent of a node has encrypted, in base 64.
func SealedMark(node field.NodeName, data string) string {
	return "\x00sealed:" + string(node) + "::" + data + "\x00"
}

// isSealed tells whether a captured value is one that was encrypted.
func isSealed(value string) bool { return sealedMark.MatchString(value) }

// putSealed replaces the marks in a text.
func putSealed(text string, open func(node field.NodeName, data string) string) string {
	if !strings.Contains(text, "\x00sealed:") {
		return text
	}
	return sealedMark.ReplaceAllStringFunc(text, func(mark string) string {
		m := sealedMark.FindStringSubmatch(mark)
		if open == nil {
			return "(captured, secret)"
		}
		return Secret{Form: m[2]}.In(open(field.NodeName(m[1]), m[3]))
	})
}

// Captured is a value that a procedure took from an answer. A form says what it is put into, as with Secret.
func (v *View) Captured(name string, form ...string) (string, error) {
	value, ok := v.member.Captured[name]
	if !ok {
		return "", unknown("captured value", name, capturedNames(v.member))
	}
	as := ""
	if len(form) > 0 {
		if _, err := (Secret{}).formed(form); err != nil {
			return "", err
		}
		as = form[0]
	}
	if !isSealed(value) {
		return Secret{Form: as}.In(value), nil
	}
	if err := v.maySecret("captured"); err != nil {
		return "", err
	}
	return strings.Replace(value, "::", ":"+as+":", 1), nil
}

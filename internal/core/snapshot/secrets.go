package snapshot

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// Secret is a secret of a field, by name. What it is, is not told.
type Secret struct {
	Name   string           `json:"name"`
	About  string           `json:"about,omitempty"`
	Number int              `json:"number"`          // of the newest; each change makes another
	Given  bool             `json:"given,omitempty"` // somebody gave it; else it is made
	Since  time.Time        `json:"since,omitzero"`  // when that was; of one that was never changed nothing is known but that it is made
	Roles  []field.RoleName `json:"roles"`           // whose program names it
	Waits  []field.RoleName `json:"waits,omitempty"` // whose program is still to take the newest, by steps
	Fixed  bool             `json:"fixed,omitempty"` // it cannot be changed
	// Before are members that still run with the one before.
	Before []field.MemberName `json:"before,omitempty"`
}

// Waiting says what the newest of a secret waits for; empty where all run with it.
func (x Secret) Waiting() string {
	if len(x.Waits) > 0 {
		roles := make([]string, len(x.Waits))
		for i, r := range x.Waits {
			roles[i] = string(r)
		}
		return wording.And(roles) + " is still to take it"
	}
	if len(x.Before) > 0 {
		return fmt.Sprintf("%s still %s the one before", wording.Members(x.Before), wording.Plural(len(x.Before), "has", "have"))
	}
	return ""
}

// SecretsOf lists the secrets that the programs of a field name.
func SecretsOf(s *state.State) []Secret {
	var out []Secret
	var names []string
	for i := range s.Field.Roles {
		names = append(names, s.Field.Roles[i].SecretNames()...)
	}
	for _, w := range s.Field.Notices.Webhooks {
		names = append(names, w.Secret)
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		known := s.SecretOf(name)
		x := Secret{Name: name, Number: known.Number, Given: known.Given, Since: known.Since, Roles: s.Field.UsersOf(name), Waits: known.Due}
		for _, rule := range s.Field.SecretRules(name) {
			x.Fixed = x.Fixed || rule.Change == field.Never
			if x.About == "" {
				x.About = rule.About
			}
		}
		if len(x.Waits) == 0 && x.Number > 1 {
			x.Before = s.WithOldSecret(name)
		}
		out = append(out, x)
	}
	return out
}

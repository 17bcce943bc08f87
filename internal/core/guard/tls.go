package guard

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// guardTLS refuses a draft that has a running role begin to speak TLS, or end to: its members would not understand each other while they are restarted
// one by one.
func guardTLS(s *state.State, draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	for role, was := range s.Secured() {
		next := draft.Role(role)
		if next == nil || draft.Secure(next) == was {
			continue
		}
		running, all := 0, 0
		for _, m := range s.MembersOf(role) {
			if all++; m.PID != 0 {
				running++
			}
		}
		if all < 2 || running == 0 {
			continue
		}
		what := "begin"
		if was {
			what = "cease"
		}
		return fmt.Errorf("the members of %s would %s to speak TLS one by one, and those that speak it do not understand those that do not: stop it first (`lanternfield stop %s`), deploy, and start it again; "+
			"nothing has been changed", role, what, role)
	}
	return nil
}

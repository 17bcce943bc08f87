package guard

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// guardLeases refuses a draft that gives a lease to a role that has been deployed without one, or another store: a store that knows nothing of the role cannot
// tell whose data counts, and two could come to lead. One that is taken away must be so while nobody runs.
func guardLeases(s *state.State, draft *field.Field) error {
	if !s.Deployed() {
		return nil
	}
	for i := range s.Field.Roles {
		was := &s.Field.Roles[i]
		next := draft.Role(was.Name)
		members := s.MembersOf(was.Name)
		if next == nil || len(members) == 0 || !s.RoleOf(was.Name).Founded {
			continue
		}
		switch {
		case !was.Guarded() && next.Guarded():
			return fmt.Errorf("%s was deployed without a lease, and a store that knows nothing of it cannot tell whose data counts: deploy another role with a lease, bring the data into it, and have clients use that one; "+
				"nothing has been changed", was.Name)
		case was.Guarded() && next.Guarded() && storeOf(s.Field, was) != storeOf(draft, next):
			return fmt.Errorf("%s keeps its lease in %s, and the draft has it kept in %s, which does not know whose data counts: keep the store, or deploy another role and bring the data into it; "+
				"nothing has been changed", was.Name, storeOf(s.Field, was), storeOf(draft, next))
		case was.Guarded() && !next.Guarded():
			for _, m := range members {
				if m.PID != 0 {
					return fmt.Errorf("%s gives up its lease, and while its members are restarted one by one two of them could lead: stop it first (`lanternfield stop %s`), deploy, and start it again; "+
						"nothing has been changed", was.Name, was.Name)
				}
			}
		}
	}
	return nil
}

// storeOf says where a role keeps its lease: a role of the field, which may stand for one of another field, or for something at addresses.
func storeOf(f *field.Field, role *field.Role) string {
	store := f.Role(role.Lease.Store)
	switch {
	case store == nil || store.External == nil:
		return string(role.Lease.Store)
	case store.Linked():
		return fmt.Sprintf("%s (%s)", role.Lease.Store, store.External.Where(store.Name))
	}
	return fmt.Sprintf("%s (outside)", role.Lease.Store)
}

package tui

import (
	"fmt"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/whatif"
)

// fault is the failure of what is under the cursor, and its name for people.
func (a *app) fault() (whatif.Fault, string) {
	at := a.model.Under(a.cursor)
	f := whatif.Fault{Member: at.Member, Role: at.Role, Node: at.Node, Zone: at.Zone}
	switch {
	case at.Member != "":
		return whatif.Fault{Member: at.Member}, string(at.Member)
	case at.Role != "" && at.Node != "": // an empty crossing: its node
		return whatif.Fault{Node: at.Node}, string(at.Node)
	case at.Role != "" && at.Zone != "":
		return f, fmt.Sprintf("%s in %s", at.Role, at.Zone)
	case at.Role != "":
		return f, "all of " + string(at.Role)
	case at.Node != "":
		return whatif.Fault{Node: at.Node}, string(at.Node)
	}
	return f, string(at.Zone)
}

// suppose finds what would come of that failure and lays it over the board.
func (a *app) suppose() (sentence string) {
	if !a.whatIf || a.draft == nil {
		a.model.Suppose(nil)
		return ""
	}
	draft := a.model.Snap.State == engine.StateDraft || a.model.Snap.State == engine.StateRetired
	var members []whatif.Member
	for i := range a.model.Roles {
		r := &a.model.Roles[i]
		for j := range r.Members {
			m := &r.Members[j]
			if m.Unsent && !draft {
				continue // it does not run yet
			}
			members = append(members, whatif.Member{Name: m.Member, Role: m.Role, Node: m.Node, Zone: m.Zone,
				Works: draft || m.Phase == engine.Ready, Votes: len(r.Roster) == 0 || m.Seat == "voter"})
		}
	}
	fault, name := a.fault()
	loss := whatif.Fail(a.draft, members, fault)
	a.model.Suppose(&loss)
	return fmt.Sprintf("If %s failed: %s.", name, loss.Sentence())
}

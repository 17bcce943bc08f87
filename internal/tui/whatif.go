package tui

import (
	"fmt"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/panel"
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

// standing are the members that a failure would find: those that run, or, before anything runs, those of the draft.
func (a *app) standing() []whatif.Member {
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
	return members
}

// suppose finds what would come of the failure of what is under the cursor and lays it over the board.
func (a *app) suppose() (sentence string) {
	if !a.whatIf || a.draft == nil {
		a.model.Suppose(nil)
		return ""
	}
	fault, name := a.fault()
	loss := whatif.Fail(a.draft, a.standing(), fault)
	a.model.Suppose(&loss)
	return fmt.Sprintf("If %s failed: %s.", name, loss.Sentence())
}

// hurts is the list of failures that hurt most, and the board that it was made for.
type hurts struct {
	of   *board.Model
	foot panel.Foot
}

// mostSupposed bounds the work of trying every single failure, in nodes times members.
const mostSupposed = 150_000

// hurting lists the single failures that hurt most, the worst first.
func (a *app) hurting() panel.Foot {
	if a.hurts.of == a.model {
		return a.hurts.foot
	}
	a.hurts.of, a.hurts.foot = a.model, panel.Foot{}
	members := a.standing()
	if len(a.draft.Nodes)*len(members) > mostSupposed {
		return panel.Foot{}
	}
	foot := panel.Foot{Head: "single failures that would stop something"}
	for _, c := range whatif.Singles(a.draft, members) {
		if len(foot.Lines) == 6 {
			break
		}
		foot.Lines = append(foot.Lines, panel.Can{Key: string(c.Faults[0].Zone) + string(c.Faults[0].Node), Word: c.Loss.Stops()})
	}
	if len(foot.Lines) == 0 {
		foot.Head = "no single failure of a node or a zone"
		foot.Lines = []panel.Can{{Word: "would stop anything"}}
	}
	a.hurts.foot = foot
	return foot
}

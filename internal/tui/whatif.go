package tui

import (
	"fmt"
	"strings"

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

// suppose finds what would come of the failure of what is under the cursor and lays it over the board.
func (a *app) suppose() (sentence string) {
	if !a.whatIf || a.draft == nil {
		a.model.Suppose(nil)
		return ""
	}
	fault, name := a.fault()
	loss := a.model.Loss(fault)
	if marked := a.marks(); len(marked) > 0 { // they fail with it
		faults := []whatif.Fault{fault}
		others := 0
		for _, m := range marked {
			faults = append(faults, whatif.Fault{Member: m.Member})
			if !loss.Dark[m.Member] {
				others++
			}
		}
		both := a.model.Scene().Fail(faults...)
		loss = &both
		name += fmt.Sprintf(" and %s more that are marked", counted(others, "lantern"))
	}
	a.model.Suppose(loss)
	return fmt.Sprintf("If %s failed: %s.", name, loss.Sentence())
}

// worstFailures is the list of failures that hurt most, and the board that it was made for.
type worstFailures struct {
	of   *board.Model
	foot panel.Foot
}

// mostSupposed bounds the work of looking for failures between two frames, in members.
const mostSupposed = 60_000

// hurting lists the failures that hurt most, of one thing and of two at once, the worst first.
func (a *app) hurting() panel.Foot {
	if a.worst.of == a.model {
		return a.worst.foot
	}
	a.worst.of, a.worst.foot = a.model, panel.Foot{}
	scene := a.model.Scene()
	if len(scene.Members) > mostSupposed {
		return panel.Foot{}
	}
	singles, doubles := scene.WorstFailures(5)
	foot := panel.Foot{Head: "failures that would stop something"}
	for _, c := range append(singles, doubles...) {
		var names []string
		for _, f := range c.Faults {
			names = append(names, string(f.Zone)+string(f.Node))
		}
		foot.Lines = append(foot.Lines, panel.Can{Key: strings.Join(names, " + "), Word: c.Loss.Stops()})
	}
	if len(singles) == 0 {
		foot.Head = "no single failure of a node or a zone would stop anything"
	}
	if len(foot.Lines) == 0 {
		foot.Lines = []panel.Can{{Word: "nor would any two together"}}
	}
	a.worst.foot = foot
	return foot
}

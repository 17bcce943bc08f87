package tui

import (
	"fmt"

	"charm.land/bubbles/v2/key"

	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
)

// can lists what can be done to what is under the cursor.
func (a *app) can() panel.Foot {
	if a.whatIf {
		return a.hurting()
	}
	if a.archive != "" || a.past != nil || a.mode != walking && a.mode != inDetail {
		return panel.Foot{}
	}
	var all []panel.Can
	add := func(b key.Binding, word string) { all = append(all, panel.Can{Key: b.Help().Key, Word: word}) }
	at := a.model.Under(a.cursor)
	_, m := a.model.Member(at.Member)
	var live []*board.Member
	if m == nil {
		_, live = a.targets()
	}
	stopped := 0
	for _, x := range live {
		if x.Phase == state.Stopped {
			stopped++
		}
	}
	switch {
	case m != nil && m.Unsent:
		add(a.keys.Grab, "put it on another node")
		add(a.keys.Pin, "pin it here, or unpin it")
		add(a.keys.Remove, "take it out of the draft")
		add(a.keys.Change, "change its role, its node")
		add(a.keys.Files, "read its config files")
	case m != nil:
		if m.Phase == state.Stopped {
			add(a.keys.Halt, "start it again")
		} else {
			add(a.keys.Restart, "restart it here")
			add(a.keys.Halt, "stop it; place and data are kept")
		}
		add(a.keys.Lines, "read its lines")
		add(a.keys.Files, "read its config files")
		if !m.Leaving && !m.Removal {
			add(a.keys.Grab, "move it to another node")
			add(a.keys.Remove, "take it out of the draft")
		}
	case at.Role != "" && at.Node != "":
		add(a.keys.Add, fmt.Sprintf("add one of %s here", at.Role))
		add(a.keys.Change, "change the role, the node")
	case at.Role != "":
		add(a.keys.Change, "change anything of it")
		add(a.keys.More, "one more of them, anywhere")
		add(a.keys.Fewer, "one fewer")
		switch {
		case len(live) > 0 && stopped == len(live):
			add(a.keys.Halt, "start them again")
			add(a.keys.Lines, "read their lines")
		case len(live) > 0:
			add(a.keys.Restart, "restart them one by one")
			add(a.keys.Halt, "stop them all")
			add(a.keys.Lines, "read their lines")
		}
	case at.Zone != "" || at.Node != "":
		add(a.keys.Change, "change anything of it")
		add(a.keys.Fold, "fold this zone, or open it")
		if len(live) > 0 {
			if stopped == len(live) {
				add(a.keys.Halt, "start again what is stopped here")
			} else {
				add(a.keys.Halt, "stop all that runs here")
			}
			add(a.keys.Lines, "read the lines from here")
		}
	}
	return panel.Foot{Head: "you can", Lines: all}
}

// drawKeyLine writes the keys that do something here and now.
func (a *app) drawKeyLine(g *grid.Grid, y int) {
	k := a.look
	all := a.hints()
	width := func(s hint) int { return grid.Width(s.key) + 1 + grid.Width(s.word) + 3 }
	rest := 0
	for _, s := range all[max(0, len(all)-2):] {
		rest += width(s)
	}
	x := 1
	for i, s := range all { // the last two always have room
		if i < len(all)-2 && x+width(s)+rest > a.w {
			continue
		}
		x = g.Text(x, y, s.key, k.In(k.Act).Strong())
		x = g.Text(x+1, y, s.word, k.Quiet()) + 3
	}
}

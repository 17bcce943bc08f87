package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
)

// prove asks for the proofs of a role to be done, or for all where none is named.
func (a *app) prove(role field.RoleName) tea.Cmd {
	if a.inPast() {
		return nil
	}
	count, whose := 0, "this field"
	for _, p := range a.snap.Proofs {
		if role == "" || p.Role == role {
			count++
		}
	}
	o := control.Request{What: "prove"}
	if role != "" {
		o.Names, whose = []string{string(role)}, string(role)
	}
	if count == 0 {
		a.say(true, fmt.Sprintf("There is no proof of %s: neither its kit nor the field file defines one. Add it under proofs: in the file.", whose))
		return nil
	}
	a.say(false, fmt.Sprintf("%s is being proved. 4 shows what comes of it.", whose))
	return a.order(o)
}

// pressAccess takes the keys of the view of access.
func (a *app) pressAccess(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Up):
		a.access.Move(a.snap, -1)
	case is(a.keys.Down):
		a.access.Move(a.snap, 1)
	case is(a.keys.First):
		a.access.At = 0
	case is(a.keys.Last):
		a.access.Move(a.snap, len(a.snap.Proofs))
	case is(a.keys.Prove):
		if p := a.access.Under(a.snap); p != nil {
			return a.prove(p.Role)
		}
		return a.prove("")
	case is(a.keys.Close):
		a.view = boardView
	}
	return nil
}

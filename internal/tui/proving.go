package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
)

// prove asks for the proofs of a role to be done, or for all where none is named.
func (a *app) prove(role field.RoleName) tea.Cmd {
	if a.inPast() {
		return nil
	}
	if a.snap.State == snapshot.Draft || a.snap.State == snapshot.Retired {
		a.say(true, "Nothing is deployed, so there is nothing to be proved. v shows what deploying would do.")
		return nil
	}
	count, whose := 0, "the field"
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
	a.say(false, fmt.Sprintf("It is being proved whether %s does its work. 4 shows what comes of it.", whose))
	return a.order(o)
}

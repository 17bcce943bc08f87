package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/sheet"
)

// pointing is a wire that is being drawn: its role is pointed at.
type pointing struct {
	row  sheet.Row
	at   int // of row.Options
	from field.RoleName
}

// startWire begins to draw a wire: the cursor stands on the roles that fit, one after the other.
func (a *app) startWire(r sheet.Row) {
	if len(r.Options) == 0 {
		a.say(true, "No role of the draft provides what is wanted here; add one with A.")
		return
	}
	a.pointing = &pointing{row: r, at: max(0, slices.Index(r.Options, r.Value)), from: field.RoleName(r.Path[1])}
	a.mode = inPointing
	a.standOnTarget()
}

func (a *app) standOnTarget() {
	name := field.RoleName(a.pointing.row.Options[a.pointing.at])
	for i := range a.model.Roles {
		if a.model.Roles[i].Role == name {
			a.cursor = a.model.Keep(board.Cursor{Role: i, Post: -1})
		}
	}
}

func (a *app) pressPointing(is keyIs) tea.Cmd {
	p := a.pointing
	n := len(p.row.Options)
	switch {
	case is(a.keys.Close), is(a.keys.Quit):
		a.mode = inSheet
	case is(a.keys.Down), is(a.keys.Right):
		p.at = (p.at + 1) % n
		a.standOnTarget()
	case is(a.keys.Up), is(a.keys.Left):
		p.at = (p.at + n - 1) % n
		a.standOnTarget()
	case is(a.keys.Inspect):
		return a.wire()
	}
	return nil
}

// pointAtRole takes the role that somebody clicks at.
func (a *app) pointAtRole(x, y int) tea.Cmd {
	c, ok := board.Hit(a.model, a.boardArea(), a.cursor, x, y)
	if !ok {
		return nil
	}
	role := string(a.model.Under(c).Role)
	i := slices.Index(a.pointing.row.Options, role)
	if i < 0 {
		if role != "" {
			a.say(true, fmt.Sprintf("%s does not fit there; what does is %s.", role, strings.Join(a.pointing.row.Options, ", ")))
		}
		return nil
	}
	a.pointing.at = i
	a.standOnTarget()
	return a.wire()
}

// wire writes the role that is pointed at.
func (a *app) wire() tea.Cmd {
	p := a.pointing
	to := p.row.Options[p.at]
	a.mode = inSheet
	key := p.row.Path[len(p.row.Path)-2]
	switch {
	case p.row.Path[len(p.row.Path)-1] != "+":
		return a.put(fmt.Sprintf("%s %s %s", p.from, p.row.Label, to), p.row.Puts(to)...)
	case key == "after":
		gate := string(field.GateAll)
		if r := a.draft.Role(field.RoleName(to)); r != nil && r.Votes {
			gate = string(field.GateQuorum)
		}
		return a.put(fmt.Sprintf("%s after %s", p.from, to), arrange.OfRole(p.from, gate, "after", to))
	}
	a.askText(fmt.Sprintf("By which name does %s call %s?", p.from, to), "the name that its templates use, such as store", "", func(name string) tea.Cmd {
		if !field.NamePattern.MatchString(name) {
			a.say(true, fmt.Sprintf("%q cannot be the name of a call: %s", name, field.NameRule))
			return nil
		}
		return a.put(fmt.Sprintf("%s %s %s as %s", p.from, key, to, name), arrange.OfRole(p.from, to, key, name))
	})
	return nil
}

package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/board"
)

// mark marks the member under the cursor, or all of a role, node or zone, or lets go of them.
func (a *app) mark() {
	if a.inPast() {
		return
	}
	at := a.model.Under(a.cursor)
	var here []field.MemberName
	for i := range a.model.Roles {
		for j := range a.model.Roles[i].Members {
			m := &a.model.Roles[i].Members[j]
			if (at.Member == "" || at.Member == m.Member) && (at.Role == "" || at.Role == m.Role) && (at.Node == "" || at.Node == m.Node) &&
				(at.Zone == "" || at.Zone == m.Zone) && !m.Removal && !m.Leaving {
				here = append(here, m.Member)
			}
		}
	}
	if len(here) == 0 {
		a.say(true, "Nothing hangs here that could be marked.")
		return
	}
	if a.marked == nil {
		a.marked = map[field.MemberName]bool{}
	}
	all := true
	for _, m := range here {
		all = all && a.marked[m]
	}
	for _, m := range here {
		if all {
			delete(a.marked, m)
		} else {
			a.marked[m] = true
		}
	}
	a.layMarks()
	if len(a.marked) == 0 {
		a.say(false, "Nothing is marked any more.")
		return
	}
	a.say(false, fmt.Sprintf("%s marked: %s act on all of them; esc unmarks them.", counted(len(a.marked), "member"), marksDo))
}

// layMarks shows the marks on the board and forgets those whose member is gone.
func (a *app) layMarks() {
	there := map[field.MemberName]bool{}
	for i := range a.model.Roles {
		for j := range a.model.Roles[i].Members {
			m := &a.model.Roles[i].Members[j]
			m.Marked = a.marked[m.Member]
			there[m.Member] = m.Marked
		}
	}
	for m := range a.marked {
		if !there[m] && len(a.model.Roles) > 0 {
			delete(a.marked, m)
		}
	}
}

// marks are the marked members, in the order of the board.
func (a *app) marks() []*board.Member {
	var all []*board.Member
	for i := range a.model.Roles {
		for j := range a.model.Roles[i].Members {
			if m := &a.model.Roles[i].Members[j]; a.marked[m.Member] {
				all = append(all, m)
			}
		}
	}
	return all
}

// chosenMembers are those that an edit is about: the marked ones, or the one under the cursor.
func (a *app) chosenMembers(at board.Place) []board.Place {
	var all []board.Place
	for _, m := range a.marks() {
		all = append(all, board.Place{Member: m.Member, Role: m.Role, Node: m.Node, Zone: m.Zone})
	}
	if len(all) == 0 && at.Member != "" {
		all = append(all, at)
	}
	return all
}

// stillNamed is the name of a member after others of its role were changed: what is only in the draft is numbered anew.
func stillNamed(f *field.Field, live plan.Live, at board.Place) field.MemberName {
	name := at.Member
	stand, _ := arrange.Standings(f, live, at.Role)
	for _, s := range stand {
		switch {
		case s.Node != at.Node:
		case s.Member == at.Member:
			return s.Member
		default:
			name = s.Member
		}
	}
	return name
}

// changeEach makes an edit for each of several members as one change.
func (a *app) changeEach(all []board.Place, words string, make func(*field.Field, plan.Live, board.Place) (arrange.Change, string, error)) tea.Cmd {
	a.marked = nil
	others := a.folder.Around
	return a.rewrite(func(base *fieldfile.File, live plan.Live) ([]byte, string, error) {
		now, what := base, ""
		for _, at := range all {
			draft := resolve.Draft(now.Field, live, others)
			at.Member = stillNamed(draft, live, at)
			c, word, err := make(draft, live, at)
			if err != nil {
				return nil, "", fmt.Errorf("%s; the draft stays as it is", err)
			}
			data, err := now.Set(c)
			if err != nil {
				return nil, "", err
			}
			if now, err = base.With(data); err != nil {
				return nil, "", err
			}
			what = word
		}
		if len(all) > 1 {
			what = fmt.Sprintf("%d members %s", len(all), words)
		}
		return now.Bytes, what, nil
	})
}

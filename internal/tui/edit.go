package tui

import (
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
)

// pressEdit takes the keys that change the draft.
func (a *app) pressEdit(is keyIs) tea.Cmd {
	editing := []key.Binding{a.keys.Add, a.keys.Remove, a.keys.More, a.keys.Fewer, a.keys.Grab, a.keys.Pin, a.keys.Undo, a.keys.Redo}
	if slices.ContainsFunc(editing, is) && a.inPast() {
		return nil
	}
	at := a.model.Under(a.cursor)
	switch {
	case is(a.keys.More):
		return a.count(1)
	case is(a.keys.Fewer):
		return a.count(-1)
	case is(a.keys.Add):
		if at.Role == "" {
			a.say(true, "Stand on a role's row, where it crosses a node: a adds a member of that role there.")
			return nil
		}
		return a.change(func(f *field.Field, live plan.Live) (arrange.Change, string, error) {
			c, err := arrange.Add(f, live, at.Role, at.Node)
			what := fmt.Sprintf("one more of %s", at.Role)
			if at.Node != "" {
				what += " on " + string(at.Node)
			}
			return c, what, err
		})
	case is(a.keys.Remove):
		all := a.chosenMembers(at)
		if len(all) == 0 {
			a.say(true, "Stand on a lantern: x takes that member out of the draft. c, on a role or a node, takes those out.")
			return nil
		}
		return a.changeEach(all, "taken out", func(f *field.Field, live plan.Live, at board.Place) (arrange.Change, string, error) {
			c, err := arrange.Remove(f, live, at.Role, at.Member)
			return c, fmt.Sprintf("without %s", at.Member), err
		})
	case is(a.keys.Pin):
		all := a.chosenMembers(at)
		if len(all) == 0 {
			a.say(true, "Stand on a lantern: i pins that member to its node, or lets it go.")
			return nil
		}
		return a.changeEach(all, "pinned or unpinned", func(f *field.Field, live plan.Live, at board.Place) (arrange.Change, string, error) {
			c, pinned, err := arrange.Pin(f, live, at.Role, at.Member)
			if pinned {
				return c, fmt.Sprintf("%s pinned to %s", at.Member, at.Node), err
			}
			return c, fmt.Sprintf("%s unpinned", at.Member), err
		})
	case is(a.keys.Grab):
		a.grab(at)
	case is(a.keys.Undo):
		return a.undo()
	case is(a.keys.Redo):
		return a.redo()
	}
	return nil
}

// count changes how many members the draft wants of the role under the cursor.
func (a *app) count(by int) tea.Cmd {
	name := a.model.Under(a.cursor).Role
	if name == "" {
		a.say(true, "Stand on a role, or on one of its members: + and - change how many it has.")
		return nil
	}
	return a.change(func(f *field.Field, _ plan.Live) (arrange.Change, string, error) {
		r := f.Role(name)
		if r == nil {
			return arrange.Change{}, "", fmt.Errorf("the file has no role %s that could be changed", name)
		}
		c, err := arrange.Count(f, name, r.Members+by)
		return c, fmt.Sprintf("%s: %s", name, membersInWords(c.Members)), err
	})
}

func membersInWords(n int) string {
	if n == 1 {
		return "1 member"
	}
	return fmt.Sprintf("%d members", n)
}

// grab lets the cursor carry the member under it.
func (a *app) grab(at board.Place) {
	_, m := a.model.Member(at.Member)
	switch {
	case m == nil:
		a.say(true, "Stand on a lantern: g grabs that member, to drop it on another node.")
	case m.Removal || m.Leaving:
		a.say(true, fmt.Sprintf("%s leaves already; it cannot be moved.", at.Member))
	default:
		a.mode, a.carried, a.from = carrying, at, a.cursor
	}
}

func (a *app) pressCarrying(is keyIs) tea.Cmd {
	step := func(by int) {
		a.cursor.Post = min(max(a.cursor.Post+by, 0), len(a.model.Posts)-1)
		a.cursor.Lantern = 0
	}
	switch {
	case is(a.keys.Close), is(a.keys.Quit):
		a.mode, a.cursor = walking, a.model.Keep(a.from)
		a.say(false, fmt.Sprintf("%s stays where it is.", a.carried.Member))
	case is(a.keys.Left):
		step(-1)
	case is(a.keys.Right):
		step(1)
	case is(a.keys.First):
		step(-len(a.model.Posts))
	case is(a.keys.Last):
		step(len(a.model.Posts))
	case is(a.keys.Drop):
		return a.drop()
	}
	return nil
}

// drop puts the carried member on the post under the cursor.
func (a *app) drop() tea.Cmd {
	post := a.model.Posts[a.cursor.Post]
	if post.Folded {
		a.say(true, fmt.Sprintf("%s is folded: esc, then z opens it, so that one of its nodes can be pointed at.", a.model.Zones[post.Zone].Name))
		return nil
	}
	a.mode = walking
	to, carried := post.Nodes[0].Node, a.carried
	if to == carried.Node && len(a.marked) == 0 {
		a.say(false, fmt.Sprintf("%s stays where it is.", carried.Member))
		return nil
	}
	all := slices.DeleteFunc(a.chosenMembers(carried), func(p board.Place) bool { return p.Node == to })
	return a.changeEach(all, "moved to "+string(to), func(f *field.Field, live plan.Live, at board.Place) (arrange.Change, string, error) {
		c, err := arrange.Move(f, live, at.Role, at.Member, to)
		return c, fmt.Sprintf("%s to %s", at.Member, to), err
	})
}

func (a *app) pressClash(is keyIs) tea.Cmd {
	c := a.clash
	switch {
	case is(a.keys.Theirs), is(a.keys.Close), is(a.keys.Quit):
		a.clash, a.mode = nil, walking
		a.say(false, "Theirs stays; your change was not made.")
		return a.readFile()
	case is(a.keys.Mine):
		a.clash, a.mode = nil, walking
		return a.later(func() tea.Cmd {
			return func() tea.Msg {
				data, _ := fieldfile.Merge(c.base, c.data, c.theirs.Bytes, false)
				return store(c.theirs, data, c.write, true)
			}
		})
	}
	return nil
}

// inClash has a person choose: two people have changed the same lines of the file. Carrying has the cursor carry a member.
var inClash, carrying = &layer{name: "clash"}, &layer{name: "carrying"}

func init() {
	*inClash = layer{name: "clash", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressClash(is) }, over: always,
		keys: func(a *app) []hint {
			return []hint{hintOf(a.keys.Theirs, "keep theirs"), hintOf(a.keys.Mine, "take yours")}
		},
		draw: func(a *app, g *grid.Grid, _ frame) {
			var text []string
			for _, c := range a.clash.conflicts {
				text = append(text, fmt.Sprintf("line %d, theirs:", c.Line))
				text = append(text, strings.Split(strings.TrimRight(c.Theirs, "\n"), "\n")...)
				text = append(text, "yours:")
				text = append(text, strings.Split(strings.TrimRight(c.Mine, "\n"), "\n")...)
				text = append(text, "")
			}
			a.lines, a.shown = panel.Ask(g, a.look, "Somebody else has changed the same lines of the file", text, false, "t keeps theirs     m takes yours     nothing has been written yet")
		}}
	*carrying = layer{name: "carrying", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressCarrying(is) },
		keys: func(a *app) []hint {
			return []hint{{a.arrows().sideways, "to another node"}, hintOf(a.keys.Drop, "drop it here"), hintOf(a.keys.Close, "leave it")}
		},
		says: func(a *app) (string, string) {
			return fmt.Sprintf("carrying %s: enter drops it, esc leaves it", a.carried.Member), fmt.Sprintf("carrying %s: enter drops it", a.carried.Member)
		},
		side: func(a *app, g *grid.Grid, f frame) {
			panel.Carry(g, a.look, a.model, a.cursor, a.carried.Member, f.side)
		}}
}

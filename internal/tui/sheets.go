package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/pattern"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/sheet"
)

// page is a thing whose sheet can be turned to.
type page struct {
	title string
	rows  func() []sheet.Row
}

// sheets is what is open to be changed: the thing under the cursor, and what it is part of.
type sheets struct {
	pages []page
	page  int
	row   int
	all   bool // every setting is shown

	made []sheet.Row // of the page that is open, and what they were made of
	of   madeOf
}

type madeOf struct {
	draft *field.Field
	page  int
	all   bool
}

// rows lists what can be changed on the page that is open.
func (a *app) rows() []sheet.Row {
	if len(a.sheets.pages) == 0 || a.draft == nil {
		return nil
	}
	if of := (madeOf{a.draft, a.sheets.page, a.sheets.all}); a.sheets.of != of {
		a.sheets.of, a.sheets.made = of, a.sheets.pages[a.sheets.page].rows()
	}
	return a.sheets.made
}

// openSheet opens what can be said of the thing under the cursor.
func (a *app) openSheet() {
	if a.inPast() {
		return
	}
	if a.loaded == nil {
		a.say(true, "There is no draft that could be changed. "+a.trouble)
		return
	}
	at := a.model.Under(a.cursor)
	s := sheets{}
	if at.Member != "" && at.Role != "" {
		s.pages = append(s.pages, page{string(at.Member), func() []sheet.Row {
			r := a.draft.Role(at.Role)
			if r == nil {
				return nil
			}
			return sheet.OfMember(a.draft, r, at.Member, a.draft.Node(at.Node), a.here(at))
		}})
	}
	if at.Role != "" {
		s.pages = append(s.pages, a.pageOfRole(at.Role))
	}
	if at.Node != "" {
		s.pages = append(s.pages, page{"node " + string(at.Node), func() []sheet.Row {
			n := a.draft.Node(at.Node)
			if n == nil {
				return nil
			}
			return sheet.OfNode(a.draft, n, a.loaded.NodeEntry(at.Node))
		}})
	}
	zone := at.Zone
	if n := a.draft.Node(at.Node); n != nil {
		zone = n.Zone
	}
	if zone != "" {
		s.pages = append(s.pages, page{"zone " + string(zone), func() []sheet.Row { return sheet.OfZone(a.draft, zone) }})
	}
	s.pages = append(s.pages, page{"the field " + a.draft.Name, func() []sheet.Row {
		var variables []sheet.Variable
		for _, v := range a.loaded.Variables {
			note := "the file's default"
			if v.Chosen {
				note = "chosen by " + a.env
			}
			variables = append(variables, sheet.Variable{Name: v.Name, About: v.About, Value: string(v.Value), Note: note})
		}
		taken, _ := a.taken.get(amountsOf{a.draft, a.review})
		return sheet.OfField(a.draft, variables, taken.draft, taken.live)
	}})
	if len(s.pages) > 1 && at.Member != "" {
		s.page = 1 // the role is what is changed most; its member stands before it
	}
	a.sheets, a.mode = s, inSheet
}

func (a *app) pageOfRole(name field.RoleName) page {
	return page{"role " + string(name), func() []sheet.Row {
		r := a.draft.Role(name)
		if r == nil {
			return nil
		}
		names := make([]string, len(a.kits))
		for i, k := range a.kits {
			names[i] = k.info.Name
		}
		return sheet.OfRole(a.draft, r, names, a.sheets.all)
	}}
}

// here counts the members of a role on a node of the board.
func (a *app) here(at board.Place) int {
	n := 0
	if r := a.model.Role(at.Role); r != nil {
		for _, m := range r.Members {
			if m.Node == at.Node && !m.Removal {
				n++
			}
		}
	}
	return n
}

func (a *app) pressSheet(is keyIs) tea.Cmd {
	s := &a.sheets
	rows := a.rows()
	s.row = max(0, min(s.row, len(rows)-1))
	a.message = ""
	switch {
	case is(a.keys.Close), is(a.keys.Quit), is(a.keys.Change):
		a.mode = walking
	case is(a.keys.Other), is(a.keys.Right):
		s.page, s.row = (s.page+1)%len(s.pages), 0
	case is(a.keys.Left):
		s.page, s.row = (s.page+len(s.pages)-1)%len(s.pages), 0
	case is(a.keys.Undo):
		return a.undo()
	case is(a.keys.Redo):
		return a.redo()
	case len(rows) == 0:
	case is(a.keys.Down):
		s.row = min(s.row+1, len(rows)-1)
	case is(a.keys.Up):
		s.row = max(s.row-1, 0)
	case is(a.keys.PageDown), is(a.keys.Last):
		s.row = len(rows) - 1
	case is(a.keys.PageUp), is(a.keys.First):
		s.row = 0
	case is(a.keys.Remove):
		return a.clearRow(rows[s.row])
	case is(a.keys.Inspect):
		return a.changeRow(rows[s.row])
	}
	return nil
}

// keepAsPattern asks under which name.
func (a *app) keepAsPattern() {
	a.askText("Name of the pattern", "it is kept in your config folder with its variables, and `lanternfield new` offers it; "+field.NameRule, a.draft.Name, func(name string) tea.Cmd {
		switch file, err := pattern.Save(a.loaded, name, ""); {
		case err != nil:
			a.say(true, err.Error())
		default:
			a.say(false, fmt.Sprintf("Kept as the pattern %s, in %s.", name, file))
		}
		return nil
	})
}

// sheetView is what the panel draws of the open sheet.
func (a *app) sheetView() panel.Sheet {
	v := panel.Sheet{Rows: a.rows(), Row: a.sheets.row}
	for i, p := range a.sheets.pages {
		v.Pages = append(v.Pages, p.title)
		if i == a.sheets.page {
			v.Page = i
		}
	}
	return v
}

// inSheet has what the file says of the thing under the cursor stand beside the board; inPointing points at a role, for a wire; inList
// has one of several things chosen.
var inSheet, inPointing, inList = &layer{name: "sheet"}, &layer{name: "pointing"}, &layer{name: "list"}

func init() {
	side := func(a *app, g *grid.Grid, f frame) { panel.DrawSheet(g, a.look, a.sheetView(), f.side) }
	*inSheet = layer{name: "sheet", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressSheet(is) }, side: side,
		keys: func(a *app) []hint {
			return []hint{{a.arrows().upDown, "choose"}, hintOf(a.keys.Inspect, "change it"), hintOf(a.keys.Remove, "take it out"), hintOf(a.keys.Other, "turn the page"),
				hintOf(a.keys.Undo, "undo"), hintOf(a.keys.Close, "back")}
		},
		says: func(*app) (string, string) {
			return "changing: enter changes a line, x takes it out, tab turns the page, esc goes back", "changing: enter, x takes out, tab turns, esc"
		},
		draw: func(a *app, g *grid.Grid, f frame) {
			if f.side.W == 0 {
				panel.DrawSheet(g, a.look, a.sheetView(), board.Area{X: 0, Y: f.area.Y, W: a.w, H: f.area.H})
			}
		}}
	*inPointing = layer{name: "pointing", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressPointing(is) }, side: side,
		keys: func(a *app) []hint {
			return []hint{{a.arrows().upDown, "point at a role"}, hintOf(a.keys.Inspect, "take it"), hintOf(a.keys.Close, "back")}
		},
		says: func(a *app) (string, string) {
			return fmt.Sprintf("%s, %s: arrows point at a role, enter takes it, esc goes back", a.pointing.from, a.pointing.row.Label),
				fmt.Sprintf("%s, %s: point at a role, enter", a.pointing.from, a.pointing.row.Label)
		}}
	*inList = layer{name: "list", press: func(a *app, _ tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressList(is) },
		keys: func(a *app) []hint {
			return []hint{{a.arrows().upDown, "choose"}, hintOf(a.keys.Inspect, "take it"), hintOf(a.keys.Close, "back")}
		},
		draw: func(a *app, g *grid.Grid, _ frame) { panel.List(g, a.look, a.list.title, a.list.items, a.list.at) }}
}

package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/kit"
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
		return sheet.OfRole(a.draft, r, kit.Names(), a.sheets.all)
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

// changeRow lets a person say something else.
func (a *app) changeRow(r sheet.Row) tea.Cmd {
	switch r.Kind {
	case sheet.More:
		a.sheets.all = true
	case sheet.Drop:
		return a.dropThing(r)
	case sheet.Keep:
		a.keepAsPattern()
		return nil
	case sheet.Choice:
		if len(r.Options) > 0 { // the next one; there are few
			i := slices.Index(r.Options, r.Value)
			return a.putRow(r, r.Options[(i+1)%len(r.Options)])
		}
	case sheet.Wire:
		a.startWire(r)
		return nil
	case sheet.Rename:
		a.askText("Another name for "+r.Value, r.Help, r.Value, func(to string) tea.Cmd {
			if to == r.Value || to == "" {
				return nil
			}
			a.mode = walking
			return a.rename(arrange.Rename{What: r.What, From: r.Value, To: to})
		})
		return nil
	}
	if r.Kind == sheet.Words || r.Kind == sheet.Plain || r.Kind == sheet.Names || r.Kind == sheet.Choice && len(r.Options) == 0 {
		value := r.Value
		if strings.HasPrefix(r.Note, "from ") && !strings.Contains(r.Note, "role") && !strings.Contains(r.Note, "member") {
			value = "" // it is not said here
		}
		help := r.Help
		if value == "" && r.Value != "" {
			help = strings.TrimPrefix(fmt.Sprintf("%s. Now %s, %s", help, r.Value, r.Note), ". ")
		}
		a.askText(r.Label, help, value, func(text string) tea.Cmd {
			if text == r.Value && value == r.Value {
				return nil
			}
			return a.putRow(r, text)
		})
	}
	return nil
}

// putRow writes another value; refused ones leave the file as it is.
func (a *app) putRow(r sheet.Row, value string) tea.Cmd {
	what := fmt.Sprintf("%s: %s", strings.Join(r.Path[max(0, len(r.Path)-2):], " "), value)
	if value == "" {
		what = "without " + r.Label
	}
	return a.put(what, r.Puts(value)...)
}

func (a *app) clearRow(r sheet.Row) tea.Cmd {
	switch {
	case r.Kind == sheet.Drop:
		return a.dropThing(r)
	case r.Kind == sheet.Told || r.Kind == sheet.Keep || r.Kind == sheet.Rename || r.Value == "" || len(r.Path) == 0 || r.Path[len(r.Path)-1] == "+":
		a.say(false, "There is nothing here that could be taken out.")
		return nil
	}
	return a.putRow(r, "")
}

// dropThing takes a whole role or node out of the draft, with what refers to it, so that the draft stays whole.
func (a *app) dropThing(r sheet.Row) tea.Cmd {
	a.mode = walking
	name := r.Path[1]
	puts := r.Puts("")
	if r.Path[0] == "roles" {
		for _, other := range a.draft.Roles {
			for _, wires := range []struct {
				key string
				to  map[string]field.RoleName
			}{{"calls", other.Calls}, {"knows", other.Knows}} {
				for call, to := range wires.to {
					if string(to) == name {
						puts = append([]arrange.Put{arrange.OfRole(other.Name, "", wires.key, call)}, puts...)
					}
				}
			}
			if _, ok := other.After[field.RoleName(name)]; ok {
				puts = append([]arrange.Put{arrange.OfRole(other.Name, "", "after", name)}, puts...)
			}
			for key, list := range map[string][]field.RoleName{"beside": other.Beside, "apart": other.Apart} {
				if value, there := listWithout(list, name); there {
					puts = append([]arrange.Put{arrange.OfRole(other.Name, value, key)}, puts...)
				}
			}
		}
		if len(a.draft.Place[field.RoleName(name)]) > 0 {
			puts = append([]arrange.Put{arrange.At("", "place", name)}, puts...)
		}
	} else {
		for role, pins := range a.draft.Place {
			if value, there := listWithout(pins, name); there {
				puts = append([]arrange.Put{arrange.At(value, "place", string(role))}, puts...)
			}
		}
	}
	return a.put("without "+name, puts...)
}

// listWithout writes a list without a name, as YAML; empty when nothing is left. It tells whether the name was there.
func listWithout[T ~string](list []T, name string) (value string, there bool) {
	var left []string
	for _, n := range list {
		if string(n) == name {
			there = true
			continue
		}
		left = append(left, string(n))
	}
	if len(left) > 0 {
		value = "[" + strings.Join(left, ", ") + "]"
	}
	return value, there
}

func (a *app) rename(r arrange.Rename) tea.Cmd {
	return a.rewrite(func(base *fieldfile.File, _ plan.Live) ([]byte, string, error) {
		data, err := base.Rename(r)
		return data, fmt.Sprintf("%s is %s", r.From, r.To), err
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

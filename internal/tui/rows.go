package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/sheet"
)

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
	names := []string{name}
	for _, path := range r.Also {
		names = append(names, path[1])
	}
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
			if value, there := listWithout(pins, names...); there {
				puts = append([]arrange.Put{arrange.At(value, "place", string(role))}, puts...)
			}
		}
	}
	return a.put("without "+wording.And(names), puts...)
}

// listWithout writes a list without some names, as YAML; empty when nothing is left. It tells whether any of them was there.
func listWithout[T ~string](list []T, names ...string) (value string, there bool) {
	var left []string
	for _, n := range list {
		if slices.Contains(names, string(n)) {
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

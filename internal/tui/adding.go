package tui

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/kit"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/sheet"
)

// choices is a list of things of which one is chosen.
type choices struct {
	title string
	items []panel.Item
	at    int
	back  *layer
	take  func(i int) tea.Cmd
}

func (a *app) choosing(title string, items []panel.Item, take func(i int) tea.Cmd) {
	a.list = &choices{title: title, items: items, back: a.mode, take: take}
	a.mode = inList
}

func (a *app) pressList(is keyIs) tea.Cmd {
	l := a.list
	switch {
	case is(a.keys.Close), is(a.keys.Quit):
		a.mode = l.back
	case is(a.keys.Down):
		l.at = min(l.at+1, len(l.items)-1)
	case is(a.keys.Up):
		l.at = max(l.at-1, 0)
	case is(a.keys.First), is(a.keys.PageUp):
		l.at = 0
	case is(a.keys.Last), is(a.keys.PageDown):
		l.at = len(l.items) - 1
	case is(a.keys.Inspect):
		a.mode = l.back
		return l.take(l.at)
	}
	return nil
}

// addThing asks what is to be added to the draft: a role that some kit plays, or nodes.
func (a *app) addThing() {
	if a.inPast() {
		return
	}
	if a.loaded == nil {
		a.say(true, "There is no draft to which anything could be added. "+a.trouble)
		return
	}
	items := []panel.Item{{Name: "nodes", Text: "one, or a range of them such as heron-{1..3}, in a zone that is there or a new one"},
		{Name: "a set of nodes", Text: "made when members want them, and removed when none does"},
		{Name: "a role of your own", Text: "a program that no kit knows: its command, where it listens, and what says that it is ready"}}
	kits := a.kits
	for _, k := range kits {
		items = append(items, panel.Item{Name: "a role: " + k.info.Name, Text: k.about})
	}
	a.choosing("Add to the draft", items, func(i int) tea.Cmd {
		switch i {
		case 0:
			a.addNodes()
		case 1:
			a.addSet()
		case 2:
			a.addOwn()
		default:
			a.addRole(kits[i-3])
		}
		return nil
	})
}

func (a *app) addNodes() {
	at := a.model.Under(a.cursor)
	zone := string(at.Zone)
	like := a.draft.Node(at.Node)
	if like != nil {
		zone = string(like.Zone)
	} else if len(a.draft.Nodes) > 0 {
		like = &a.draft.Nodes[len(a.draft.Nodes)-1]
	}
	a.askText("Name of the new node, or of a range", "such as heron-1 or heron-{1..3}; "+field.NameRule, "", func(name string) tea.Cmd {
		names, err := field.ExpandRange(name)
		if err == nil && !field.NamePattern.MatchString(names[0]) {
			err = fmt.Errorf("%q cannot be a node's name; %s", name, field.NameRule)
		}
		for _, n := range names {
			if err == nil && a.draft.Node(field.NodeName(n)) != nil {
				err = fmt.Errorf("there is a node %s already", n)
			}
		}
		if err != nil {
			a.say(true, err.Error())
			return nil
		}
		a.askText("In which zone?", "what fails together; a name that is new makes a new zone, and empty is no zone", zone, func(zone string) tea.Cmd {
			if zone != "" && !field.NamePattern.MatchString(zone) {
				a.say(true, fmt.Sprintf("%q cannot be a zone's name; %s", zone, field.NameRule))
				return nil
			}
			value := "name: " + name
			if zone != "" {
				value += "\nzone: " + zone
			}
			if like != nil {
				value += likeNode(like)
			}
			return a.put("new: "+name, arrange.Put{Path: []string{"nodes", "+"}, Value: value})
		})
		return nil
	})
}

// addSet asks for a set of nodes.
func (a *app) addSet() {
	zone := string(a.model.Under(a.cursor).Zone)
	a.askText("Name of the set", "such as heron: its nodes are heron-1, heron-2 and so on; "+field.NameRule, "", func(name string) tea.Cmd {
		switch {
		case !field.NamePattern.MatchString(name):
			a.say(true, fmt.Sprintf("%q cannot be a set's name; %s", name, field.NameRule))
			return nil
		case a.draft.Sets()[name].Most > 0 || a.draft.Node(field.NodeName(name)) != nil:
			a.say(true, fmt.Sprintf("there is a set or a node %s already", name))
			return nil
		}
		a.askText("In which zones?", "its nodes take turns in them, such as north, south; new names make new zones", zone, func(list string) tea.Cmd {
			var zones []string
			for _, z := range strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }) {
				if !field.NamePattern.MatchString(z) {
					a.say(true, fmt.Sprintf("%q cannot be a zone's name; %s", z, field.NameRule))
					return nil
				}
				zones = append(zones, z)
			}
			a.askText("How many nodes at the most?", "none is made before members want it", "6", func(most string) tea.Cmd {
				if n, err := strconv.Atoi(most); err != nil || n < 1 || n > field.MostNodes {
					a.say(true, fmt.Sprintf("%q is no number of nodes from 1 to %d", most, field.MostNodes))
					return nil
				}
				value := "name: " + name
				if len(zones) > 0 {
					value += "\nzones: [" + strings.Join(zones, ", ") + "]"
				}
				value += "\nset: {least: 0, most: " + most + "}"
				if like := a.draft.Node(a.model.Under(a.cursor).Node); like != nil {
					value += likeNode(like)
				} else if len(a.draft.Nodes) > 0 {
					value += likeNode(&a.draft.Nodes[len(a.draft.Nodes)-1])
				}
				return a.put("new: the set "+name, arrange.Put{Path: []string{"nodes", "+"}, Value: value})
			})
			return nil
		})
		return nil
	})
}

// likeNode says the size and labels of a node, for one that is made like it.
func likeNode(n *field.Node) string {
	var size []string
	if n.Size.CPU > 0 {
		size = append(size, "cpu: "+strconv.FormatFloat(n.Size.CPU, 'f', -1, 64))
	}
	for _, d := range []struct {
		key string
		b   field.Bytes
	}{{"memory", n.Size.Memory}, {"disk", n.Size.Disk}} {
		if d.b > 0 {
			size = append(size, d.key+": "+string(field.TypeSize.Word(float64(d.b))))
		}
	}
	text := ""
	if len(size) > 0 {
		text += "\nsize: {" + strings.Join(size, ", ") + "}"
	}
	if len(n.Labels) > 0 {
		var labels []string
		for k, v := range n.Labels {
			labels = append(labels, k+": "+sheet.Quote(v))
		}
		slices.Sort(labels)
		text += "\nlabels: {" + strings.Join(labels, ", ") + "}"
	}
	if n.Platform != "" {
		text += "\nplatform: " + n.Platform
	}
	return text
}

// readKit is a kit, as far as somebody needs it who chooses one.
type readKit struct {
	info  kit.Info
	about string // what it is, or why it cannot be read
	err   error
}

// readKits reads the kits that a field file may use.
func readKits(file string) []readKit {
	var all []readKit
	for _, k := range kit.Of(file).All() {
		r := readKit{}
		r.info, r.err = k.Info()
		if r.about = r.info.About; k.Folder != "" {
			r.about = strings.TrimSpace(r.about + " (" + string(k.Source) + ")")
		}
		if r.err != nil {
			r.about = r.err.Error()
		}
		all = append(all, r)
	}
	return all
}

// askRole asks for the name of a new role.
func (a *app) askRole(take func(role string) tea.Cmd) {
	a.askText("Name of the new role", "what this part of the system is called, in the plural where it has several members", "", func(role string) tea.Cmd {
		switch {
		case !field.NamePattern.MatchString(role):
			a.say(true, fmt.Sprintf("%q cannot be a role's name; %s", role, field.NameRule))
			return nil
		case a.draft.Role(field.RoleName(role)) != nil:
			a.say(true, fmt.Sprintf("there is a role %s already", role))
			return nil
		}
		return take(role)
	})
}

// addRole asks for a name and adds a role that the kit plays, wired to those that fit where there is no choice.
func (a *app) addRole(k readKit) {
	a.askRole(func(role string) tea.Cmd {
		if k.err != nil {
			a.say(true, k.err.Error())
			return nil
		}
		return a.addWith(role, k, k.info.Required(), nil)
	})
}

// addWith asks for the settings that a kit requires, one after the other, then adds the role.
func (a *app) addWith(role string, k readKit, missing []kit.Required, said []string) tea.Cmd {
	if len(missing) == 0 {
		value := roleOf(a.draft, k.info)
		if len(said) > 0 {
			value += "\nsettings: {" + strings.Join(said, ", ") + "}"
		}
		return a.put("new role: "+role, arrange.Put{Path: []string{"roles", role}, Value: value})
	}
	next := missing[0]
	a.askText(fmt.Sprintf("%s of %s, which has no default", next.Name, role), next.About, "", func(value string) tea.Cmd {
		if value == "" {
			a.say(true, fmt.Sprintf("The kit %s requires %s. The role was not added.", k.info.Name, next.Name))
			return nil
		}
		return a.addWith(role, k, missing[1:], append(said, fmt.Sprintf("%s: %q", next.Name, value)))
	})
	return nil
}

// roleOf writes a new role as far as the kit and the draft tell.
func roleOf(f *field.Field, k kit.Info) string {
	members := 1
	if k.Votes {
		members = 3
	} else if k.Kind != string(field.Monitor) {
		members = 2
	}
	value := fmt.Sprintf("kit: %s\nmembers: %d", k.Name, members)
	var wires []string
	r := &field.Role{Name: " ", Kit: k.Name, Wants: k.Calls}
	for _, call := range k.CallNames() {
		offers := finding.Offers(f, r, call)
		offers = slices.DeleteFunc(offers, func(o field.RoleName) bool {
			return k.Calls[call] == finding.AnyService && f.Role(o).Kind != field.Broker
		})
		if len(offers) > 0 {
			wires = append(wires, call+": "+string(offers[0]))
		}
	}
	if len(wires) > 0 {
		value += "\ncalls: {" + strings.Join(wires, ", ") + "}"
	}
	return value
}

// find moves the cursor to the first thing whose name holds the words; asked again, to the next.
func (a *app) find() {
	a.askText("Find", "part of the name of a member, role, node or zone; the next one with an empty line", "", func(text string) tea.Cmd {
		text = cmp.Or(strings.ToLower(text), a.found)
		if text == "" {
			return nil
		}
		a.found = text
		c, ok := a.model.Search(a.cursor, text)
		if !ok {
			a.say(true, fmt.Sprintf("Nothing on the board has %q in its name.", text))
			return nil
		}
		a.cursor = c
		return a.readLately()
	})
}

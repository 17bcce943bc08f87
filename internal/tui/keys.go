package tui

import (
	"charm.land/bubbles/v2/key"

	"lanternfield/internal/tui/panel"
)

// keyMap is every key. The key line and the list of keys are made from it, so that neither can lie.
type keyMap struct {
	Up, Down, Left, Right, PageUp, PageDown, First, Last      key.Binding
	Inspect, Dark, WhatIf, Fold, Lines, Board, Journal, Other key.Binding
	Health, OneChart, EachAlone, SpanBefore, LayOver          key.Binding
	StopHere, Again, GoBack                                   key.Binding
	Rollout, Waiting, FoldRole, Earlier, Later, Beside        key.Binding
	Order, Access, Prove, Nodes, LookNow, BelieveKeys, Invite key.Binding
	MendThere, MarkNode                                       key.Binding
	CopyWay, ShowSecret, WriteWay, ChangeSecret               key.Binding
	Add, Remove, More, Fewer, Grab, Drop, Pin                 key.Binding
	Undo, Redo, Findings, Mend, Mine, Theirs, Accept          key.Binding
	Change, AddThing, Propose, Mark, Find, Editor, Files      key.Binding
	Shell                                                     key.Binding
	Export, Review, Deploy, Pause, Restart, Halt, Retire, Yes key.Binding
	Answer                                                    key.Binding
	Back, Forth, EventBack, EventForth, Now                   key.Binding
	Cause, FromCause, SearchNodes, Open                       key.Binding
	Filter, Follow                                            key.Binding
	Keys, Close, Quit, Widen                                  key.Binding
}

// marksDo are the keys that act on all marked members.
const marksDo = "x, g, i, s, r and w"

func newKeys() keyMap {
	bind := func(show, word string, keys ...string) key.Binding {
		return key.NewBinding(key.WithKeys(keys...), key.WithHelp(show, word))
	}
	return keyMap{
		Up:           bind("up", "to the role above, to the nodes, to the zones", "up", "k"),
		Down:         bind("down", "to the role below", "down", "j"),
		Left:         bind("left", "to the member or node on the left, or to the role", "left", "h"),
		Right:        bind("right", "to the member or node on the right", "right", "l"),
		PageUp:       bind("pgup", "a screen up", "pgup"),
		PageDown:     bind("pgdn", "a screen down", "pgdown"),
		First:        bind("home", "to the first", "home"),
		Last:         bind("end", "to the last", "end"),
		Inspect:      bind("enter", "look closely at what is under the cursor", "enter"),
		Dark:         bind(".", "to the next lantern that should burn and does not", "."),
		WhatIf:       bind("w", "what if it failed", "w"),
		Fold:         bind("z", "fold its zone, or open it", "z"),
		Lines:        bind("o", "read its lines in the journal", "o"),
		Board:        bind("1", "the board", "1"),
		Rollout:      bind("2", "what is carried out, over time: who waits for what, and for how long still", "2"),
		Health:       bind("3", "what was measured over time, role by role", "3"),
		OneChart:     bind("enter", "open this chart large, or all of them again", "enter"),
		EachAlone:    bind("m", "each member alone, or all as one band", "m"),
		SpanBefore:   bind("c", "compare with the span before", "c"),
		LayOver:      bind("L", "lay another chart over the large one", "L"),
		Journal:      bind("4", "the journal", "4"),
		Order:        bind("5", "the order of deployment", "5"),
		Nodes:        bind("6", "the machines, and whether they are ready", "6"),
		Access:       bind("7", "how clients get in, and the proofs", "7"),
		Waiting:      bind(".", "to the next member that is not done, the worst off first", "."),
		FoldRole:     bind("z", "fold this role, or open it", "z"),
		Earlier:      bind("left", "the rollout before", "left"),
		Later:        bind("right", "the rollout after", "right"),
		StopHere:     bind("x", "stop here: begin nothing new", "x"),
		Again:        bind("r", "try this member again, at once", "r"),
		GoBack:       bind("b", "go back: deploy the draft before again", "b"),
		Beside:       bind("c", "compare it with the one before", "c"),
		LookNow:      bind("enter", "look at all machines now", "enter"),
		BelieveKeys:  bind("y", "see the keys of hosts that nobody has confirmed, and believe them", "y"),
		MendThere:    bind("M", "carry out what mends the checks that fail", "M"),
		MarkNode:     bind("m", "mark this machine: c changes all that are marked", "m"),
		Invite:       bind("i", "invite a machine: what to run on it so that it joins", "i"),
		Prove:        bind("P", "prove that it does its work: this role, or all", "P"),
		CopyWay:      bind("y", "copy the line with which a client connects", "y"),
		ShowSecret:   bind("s", "show secrets, or hide them", "s"),
		ChangeSecret: bind("c", "have another secret take the place of one", "c"),
		WriteWay:     bind("w", "write what a client needs into a folder beside the field file", "w"),
		Other:        bind("tab", "the other view", "tab"),

		Add:      bind("a", "add a member here", "a"),
		Remove:   bind("x", "take this member out", "x", "delete"),
		More:     bind("+", "one more member of this role, anywhere", "+", "="),
		Fewer:    bind("-", "one member fewer", "-"),
		Grab:     bind("g", "grab this member, to drop it on another node", "g"),
		Drop:     bind("enter", "drop it here", "enter", "g"),
		Pin:      bind("i", "pin this member to its node, or unpin it", "i"),
		Undo:     bind("u", "undo the newest change", "u"),
		Redo:     bind("U", "make it again", "U"),
		Findings: bind("f", "what is wrong or risky, and what mends it", "f"),
		Mend:     bind("enter", "make this edit", "enter"),
		Accept:   bind("c", "live with it: accept it with a reason", "c"),
		Change:   bind("c", "change anything that the file says of it", "c"),
		AddThing: bind("A", "add a role, nodes, or a set of nodes", "A"),
		Propose:  bind("p", "propose a better placement", "p"),
		Mark:     bind("m", "mark it: "+marksDo+" act on all marked", "m"),
		Find:     bind("/", "find by name", "/"),
		Editor:   bind("E", "open the file in your editor, here", "E"),
		Files:    bind("F", "its config files, before anything runs", "F"),
		Mine:     bind("m", "take mine", "m"),
		Theirs:   bind("t", "keep theirs", "t"),

		Export:  bind("e", "draw what is shown into SVG and PDF files", "e"),
		Review:  bind("v", "review and deploy", "v"),
		Deploy:  bind("d", "deploy this", "d"),
		Pause:   bind("space", "pause the rollout, or go on", "space"),
		Shell:   bind("S", "a shell at this member", "S"),
		Restart: bind("r", "restart it", "r"),
		Halt:    bind("s", "stop it, or start it again", "s"),
		Retire:  bind("T", "take the whole field down", "T"),
		Yes:     bind("y", "yes, do it", "y"),
		Answer:  bind("Y", "answer what the field asks", "Y"),

		Back:       bind("[", "back in time", "["),
		Forth:      bind("]", "forth in time", "]"),
		EventBack:  bind("{", "to the moment before the last event; in the journal, to that event", "{"),
		EventForth: bind("}", "to the moment before the next event; in the journal, to that event", "}"),
		Now:        bind("n", "return to now", "n"),
		Widen:      bind("t", "widen the tide, up to the field's whole life", "t"),

		Cause:       bind("w", "to what this follows from", "w"),
		FromCause:   bind("W", "back to where that was asked", "W"),
		SearchNodes: bind("s", "search older lines that fit, on the nodes", "s"),
		Open:        bind("enter", "what goes on with this line, such as a stack trace", "enter"),

		Filter: bind("/", "show only some lines", "/"),
		Follow: bind("f", "follow what comes", "f"),

		Keys:  bind("?", "all keys", "?"),
		Close: bind("esc", "back", "esc"),
		Quit:  bind("q", "quit; what runs goes on", "q", "ctrl+c"),
	}
}

func (k keyMap) groups() []panel.KeyGroup {
	return []panel.KeyGroup{
		{Name: "Looking", Keys: []key.Binding{k.Up, k.Down, k.Left, k.Right, k.Inspect, k.Dark, k.WhatIf, k.Lines, k.Files, k.Fold, k.Find, k.Board, k.Rollout, k.Health, k.Journal, k.Order, k.Nodes, k.Access, k.Other}},
		{Name: "Looking back", Keys: []key.Binding{k.Back, k.Forth, k.EventBack, k.EventForth, k.Now, k.Widen}},
		{Name: "Changing the draft", Keys: []key.Binding{k.Change, k.Add, k.Remove, k.More, k.Fewer, k.Grab, k.Pin, k.Mark, k.AddThing, k.Propose, k.Findings, k.Undo, k.Redo, k.Editor}},
		{Name: "Acting", Keys: []key.Binding{k.Review, k.Deploy, k.Pause, k.Restart, k.Halt, k.Prove, k.Shell, k.Answer, k.Retire, k.Export}},
		{Name: "In the rollout", Keys: []key.Binding{k.Waiting, k.FoldRole, k.Earlier, k.Later, k.Beside, k.StopHere, k.Again, k.GoBack}},
		{Name: "In health", Keys: []key.Binding{k.OneChart, k.EachAlone, k.LayOver, k.SpanBefore}},
		{Name: "In the journal", Keys: []key.Binding{k.Filter, k.SearchNodes, k.Cause, k.FromCause, k.Open, k.Follow, k.PageUp, k.PageDown, k.First, k.Last}},
		{Name: "In access", Keys: []key.Binding{k.CopyWay, k.ShowSecret, k.WriteWay, k.ChangeSecret}},
		{Name: "At machines", Keys: []key.Binding{k.LookNow, k.BelieveKeys, k.MarkNode, k.Invite, k.MendThere}},
		{Name: "Anywhere", Keys: []key.Binding{k.Keys, k.Close, k.Quit}},
	}
}

package tui

import (
	"charm.land/bubbles/v2/key"

	"lanternfield/internal/tui/panel"
)

// keyMap is every key. The key line and the list of keys are made from it, so that neither can lie.
type keyMap struct {
	Up, Down, Left, Right key.Binding
	More, Fewer           key.Binding
	Undo, Redo            key.Binding
	Review, Deploy, Again key.Binding
	Keys, Close, Quit     key.Binding
}

func newKeys() keyMap {
	bind := func(show, word string, keys ...string) key.Binding {
		return key.NewBinding(key.WithKeys(keys...), key.WithHelp(show, word))
	}
	return keyMap{
		Up:     bind("up", "move to the role above, or to the nodes", "up", "k"),
		Down:   bind("down", "move to the role below", "down", "j"),
		Left:   bind("left", "move to the member or node on the left, or to the role", "left", "h"),
		Right:  bind("right", "move to the member or node on the right", "right", "l"),
		More:   bind("+", "one more member of this role", "+", "="),
		Fewer:  bind("-", "one member fewer", "-"),
		Undo:   bind("u", "undo the newest change", "u"),
		Redo:   bind("U", "make it again", "U"),
		Review: bind("v", "review and deploy", "v"),
		Deploy: bind("d", "deploy this", "d"),
		Again:  bind("r", "read the file again", "r"),
		Keys:   bind("?", "all keys", "?"),
		Close:  bind("esc", "back", "esc"),
		Quit:   bind("q", "quit; what runs goes on", "q", "ctrl+c"),
	}
}

func (k keyMap) groups() []panel.KeyGroup {
	return []panel.KeyGroup{
		{Name: "Looking", Keys: []key.Binding{k.Up, k.Down, k.Left, k.Right}},
		{Name: "Changing the draft", Keys: []key.Binding{k.More, k.Fewer, k.Undo, k.Redo}},
		{Name: "Acting", Keys: []key.Binding{k.Review, k.Deploy, k.Again}},
		{Name: "Anywhere", Keys: []key.Binding{k.Keys, k.Close, k.Quit}},
	}
}

package tui

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/board"
)

const edited = `# The ferries.
format: 1
field: saltmarsh
nodes:
  - {name: gull-1, zone: north-quay}   # the old one
roles:
  crews:          {members: 2, program: {command: [sleep, "600"]}}   # two will do
  lookout:
    program: {command: [sleep, "600"]}
    members:   1     # aligned by hand
`

// onFile is the application on a file of its own, before anything is deployed.
func onFile(t *testing.T) *app {
	t.Helper()
	name := filepath.Join(t.TempDir(), "it.field.yaml")
	if err := os.WriteFile(name, []byte(edited), 0o640); err != nil {
		t.Fatal(err)
	}
	a := onRehearsal(t, 120, 40).app
	a.file, a.snap, a.review = name, &engine.Snapshot{State: engine.StateDraft}, nil
	f, err := fieldfile.Load(name)
	if err != nil {
		t.Fatal(err)
	}
	a.takeFile(fileMsg{file: f})
	a.cursor = board.Cursor{Role: 0, Node: -1}
	return a
}

// keys presses keys one after the other and takes in what each of them wrote.
func keys(t *testing.T, a *app, all string) {
	t.Helper()
	for _, k := range strings.Fields(all) {
		_, cmd := a.press(tea.KeyPressMsg{Code: []rune(k)[0], Text: k})
		if cmd != nil {
			if msg, ok := cmd().(savedMsg); ok {
				a.saved(msg)
			}
		}
	}
}

func content(t *testing.T, a *app) string {
	t.Helper()
	data, err := os.ReadFile(a.file)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestKeysAgainstTheBytesOfTheFile presses keys and looks at the file: nothing but the number changes, and undoing brings
// back every byte.
func TestKeysAgainstTheBytesOfTheFile(t *testing.T) {
	crews := func(n string) string { return strings.Replace(edited, "members: 2", "members: "+n, 1) }
	lookout := strings.Replace(edited, "members:   1     #", "members:   2     #", 1)
	for _, test := range []struct{ keys, want string }{
		{"+", crews("3")},
		{"+ + +", crews("5")},
		{"- -", crews("0")},
		{"- - - -", crews("0")},
		{"+ u", edited},
		{"+ + u", crews("3")},
		{"+ + u u U", crews("3")},
		{"+ + u u U U U", crews("4")},
		{"+ u - U", crews("1")}, // a new change ends what could be made again
		{"u U", edited},
		{"j +", lookout},
		{"j + u", edited},
	} {
		a := onFile(t)
		keys(t, a, test.keys)
		if got := content(t, a); got != test.want {
			t.Errorf("%s: got\n%s\nwant\n%s", test.keys, got, test.want)
		}
		if info, err := os.Stat(a.file); err != nil || info.Mode().Perm() != 0o640 {
			t.Errorf("%s: mode %v, %v", test.keys, info.Mode(), err)
		}
	}
}

// TestNobodysChangeIsOverwritten has somebody else change the file between two keys.
func TestNobodysChangeIsOverwritten(t *testing.T) {
	other := strings.Replace(edited, "# The ferries.", "# The ferries, and the tide.", 1)
	a := onFile(t)
	keys(t, a, "+")
	if err := os.WriteFile(a.file, []byte(other), 0o640); err != nil {
		t.Fatal(err)
	}
	keys(t, a, "+")
	if got := content(t, a); got != other || !strings.Contains(a.message, "has been changed by somebody else meanwhile") {
		t.Errorf("%s\n%s", a.message, got)
	}
	f, err := fieldfile.Load(a.file)
	if err != nil {
		t.Fatal(err)
	}
	a.takeFile(fileMsg{file: f}) // as the next look at the file does
	keys(t, a, "u")
	if got := content(t, a); got != other || !strings.Contains(a.message, "this would lose that") {
		t.Errorf("%s\n%s", a.message, got)
	}
	keys(t, a, "+")
	if got := content(t, a); got != strings.Replace(other, "members: 2", "members: 3", 1) {
		t.Errorf("after the other's change:\n%s", got)
	}
}

func TestARefusedDraftIsSaidUntilItIsRefusedNoMore(t *testing.T) {
	r := onRehearsal(t, 120, 40)
	_, _ = r.Update(reviewMsg{err: errors.New("the members of wardens are being changed already")})
	r.press("v")
	if text := r.draw().Plain(); !strings.Contains(text, "the members of wardens are being changed already") || r.mode != onBoard {
		t.Errorf("it does not say why:\n%s", text)
	}
	_, _ = r.Update(reviewMsg{review: r.review})
	r.message = ""
	if text := r.draw().Plain(); strings.Contains(text, "being changed already") {
		t.Errorf("it still says so:\n%s", text)
	}
}

func TestKeysThatHaveNothingToChangeSaySo(t *testing.T) {
	a := onFile(t)
	a.cursor = board.Cursor{Role: -1, Node: 0}
	keys(t, a, "+")
	if !strings.Contains(a.message, "Stand on a role") || content(t, a) != edited {
		t.Errorf("on a node: %s", a.message)
	}
	keys(t, a, "u")
	if !strings.Contains(a.message, "Nothing was changed on this screen") {
		t.Errorf("undo: %s", a.message)
	}
}

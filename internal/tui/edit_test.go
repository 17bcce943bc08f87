package tui

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/kit"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/input"
)

const edited = `# The ferries.
format: 1
field: saltmarsh
nodes:
  - {name: "gull-{1..3}", zone: north-quay}   # the old ones
  - {name: tern-1, zone: south-quay}
roles:
  crews:          {members: 2, spread: zone, program: {command: [sleep, "600"]}}   # two will do
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
	a.file, a.snap, a.review = name, &snapshot.Snapshot{State: snapshot.Draft}, nil
	f, err := fieldfile.Load(name, "")
	if err != nil {
		t.Fatal(err)
	}
	a.takeFile(fileMsg{file: f, draft: f.Field, found: finding.All(f.Field)})
	a.reviewed(reviewMsg{review: plan.Preview(a.draft, a.snap.Live())})
	a.cursor = board.Cursor{Role: 0, Post: -1}
	return a
}

// keys presses keys one after the other and takes in what each of them wrote.
func keys(t *testing.T, a *app, all string) {
	t.Helper()
	for _, k := range strings.Fields(all) {
		carry(t, a, a.press(press(k)))
		carry(t, a, a.derive())
	}
}

// carry carries out what a key led to, as far as it is about the file.
func carry(t *testing.T, a *app, cmd tea.Cmd) {
	t.Helper()
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case reviewMsg:
		carry(t, a, a.reviewed(msg))
	case savedMsg:
		carry(t, a, a.saved(msg))
	case besideMsg, proposalMsg:
		_, next := a.Update(msg)
		carry(t, a, next)
	case tea.BatchMsg:
		for _, cmd := range msg {
			carry(t, a, cmd)
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
	pinned := func(n int, nodes string) string { return crews(fmt.Sprint(n)) + "place:\n  crews: [" + nodes + "]\n" }
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
		{"down +", lookout},
		{"down + u", edited},
		{"right a", pinned(3, "gull-1, gull-1")},           // where it would not have gone by itself
		{"right right a", crews("3")},                      // where it would
		{"right g right right enter", pinned(2, "gull-3")}, // grabbed, carried, dropped
		{"right g right right esc", edited},                // put back
		{"right g right right enter u", edited},            // undone, the last byte too
		{"right g right enter g right enter", pinned(2, "gull-3")},
		{"right i", pinned(2, "gull-1")},
		{"right i i", edited},
		{"right x", pinned(1, "tern-1")}, // the other stays where it is,
		{"right i - -", crews("0")},      // a pin goes with the last member
		{"right right a u u U U", crews("3")},
		{"end x u", edited},
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
	replace := func(s string, pairs ...string) string { return strings.NewReplacer(pairs...).Replace(s) }
	write := func(a *app, text string) {
		if err := os.WriteFile(a.file, []byte(text), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	a := onFile(t)
	keys(t, a, "+")
	write(a, replace(edited, "# The ferries.", "# The ferries, and the tide.", "members: 2", "members: 3"))
	keys(t, a, "+") // both changes are in it
	if got := content(t, a); got != replace(edited, "# The ferries.", "# The ferries, and the tide.", "members: 2", "members: 4") || !strings.Contains(a.message, "both changes are in it") {
		t.Errorf("%s\n%s", a.message, got)
	}
	keys(t, a, "u u") // one's own, not theirs
	if got := content(t, a); got != replace(edited, "# The ferries.", "# The ferries, and the tide.") {
		t.Errorf("%s\n%s", a.message, got)
	}
	for _, test := range []struct{ key, want string }{{"t", "7"}, {"m", "3"}, {"esc", "7"}} {
		a := onFile(t)
		theirs := replace(edited, "members: 2", "members: 7", "# aligned", "# theirs")
		write(a, theirs)
		keys(t, a, "+")
		if a.mode != inClash || content(t, a) != theirs || !strings.Contains(a.draw().Plain(), "members: 7") {
			t.Errorf("the same line: mode %s, %s\n%s", a.mode, a.message, a.draw().Plain())
		}
		keys(t, a, test.key)
		if got := content(t, a); got != replace(edited, "members: 2", "members: "+test.want, "# aligned", "# theirs") || a.mode != walking {
			t.Errorf("%s:\n%s", test.key, got)
		}
	}
	a = onFile(t)
	write(a, "broken: [")
	keys(t, a, "+")
	if got := content(t, a); got != "broken: [" || !a.bad && a.mode != inClash {
		t.Errorf("into a broken file: %s\n%s", a.message, got)
	}
}

// TestAFileReadBeforeItWasWrittenIsNotTakenForAnothersChange has a reading come in after what was written since.
func TestAFileReadBeforeItWasWrittenIsNotTakenForAnothersChange(t *testing.T) {
	a := onFile(t)
	a.stamp = a.stamp.Add(-time.Second) // as if it had changed: it is read at once
	early := a.watchFile()()
	keys(t, a, "+")
	said := a.message
	a.Update(early)
	if a.message != said || a.draft.Role("crews").Members != 3 {
		t.Errorf("%q became %q; the draft has %d crews", said, a.message, a.draft.Role("crews").Members)
	}
}

// TestKeysPressedWhileTheFileIsWrittenAreNotLost presses faster than the disk.
func TestKeysPressedWhileTheFileIsWrittenAreNotLost(t *testing.T) {
	a := onFile(t)
	var cmds []tea.Cmd
	for range 5 {
		cmds = append(cmds, a.press(press("+")))
	}
	cmds = append(cmds, a.press(press("u")))
	for _, cmd := range cmds {
		carry(t, a, cmd)
	}
	if got := content(t, a); got != strings.Replace(edited, "members: 2", "members: 6", 1) {
		t.Errorf("%s\n%s", a.message, got)
	}
}

// TestKeysPressedBeforeTheFileHasBeenReadAreNotLost presses as soon as there is a screen.
func TestKeysPressedBeforeTheFileHasBeenReadAreNotLost(t *testing.T) {
	a := onFile(t)
	a.loaded, a.draft, a.stamp = nil, nil, time.Time{}
	a.Init()
	for _, k := range []string{"+", "+", "u"} {
		if cmd := a.press(press(k)); cmd != nil {
			t.Errorf("%s did something before there was a draft", k)
		}
	}
	if a.message != "" {
		t.Errorf("it says %q", a.message)
	}
	read := a.readFile()().(fileMsg)
	carry(t, a, a.takeFile(read))
	if got := content(t, a); got != strings.Replace(edited, "members: 2", "members: 3", 1) {
		t.Errorf("%s\n%s", a.message, got)
	}
}

// TestAFindingIsMended walks through the findings: the edit is shown on the board before it is made, and can be undone.
func TestAFindingIsMended(t *testing.T) {
	a := onFile(t)
	voting := strings.Replace(edited, "spread: zone", "votes: true", 1)
	if err := os.WriteFile(a.file, []byte(voting), 0o640); err != nil {
		t.Fatal(err)
	}
	f, err := fieldfile.Load(a.file, "")
	if err != nil {
		t.Fatal(err)
	}
	a.takeFile(fileMsg{file: f, draft: f.Field, found: finding.All(f.Field)})
	keys(t, a, "down f")
	if a.mode != inFindings || a.model.Under(a.cursor).Role != "crews" {
		t.Fatalf("mode %s, on %+v", a.mode, a.model.Under(a.cursor))
	}
	keys(t, a, "down")
	if text := a.draw().Plain(); !strings.Contains(text, "set members of crews to 3") || !strings.Contains(text, "0/3") || content(t, a) != voting {
		t.Errorf("the edit is not previewed:\n%s", text)
	}
	keys(t, a, "enter")
	if got := content(t, a); got != strings.Replace(voting, "members: 2", "members: 3", 1) || a.mode != walking {
		t.Errorf("%s\n%s", a.message, got)
	}
	keys(t, a, "u")
	if got := content(t, a); got != voting || len(a.findings) == 0 {
		t.Errorf("undone:\n%s", got)
	}
}

// TestNoReasonOfManyIsCut has an order refused with a line for each of many hosts: all of them are shown, and stay when a review comes.
func TestNoReasonOfManyIsCut(t *testing.T) {
	r := onRehearsal(t, 120, 40)
	long := strings.Repeat("its door is shut and its bell is still and ", 4)
	_, _ = r.Update(orderMsg{err: errors.New("2 of 6 hosts cannot be taken; nothing has been changed:\n  gull-1: " + long + "so on\n  gull-2: no answer")})
	_, _ = r.Update(reviewMsg{review: r.review})
	text := r.draw().Plain()
	for _, want := range []string{"2 of 6 hosts cannot be taken; nothing has been changed", "gull-1: its door", "so on", "gull-2: no answer"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q:\n%s", want, text)
		}
	}
	r.press("esc")
	if r.mode != walking {
		t.Error("esc does not end it")
	}
}

func TestARefusedDraftIsSaidUntilItIsRefusedNoMore(t *testing.T) {
	r := onRehearsal(t, 120, 40)
	_, _ = r.Update(reviewMsg{err: errors.New("the members of wardens are being changed already")})
	r.press("v")
	if text := r.draw().Plain(); !strings.Contains(text, "the members of wardens are being changed already") || r.mode != inConfirm {
		t.Errorf("it does not say why:\n%s", text)
	}
	_, _ = r.Update(reviewMsg{review: r.review})
	r.message = ""
	if text := r.draw().Plain(); strings.Contains(text, "being changed already") {
		t.Errorf("it still says so:\n%s", text)
	}
}

// TestWhatIsLookedAtMayGo takes away the findings and the review while they are open.
func TestWhatIsLookedAtMayGo(t *testing.T) {
	a := onFile(t)
	a.findings = []finding.Finding{{Text: "one"}, {Text: "two", Edits: []finding.Edit{{Text: "mend"}}}}
	keys(t, a, "f down down")
	for _, found := range [][]finding.Finding{a.findings[:1], nil} {
		a.takeFile(fileMsg{file: a.loaded, draft: a.loaded.Field, found: found})
		keys(t, a, "down up enter")
		_ = a.draw()
	}
	a.mode = walking
	keys(t, a, "v")
	if a.mode != inReview {
		t.Fatal("there is a review")
	}
	a.reviewed(reviewMsg{err: errors.New("the members are being changed already")})
	if text := a.draw().Plain(); a.mode != walking || !strings.Contains(text, "are being changed already") {
		t.Errorf("mode %s:\n%s", a.mode, text)
	}
}

func TestKeysThatHaveNothingToChangeSaySo(t *testing.T) {
	a := onFile(t)
	a.cursor = board.Cursor{Role: -1, Post: 0}
	keys(t, a, "+")
	if !strings.Contains(a.message, "Stand on a role") || content(t, a) != edited {
		t.Errorf("on a node: %s", a.message)
	}
	keys(t, a, "u")
	if !strings.Contains(a.message, "Nothing was changed on this screen") {
		t.Errorf("undo: %s", a.message)
	}
}

// TestASlipOfTheKeyboardIsSaidFirst breaks the file in a way that is wrong in two places: what explains both is said.
func TestASlipOfTheKeyboardIsSaidFirst(t *testing.T) {
	_, err := fieldfile.Parse("it.field.yaml", []byte(strings.Replace(edited, "roles:", "rolez:", 1)), nil)
	if got, want := inOneLine(err), `line 7: unknown key "rolez" in the file; did you mean "roles"? (and 1 more)`; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}

// TestARoleOfOnesOwnKitIsAddedWithWhatThatRequires adds a role by A: the kit beside the file is offered, what it requires is asked for, and an
// empty answer is refused and can be corrected.
func TestARoleOfOnesOwnKitIsAddedWithWhatThatRequires(t *testing.T) {
	a := onFile(t)
	k, err := kit.New(filepath.Join(filepath.Dir(a.file), "kits"), "bells")
	if err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(k.Folder, kit.FileName)
	data, err := os.ReadFile(name)
	if err == nil {
		err = os.WriteFile(name, []byte(strings.Replace(string(data), `default: "ahoy", `, "required: true, ", 1)), 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	a.kits = readKits(a.file)
	if a.kits[0].info.Name != "bells" || !strings.HasSuffix(a.kits[0].about, "(beside the field file)") {
		t.Fatalf("the first kit is %+v", a.kits[0])
	}
	before, _ := os.ReadFile(a.file)
	keys(t, a, "A down down down enter g o n g s enter enter")
	if now, _ := os.ReadFile(a.file); string(now) != string(before) || !strings.Contains(a.message, "requires greeting") {
		t.Errorf("without what its kit requires: %s\n%s", a.message, now)
	}
	keys(t, a, "h i enter")
	r := a.draft.Role("gongs")
	if r == nil || r.Kit != "bells" || r.Settings["greeting"] != "hi" {
		t.Errorf("the role is %+v: %s", r, a.message)
	}
}

// TestARoleOfOnesOwnIsAdded adds a program that no kit knows: what cannot be so is said, and can be corrected.
func TestARoleOfOnesOwnIsAdded(t *testing.T) {
	for line, want := range map[string]string{
		`tided --listen {{.Address}}:{{.Port "main"}} 'two words' "a \"b\"" ""`: `tided|--listen|{{.Address}}:{{.Port "main"}}|two words|a "b"|`,
		`tided "{{if .Founding}}a b{{end}}x"`:                                   `tided|{{if .Founding}}a b{{end}}x`,
	} {
		if words, err := commandLine(line); err != nil || strings.Join(words, "|") != want {
			t.Errorf("%s is %q, %v", line, words, err)
		}
	}
	a := onFile(t)
	before := content(t, a)
	say := func(text string) {
		a.prompt.line.Insert(text)
		keys(t, a, "enter")
	}
	keys(t, a, "A down down enter")
	say("bells")
	for _, test := range []struct{ text, want string }{
		{"", "there is no command"}, {"'tided", "is not ended"}, {"", ""},
	} {
		a.prompt.line = input.New("")
		if test.want == "" {
			say(`tided --listen {{.Address}}:{{.Port "main"}}`)
			break
		}
		if say(test.text); !strings.Contains(a.prompt.bad, test.want) || content(t, a) != before {
			t.Errorf("%q: %q", test.text, a.prompt.bad)
		}
	}
	if say("70000"); a.prompt.bad != `"70000" is no port from 1 to 65535` {
		t.Error(a.prompt.bad)
	}
	a.prompt.line = input.New("")
	say("7000")
	if say("health"); a.prompt.bad != `"health" is no path: it begins with /` {
		t.Error(a.prompt.bad)
	}
	a.prompt.line = input.New("")
	say("/health")
	r := a.draft.Role("bells")
	if r == nil || r.Program == nil || r.Program.Ports["main"].Port != 7000 || r.Program.Ready.HTTP.Path != "/health" || r.Program.Command[2] != `{{.Address}}:{{.Port "main"}}` {
		t.Errorf("%+v\n%s", r, content(t, a))
	}
}

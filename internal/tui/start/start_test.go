package start

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/fieldfile"
)

// keys presses keys: names of keys, or texts that are typed.
func keys(s *starter, names ...string) tea.Cmd {
	var last tea.Cmd
	codes := map[string]tea.KeyPressMsg{"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
		"clear": {Code: 'u', Mod: tea.ModCtrl}, "quit": {Code: 'c', Mod: tea.ModCtrl}}
	for _, n := range names {
		if msg, known := codes[n]; known {
			last = settle(s, s.press(msg))
			continue
		}
		for _, r := range n {
			last = settle(s, s.press(tea.KeyPressMsg{Code: r, Text: string(r)}))
		}
	}
	return last
}

// settle has worked out what is worked out beside the screen, and gives the last command that came of it.
func settle(s *starter, cmd tea.Cmd) tea.Cmd {
	for cmd != nil {
		switch msg := cmd().(type) {
		case tea.BatchMsg:
			for _, c := range msg {
				cmd = settle(s, c)
			}
			return cmd
		case made, wroteMsg:
			_, cmd = s.Update(msg)
		default:
			return cmd
		}
	}
	return nil
}

func begun(t *testing.T) *starter { t.Helper(); return begunIn(t, t.TempDir()) }

func begunIn(t *testing.T, dir string) *starter {
	t.Helper()
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	s := newStarter(dir, false)
	s.Update(tea.WindowSizeMsg{Width: 150, Height: 44})
	settle(s, s.work())
	return s
}

func screen(s *starter) string { return s.draw().Plain() }

func TestTheBoardFollowsEveryAnswer(t *testing.T) {
	s := begun(t)
	for _, want := range []string{"What kind of system is it?", "sql", "records", "doors", "It survives the loss of any one zone."} {
		if !strings.Contains(screen(s), want) {
			t.Errorf("there is no %q in\n%s", want, screen(s))
		}
	}
	keys(s, "down") // the store alone
	if text := screen(s); strings.Contains(text, "doors") || !strings.Contains(text, "keepers") {
		t.Errorf("the board does not follow:\n%s", text)
	}
	keys(s, "enter", "clear", "ferries", "enter", "down") // one node
	if n := len(s.outcome.File.Field.Nodes); n != 1 || s.outcome.File.Field.Role("keepers").Members != 1 {
		t.Errorf("%d nodes, %+v", n, s.outcome.File.Field.Roles)
	}
	if text := screen(s); strings.Contains(text, "What must it survive?") {
		t.Errorf("one node survives nothing, and it is asked:\n%s", text)
	}
	keys(s, "up", "enter", "clear", "a 2, b 2")
	if !strings.Contains(screen(s), "What is asked for cannot be had like this") {
		t.Errorf("two zones cannot survive the loss of one:\n%s", screen(s))
	}
}

func TestWrongAnswersAreSaidAndKeepTheBoard(t *testing.T) {
	s := begun(t)
	keys(s, "enter", "clear", "No Good")
	if s.bad == "" || s.outcome == nil || !strings.Contains(screen(s), "cannot be a field's name") {
		t.Errorf("got %q", s.bad)
	}
	keys(s, "enter")
	if s.now().id != "name" {
		t.Errorf("it went on to %s", s.now().id)
	}
	keys(s, "clear", "good")
	if s.bad != "" {
		t.Errorf("still %q", s.bad)
	}
	_, cmd := s.Update(tea.PasteMsg{Content: "-\x1b[31mones"})
	settle(s, cmd)
	if got := s.question("name").value(); got != "good-[31mones" {
		t.Errorf("pasted: %q", got)
	}
	keys(s, "clear", "good", "enter", "enter", "clear", "north many")
	if !strings.Contains(s.bad, "is not a number of nodes") {
		t.Errorf("got %q", s.bad)
	}
	keys(s, "clear", "north 2", "enter", "clear", "large")
	if !strings.Contains(s.bad, "neither a number of cores nor a size") {
		t.Errorf("got %q", s.bad)
	}
	keys(s, "esc", "esc", "esc", "esc", "esc")
	if s.at != 0 {
		t.Errorf("esc leads to %d", s.at)
	}
	if cmd := keys(s, "esc"); cmd == nil || s.written != "" {
		t.Error("esc does not leave")
	}
}

func TestTheFileIsWrittenAndNeverOverAnother(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "sql.field.yaml"), []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := begunIn(t, dir)
	if got := s.question("name").value(); got != "sql-2" {
		t.Errorf("the name that is offered is %q", got)
	}
	keys(s, "enter", "clear", "sql")
	if !strings.Contains(s.bad, "already; take another name") {
		t.Errorf("got %q", s.bad)
	}
	keys(s, "esc", "down", "down", "down", "down", "down", "enter", "clear", "ferries", "enter", "enter", "enter", "enter", "down", "enter", "enter", "enter")
	if s.now() != nil || !strings.Contains(screen(s), "Enter writes") {
		t.Fatalf("it is not at the end:\n%s", screen(s))
	}
	if err := os.WriteFile(filepath.Join(s.dir, "ferries.field.yaml"), []byte("theirs"), 0o600); err != nil { // meanwhile
		t.Fatal(err)
	}
	keys(s, "enter")
	if s.written != "" || !strings.Contains(screen(s), "nothing was written") {
		t.Errorf("it was written over another:\n%s", screen(s))
	}
	if err := os.Remove(filepath.Join(s.dir, "ferries.field.yaml")); err != nil {
		t.Fatal(err)
	}
	if cmd := keys(s, "enter"); cmd == nil || s.written == "" {
		t.Fatal("it was not written")
	}
	f, err := fieldfile.Load(s.written, "")
	if err != nil || f.Field.Load != "light" || len(f.Field.Roles) != 5 || len(f.Field.Nodes) != 8 {
		t.Errorf("got %v", err)
	}
}

func TestTheQuestionsFitEveryScreen(t *testing.T) {
	s := begun(t)
	for _, size := range [][2]int{{20, 5}, {60, 20}, {80, 24}, {100, 30}, {220, 60}} {
		s.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		text := screen(s)
		want := "What kind of system is it?"
		if size[0] < 40 {
			want = "make me larger"
		}
		if !strings.Contains(text, want) {
			t.Errorf("%v: there is no %q in\n%s", size, want, text)
		}
		for i, line := range strings.Split(text, "\n") {
			if len([]rune(line)) > size[0] || i >= size[1] {
				t.Errorf("%v: line %d is %q", size, i, line)
			}
		}
	}
	s.ascii = true
	s.applyTheme()
	for _, r := range screen(s) {
		if r > 127 && !strings.ContainsRune("…·", r) {
			t.Errorf("%q is not ASCII", r)
			break
		}
	}
	s.Update(tea.BackgroundColorMsg{})
	if keys(s, "quit") == nil {
		t.Error("ctrl+c does not leave")
	}
}

// TestAFastHandGoesOn presses enter before it is known whether the answers can be used: it goes on when it is, and stays where they cannot.
func TestAFastHandGoesOn(t *testing.T) {
	s := begun(t)
	enter := tea.KeyPressMsg{Code: tea.KeyEnter}
	cmd := s.press(tea.KeyPressMsg{Code: tea.KeyDown})
	s.press(enter)
	s.press(enter)
	if s.at != 0 {
		t.Fatalf("it went on to question %d before anything was known", s.at)
	}
	settle(s, cmd)
	if s.at != 2 {
		t.Errorf("it is at question %d, want 2", s.at)
	}
	settle(s, s.press(tea.KeyPressMsg{Code: tea.KeyEscape}))
	keys(s, "clear", "ferrie")
	old := s.press(tea.KeyPressMsg{Code: 's', Text: "s"})
	newest := s.press(tea.KeyPressMsg{Code: '!', Text: "!"}) // which no name may hold
	s.press(enter)
	settle(s, old) // an answer to what is asked no more
	if s.bad != "" || s.at != 1 {
		t.Errorf("an old answer counted: %q, question %d", s.bad, s.at)
	}
	settle(s, newest)
	if s.bad == "" || s.at != 1 || s.enters != 0 {
		t.Errorf("it went on with a wrong answer: %q, question %d", s.bad, s.at)
	}
}

// TestCountsFollowUntilTheyAreWritten writes how many members roles have, and leaves that to what is to be survived again.
func TestCountsFollowUntilTheyAreWritten(t *testing.T) {
	s := begun(t)
	counts := s.question("counts")
	if counts.value() != "records 2, doors 2" || !strings.Contains(counts.help, "To survive the loss of any two nodes: records 3, doors 3.") {
		t.Errorf("%q, %q", counts.value(), counts.help)
	}
	for s.now().id != "survive" {
		keys(s, "enter")
	}
	keys(s, "up")
	if counts.value() != "records 3, doors 3" {
		t.Errorf("for two nodes: %q", counts.value())
	}
	keys(s, "enter", "clear", "records 1, doors 2")
	if text := screen(s); !strings.Contains(text, "What is asked for cannot be had like this") || s.outcome.Field.Role("records").Members != 1 {
		t.Errorf("of one record:\n%s", text)
	}
	keys(s, "clear", "recrods 1", "enter")
	if s.now().id != "counts" || !strings.Contains(s.bad, "it has records, doors") {
		t.Errorf("%q", s.bad)
	}
	keys(s, "clear", "enter")
	if s.now() != nil || counts.value() != "records 3, doors 3" || counts.touched {
		t.Errorf("left empty: %q", counts.value())
	}
}

// TestHostsAreAskedForByTheirAddresses answers that the field stands on hosts, and looks at the file.
func TestHostsAreAskedForByTheirAddresses(t *testing.T) {
	s := begun(t)
	keys(s, "enter", "clear", "far", "enter", "down", "down")
	if !strings.Contains(s.bad, "at least one host is needed") {
		t.Errorf("no host is asked for: %q", s.bad)
	}
	keys(s, "enter")
	if s.now().id != "where" && s.now().id != "hosts" {
		t.Fatalf("it went on to %s", s.now().id)
	}
	if s.now().id == "where" {
		t.Fatalf("the question for the hosts cannot be reached:\n%s", screen(s))
	}
	keys(s, "north 10.1.0.{1..3}, south 10.2.0.1 10.2.0.2, light 10.3.0.1", "enter", "harbour", "enter", "down", "enter")
	if s.now().id != "size" {
		t.Errorf("it went on to %s: %s", s.now().id, s.bad)
	}
	f := s.outcome.File.Field
	if f.Ground.Kind != "ssh" || f.Ground.User != "harbour" || f.Ground.Sudo != "always" || len(f.Nodes) != 6 || f.Nodes[3].Address != "10.2.0.1" || string(f.Nodes[3].Zone) != "south" {
		t.Errorf("%+v %+v", f.Ground, f.Nodes)
	}
	keys(s, "esc", "esc", "esc", "esc", "up")
	if s.outcome.File.Field.Ground.Kind == "ssh" || strings.Contains(screen(s), "As whom does one log in") {
		t.Errorf("one node on this machine is of hosts:\n%s", screen(s))
	}
}

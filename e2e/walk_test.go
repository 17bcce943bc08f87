package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// shows waits until a member's lantern has a shape.
func (s *screen) shows(name string, shape rune) {
	s.Helper()
	s.until(name+" as "+string(shape), func(text string) bool { return lampIn(text, name) == shape })
}

// stand walks to a member with the arrow keys, as a person does, until the panel speaks of it.
func (s *screen) stand(name string) {
	s.Helper()
	if strings.Contains(s.text(), "│ "+name+"  on ") {
		return
	}
	s.press("Down", "Up", "PageUp", "Home") // to the first role, whose name the panel then shows
	s.until("the first role", func(text string) bool { return strings.Contains(text, "▸wardens") })
	for range 12 {
		for range 12 {
			if strings.Contains(s.text(), "│ "+name+"  on ") {
				return
			}
			s.press("Right")
			time.Sleep(60 * time.Millisecond) // a frame
		}
		s.press("Down", "Home")
		time.Sleep(60 * time.Millisecond)
	}
	s.Fatalf("the cursor never came to %s:\n%s", name, s.text())
}

// TestAWholeLifeOnTheScreen goes the way of a new user: draft, deploy, add, move, undo, deploy, a lantern dark and lit
// again, back in time, return, the journal, quit, open again, retire.
func TestAWholeLifeOnTheScreen(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(ferries, "restart: {after: 200ms}", "restart: {after: 2s}", 1))
	before, _ := os.ReadFile(x.file)
	file := func() string {
		now, _ := os.ReadFile(x.file)
		return string(now)
	}
	s := newScreen(t, x, 150, 44, "open", x.file)
	s.has("Nothing runs yet. v shows what deploying would do")
	s.shows("wardens-1", '○')
	s.press("v")
	s.has("Review: what deploying saltmarsh would change")
	s.press("d")
	s.has("9 of 9 lit")
	s.has("The deploy is done")
	s.shows("crews-2", '●')

	s.stand("crews-2")
	s.press("a")
	s.has("one more of crews on tern-1, in the draft")
	s.has("draft +1")
	s.shows("crews-4", '○')
	if got := file(); got != strings.Replace(string(before), "  crews:\n    members: 3", "  crews:\n    members: 4", 1)+"place:\n  crews: [tern-1, tern-1]\n" {
		t.Errorf("the file:\n%s", got)
	}
	s.stand("crews-4")
	s.press("g")
	s.has("carrying crews-4")
	s.press("Right")
	s.has("Dropped here")
	s.press("Enter")
	s.has("crews-4 to puffin-1, in the draft")
	s.press("u")
	s.has("Undone: crews-4 to puffin-1.")
	s.press("u")
	s.has("Undone: one more of crews on tern-1.")
	if file() != string(before) {
		t.Errorf("everything undone, the file is\n%s", file())
	}
	s.press("U")
	s.has("Made again")
	s.press("v")
	s.has("place crews-4 on tern-1 and start it")
	s.press("d")
	s.has("10 of 10 lit")
	s.shows("crews-4", '●')

	// A warden is killed from another terminal: why it is dark, and what that means.
	s.stand("wardens-1")
	if err := syscall.Kill(x.status().member("wardens-1").PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	s.has("wardens-1 is dark: was killed by signal 9 (KILL)")
	s.has("if it stays dark", "✖ failed for", "wardens holds 2 of 3 votes", "restart it here")
	s.shows("wardens-1", '✖')
	s.press("{") // the moment before
	s.has("the past: as it was at", "n returns to now")
	s.until("all burn in the past", func(text string) bool {
		return lampIn(text, "wardens-1") == '●' || lampIn(text, "wardens-1") == '◉'
	})
	s.press("n")
	s.until("it is the present", func(text string) bool { return !strings.Contains(text, "the past") })
	s.has("10 of 10 lit")
	s.until("it burns again", func(text string) bool {
		return lampIn(text, "wardens-1") == '●' || lampIn(text, "wardens-1") == '◉'
	})
	s.press("o")
	s.has("member wardens-1")
	s.has("went dark: process")
	s.press("Up", "Up")
	s.has("the past: as it was at")
	s.press("n", "1")

	// A restart is asked about, and declined.
	s.press("r")
	s.has("Restart wardens-1?")
	s.press("Escape")

	// The controller dies under the screen of another.
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
	_ = exec.Command("tmux", "-S", s.socket, "kill-server").Run()
	if got := x.status(); got.State != "converged" || len(got.Members) != 10 {
		t.Errorf("after quitting: %s", got.Verdict)
	}
	s = newScreen(t, x, 80, 24, "open", x.file)
	s.has("10 of 10 lit")
	s.press("T")
	s.has("Take saltmarsh down?")
	s.press("y")
	s.until("it is retired", func(text string) bool {
		return strings.Contains(text, "retired") && strings.Contains(text, "v to deploy it anew")
	})
	if n := len(x.agents()); n != 0 {
		t.Errorf("%d agents are left", n)
	}
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
}

// TestRoughTreatment shrinks and grows the terminal all the time, types everything, and has a member write escape
// sequences: the screen stays whole.
func TestRoughTreatment(t *testing.T) {
	x := newTrial(t, strings.Replace(ferries, "  crews:\n    members: 3", "  crews:\n    members: 1", 1))
	x.must("deploy", x.file, "--yes")
	s := newScreen(t, x, 120, 40, "open", x.file)
	s.has("7 of 7 lit")
	for i := range 60 {
		size := [][2]string{{"20", "5"}, {"400", "120"}, {"80", "24"}, {"33", "9"}, {"120", "40"}}[i%5]
		if out, err := exec.Command("tmux", "-S", s.socket, "resize-window", "-x", size[0], "-y", size[1]).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		s.press([]string{"Right", "Down", "z", "f", "Escape", "4", "[", "1", "{", "n", "?", "Escape"}[i%12])
	}
	s.press("Escape", "1", "n")
	s.has("7 of 7 lit")
	// Pasted text is no keys: nothing is taken down by it.
	for _, args := range [][]string{{"set-buffer", "Tyvd"}, {"paste-buffer", "-p"}} {
		if out, err := exec.Command("tmux", append([]string{"-S", s.socket}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	s.has("Pasted text (4 characters) is not taken as keys.")
	s.has("7 of 7 lit")
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
}

// TestTheControllerDiesUnderTheScreen has two screens on one field and kills the process that keeps it.
func TestTheControllerDiesUnderTheScreen(t *testing.T) {
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	holder := exec.Command("script", "-qfc", binary+" open "+x.file, "/dev/null")
	holder.Env = append(os.Environ(), "LANTERNFIELD_STATE="+x.state, "TERM=xterm-256color")
	in, err := holder.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := holder.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { in.Close(); _ = holder.Process.Kill(); _ = holder.Wait() }()
	x.until("the first screen is there", 10*time.Second, func() bool { return strings.Contains(x.must("status", x.file), "attached: lanternfield open") })
	s := newScreen(t, x, 120, 40, "open", x.file)
	s.has("9 of 9 lit")
	x.killKeeper()
	s.has("The field is kept again.")
	s.press("Down", "Down", "+")
	s.has("draft +1")
	s.press("v")
	s.has("d deploys this")
	s.press("d")
	s.has("10 of 10 lit")
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
}

// TestTheTerminalGoesAway closes the terminal under a screen that does not hear of it by a signal.
func TestTheTerminalGoesAway(t *testing.T) {
	x := newTrial(t, ferries)
	s := &screen{T: t, socket: x.dir + "/tmux.sock"}
	if out, err := exec.Command("tmux", "-u", "-S", s.socket, "-f", "/dev/null", "new-session", "-d", "-x", "120", "-y", "40", "env",
		"LANTERNFIELD_STATE="+x.state, "TERM=xterm-256color", "sh", "-c", `trap "" HUP; exec "$0" open "$1"`, binary, x.file).CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v\n%s", err, out)
	}
	s.has("Nothing runs yet.")
	out, err := exec.Command("tmux", "-S", s.socket, "display-message", "-p", "#{pane_pid}").Output()
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(out)))
	if err != nil {
		t.Fatal(err)
	}
	if err := exec.Command("tmux", "-S", s.socket, "kill-server").Run(); err != nil {
		t.Fatal(err)
	}
	x.until("it has ended", 10*time.Second, func() bool {
		stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		return err != nil || strings.Contains(string(stat), ") Z ")
	})
}

// TestWithoutColour runs it where nothing may be coloured, and where the locale knows only ASCII.
func TestWithoutColour(t *testing.T) {
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	s := &screen{T: t, socket: x.dir + "/tmux.sock"}
	if out, err := exec.Command("tmux", "-u", "-S", s.socket, "-f", "/dev/null", "new-session", "-d", "-x", "120", "-y", "40", "env", "NO_COLOR=1", "LC_ALL=C",
		"LANTERNFIELD_STATE="+x.state, "TERM=xterm-256color", binary, "open", x.file).CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v\n%s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	s.has("9 of 9 lit")
	out, err := exec.Command("tmux", "-u", "-S", s.socket, "capture-pane", "-p", "-e").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, code := range []string{"[38;", "[48;", "[31m", "[33m"} {
		if strings.Contains(string(out), code) {
			t.Errorf("%q is a colour:\n%q", code, out)
		}
	}
	for _, r := range s.text() {
		if r > 127 && r != '·' && r != '…' {
			t.Errorf("%q is not ASCII", r)
			break
		}
	}
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
}

// TestEndlessLinesFullOfEscapeSequences has a member write a line of 10 MB that would take over a terminal, and reads it
// in the journal and in the panel.
func TestEndlessLinesFullOfEscapeSequences(t *testing.T) {
	x := newTrial(t, `format: 1
field: saltmarsh
nodes: [{name: gull-1}]
roles:
  crews:
    members: 1
    program:
      command: [sh, -c, 'printf "\033]0;seized\007first\n"; yes "$(printf "\033]0;seized\007\033[2J\033[31mtide")" | head -c 10000000 | tr -d "\n"; echo; echo "the last word"; exec sleep 600']
`)
	x.must("deploy", x.file, "--yes")
	s := newScreen(t, x, 140, 40, "open", x.file)
	s.has("1 of 1 lit")
	s.press("Right")
	s.has("the last word")
	raw := x.dir + "/raw"
	if out, err := exec.Command("tmux", "-S", s.socket, "pipe-pane", "-o", "cat > "+raw).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	s.press("4")
	s.has("the last word")
	s.press("/", "t", "i", "d", "e", "Enter")
	s.has(`with "tide"`)
	s.press("1", "Enter")
	s.has("esc goes back")
	s.press("Escape")
	out, err := exec.Command("tmux", "-S", s.socket, "display-message", "-p", "#{pane_title}").Output()
	if err != nil || strings.Contains(string(out), "seized") {
		t.Errorf("the title is %q, %v", out, err)
	}
	data, err := os.ReadFile(raw)
	if err != nil || len(data) == 0 || strings.Contains(string(data), "seized") || len(data) > 1<<20 {
		t.Errorf("%d bytes went to the terminal, %v", len(data), err)
	}
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
}

package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// screen is the application in a terminal that nobody sees.
type screen struct {
	*testing.T
	socket string
}

// newScreen runs a command of the program in tmux.
func newScreen(t *testing.T, x *trial, w, h int, args ...string) *screen {
	t.Helper()
	return newScreenIn(t, x, ".", w, h, args...)
}

// newScreenIn does so in a folder.
func newScreenIn(t *testing.T, x *trial, folder string, w, h int, args ...string) *screen {
	t.Helper()
	return newScreenOn(t, x, x.dir+"/tmux.sock", folder, w, h, args...)
}

// newScreenAt opens one of several screens.
func newScreenAt(t *testing.T, x *trial, n, w, h int, args ...string) *screen {
	t.Helper()
	return newScreenOn(t, x, fmt.Sprintf("%s/tmux-%d.sock", x.dir, n), ".", w, h, args...)
}

func newScreenOn(t *testing.T, x *trial, socket, folder string, w, h int, args ...string) *screen {
	t.Helper()
	s := &screen{T: t, socket: socket}
	all := append([]string{"-u", "-S", s.socket, "-f", "/dev/null", "new-session", "-d", "-c", folder, "-x", fmt.Sprint(w), "-y", fmt.Sprint(h),
		"env", "LANTERNFIELD_STATE=" + x.state, "TERM=xterm-256color", binary}, args...)
	if out, err := exec.Command("tmux", all...).CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v\n%s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	return s
}

func (s *screen) text() string {
	out, err := exec.Command("tmux", "-u", "-S", s.socket, "capture-pane", "-p").Output()
	if err != nil {
		return ""
	}
	return string(out)
}

func (s *screen) press(keys ...string) {
	s.Helper()
	for _, k := range keys {
		if out, err := exec.Command("tmux", "-S", s.socket, "send-keys", k).CombinedOutput(); err != nil {
			s.Fatalf("send-keys: %v\n%s", err, out)
		}
	}
}

// types types a text.
func (s *screen) types(text string) {
	s.Helper()
	if out, err := exec.Command("tmux", "-S", s.socket, "send-keys", "-l", text).CombinedOutput(); err != nil {
		s.Fatalf("send-keys: %v\n%s", err, out)
	}
}

// until waits for the screen to show something.
func (s *screen) until(what string, shows func(text string) bool) string {
	s.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for {
		text := s.text()
		if shows(text) {
			return text
		}
		if time.Now().After(deadline) {
			s.Fatalf("the screen does not show %s:\n%s", what, text)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// again does something over and over until the screen shows a text.
func (s *screen) again(text string, do func()) {
	s.Helper()
	next := time.Time{}
	s.until(text, func(shown string) bool {
		if strings.Contains(shown, text) {
			return true
		}
		if time.Now().After(next) {
			do()
			next = time.Now().Add(time.Second)
		}
		return false
	})
}

// has waits for texts, all of them at once; each may go on in the next line. They are waited for together because a
// capture may fall between two frames, or into the middle of one.
func (s *screen) has(texts ...string) string {
	s.Helper()
	return s.until(strings.Join(texts, ", "), func(shown string) bool {
		shown = strings.Join(strings.Fields(shown), " ")
		for _, text := range texts {
			if !strings.Contains(shown, text) {
				return false
			}
		}
		return true
	})
}

// lampIn gives the cell one to three rows above the middle of a member's name; 0 when no lantern has that name.
func lampIn(text, name string) rune {
	lines := strings.Split(text, "\n")
	for y, line := range lines {
		i := strings.Index(line, name)
		if i < 0 || y < 3 {
			continue
		}
		x := len([]rune(line[:i])) + len(name)/2
		for _, above := range []int{3, 2, 1} { // large ones first
			if row := []rune(lines[y-above]); x < len(row) && strings.ContainsRune("●◉◐○✖◌◒?", row[x]) {
				return row[x]
			}
		}
	}
	return 0
}

func TestBoardFromDraftToQuit(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(ferries, "restart: {after: 200ms}", "restart: {after: 2s}", 1))
	s := newScreen(t, x, 140, 44, "open", x.file)
	s.has("Nothing runs yet. v shows", "saltmarsh", "draft", "Not deployed yet: the draft wants 9 members.", "Board",
		"north-quay", "south-quay", "lighthouse", "gull-1", "tern-1", "puffin-1",
		"wardens 0/3", "relays 0/3", "crews 0/3", "lit 0", "v review and deploy", "q quit")
	s.shows("wardens-1", '○')

	s.press("?")
	s.has("to the role below")
	s.press("Escape")
	s.until("the board again", func(text string) bool { return !strings.Contains(text, "to the role below") })
	s.press("v")
	s.has("Review: what deploying saltmarsh would change", "start the agents of gull-1, tern-1, puffin-1",
		"place wardens-1 on gull-1 and start it, founding wardens", "relays waits for wardens: quorum", "place relays-1")
	s.press("Escape")
	s.until("the board again", func(text string) bool { return !strings.Contains(text, "Review:") })
	if n := len(x.agents()); n != 0 {
		t.Fatalf("looking at the review started %d agents", n)
	}
	s.press("v")
	s.has("d deploys this")
	s.press("d")
	s.has("converged", "9 of 9 lit", "lit 9")
	for _, name := range []string{"wardens-1", "relays-2", "crews-3"} {
		s.shows(name, '●')
	}

	m := x.status().member("wardens-2")
	if err := syscall.Kill(m.PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	s.has("wardens-2 is dark: was killed by signal 9 (KILL)")
	s.shows("wardens-2", '✖')
	s.press("Right") // its detail
	s.has("last exit", "wardens holds 2 of 3 votes")
	s.until("it is lit again", func(text string) bool { return strings.Contains(text, "9 of 9 lit") })

	// The file is edited elsewhere: the board shows what a deploy would change, and v says it.
	x.must("check", x.file)
	x.write(strings.Replace(example(t, x.file), "  crews:\n    members: 3", "  crews:\n    members: 4", 1))
	s.has("draft +1")
	s.press("v")
	s.has("place crews-4 on")
	s.press("d")
	s.has("10 of 10 lit")

	// A file that is broken meanwhile changes nothing.
	x.write("format: 1\nfield: saltmarsh\nnodse: []\n")
	s.has(`The file cannot be used, the last good draft stays: line 3: unknown key "nodse" in the file; did you mean "nodes"? (and 1 more)`)

	// Quitting stops nothing.
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
	if got := x.status(); got.State != "converged" || len(got.Members) != 10 {
		t.Errorf("after quitting: %s", got.Verdict)
	}
}

// TestBoardFitsEverySize opens the board small, large and in ASCII.
func TestBoardFitsEverySize(t *testing.T) {
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	for _, size := range []struct {
		w, h int
		want []string
	}{
		{20, 5, []string{"9/9 lit"}},
		{80, 24, []string{"converged", "wardens", "relays", "crews", "quit"}},
		{220, 60, []string{"converged", "wardens", "lit 9", "quit"}},
	} {
		s := newScreen(t, x, size.w, size.h, "open", x.file, "--ascii")
		text := s.has(size.want...)
		for _, r := range text {
			if r > 127 && r != '·' && r != '…' {
				t.Errorf("%dx%d: %q is not ASCII", size.w, size.h, r)
				break
			}
		}
		s.press("q")
		x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
		_ = exec.Command("tmux", "-S", s.socket, "kill-server").Run()
	}
}

// TestAMemberIsAddedOnTheBoard changes a count, undoes and makes it again, and deploys it, without leaving the board.
func TestAMemberIsAddedOnTheBoard(t *testing.T) {
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	before, _ := os.ReadFile(x.file)
	s := newScreen(t, x, 140, 40, "open", x.file)
	s.until("the board", func(text string) bool {
		return strings.Contains(text, "converged") && strings.Contains(text, "9 of 9 lit")
	})
	s.press("Down", "Down")
	s.has("+ - more or fewer")
	s.press("+")
	s.has("crews: 4 members, in the draft. u undoes it")
	s.press("u")
	s.has("Undone: crews: 4 members.")
	if now, _ := os.ReadFile(x.file); string(now) != string(before) {
		t.Errorf("undone, the file is\n%s", now)
	}
	s.press("U")
	s.has("Made again: crews: 4 members.")
	s.has("draft +1")
	s.press("v")
	s.has("place crews-4 on")
	s.press("d")
	s.has("10 of 10 lit")
	s.shows("crews-4", '●')
	if now, _ := os.ReadFile(x.file); strings.Replace(string(now), "members: 4", "members: 3", 1) != string(before) {
		t.Errorf("more than the number has changed:\n%s", now)
	}
}

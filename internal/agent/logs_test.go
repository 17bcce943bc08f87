package agent

import (
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/host/fit"
)

// logOf makes a member whose log can be written.
func logOf(t *testing.T) (*member, func(text string)) {
	t.Helper()
	m := newMember(layout{dir: t.TempDir()}, runtime.NewProcesses(t.TempDir(), false), nil, "it-1")
	if err := os.MkdirAll(filepath.Dir(m.logFile()), 0o755); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(m.logFile(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return m, func(text string) {
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
}

func readOf(t *testing.T, m *member, after int64, most int) (*agentapi.Log, string) {
	t.Helper()
	l, err := m.readLog(after, most)
	if err != nil {
		t.Fatal(err)
	}
	var texts []string
	for _, line := range l.Lines {
		texts = append(texts, line.Text)
	}
	return l, strings.Join(texts, "|")
}

func TestALogIsFollowedInWholeLines(t *testing.T) {
	m, write := logOf(t)
	if l, text := readOf(t, m, -1, 0); text != "" || l.Next != 0 {
		t.Errorf("an empty log: %q, %d", text, l.Next)
	}
	write("one\ntwo\nthr")
	l, text := readOf(t, m, -1, 0)
	if text != "one|two" {
		t.Errorf("got %q", text)
	}
	write("ee\n\nfour\n")
	if l, text = readOf(t, m, l.Next, 0); text != "three|four" {
		t.Errorf("got %q", text)
	}
	if err := os.Truncate(m.logFile(), 0); err != nil {
		t.Fatal(err)
	}
	write("anew\n")
	if _, text = readOf(t, m, l.Next, 0); text != "anew" {
		t.Errorf("after it was cut: %q", text)
	}
}

// TestAnEndlessLineIsPassedOver reads around a line of 10 MiB full of escape sequences.
func TestAnEndlessLineIsPassedOver(t *testing.T) {
	m, write := logOf(t)
	write("before\n")
	write(strings.Repeat("\x1b[2J\x1b]0;pwned\x07tide", 10<<20/18))
	_, text := readOf(t, m, -1, 0)
	if text != "" {
		t.Errorf("in the middle of a line: %.80q", text)
	}
	l, text := readOf(t, m, 0, 4<<10)
	if text != "before" {
		t.Errorf("before it: %.80q", text)
	}
	if l, text = readOf(t, m, l.Next, 4<<10); text != "" { // it may still grow
		t.Errorf("while it has no end: %.80q", text)
	}
	write("\nafter\n")
	l, text = readOf(t, m, l.Next, 4<<10)
	if !strings.HasPrefix(text, "tidetide") || !strings.HasSuffix(text, "…|after") || len(text) > 3000 || strings.Contains(text, "\x1b") {
		t.Errorf("%d bytes: %.80q", len(text), text)
	}
	if _, text = readOf(t, m, l.Next, 0); text != "" {
		t.Errorf("nothing more was expected: %q", text)
	}
	if _, text = readOf(t, m, -1, 4<<10); text != "after" {
		t.Errorf("the last lines: %.80q", text)
	}
}

func TestLinesWithoutATimeGetTheTimeAtWhichTheyWereSeen(t *testing.T) {
	m, write := logOf(t)
	noon := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	m.note(noon)
	for i := range 3 {
		write(fmt.Sprintf("line %d\n", i))
		m.note(noon.Add(time.Duration(i+1) * time.Minute))
	}
	write("2026-01-01T12:03:30Z knows its time\n")
	l, _ := readOf(t, m, 0, 0)
	for i, line := range l.Lines {
		want := noon.Add(time.Duration(i+1) * time.Minute)
		if i == 3 {
			want = noon.Add(210 * time.Second)
		}
		if !line.At.Equal(want) || line.About != (i < 3) {
			t.Errorf("%+v, want %s", line, want)
		}
	}
}

// TestALeaseOnALogHoldsNobodyUp has the member's user take a lease on its own log, by which whoever opens it would wait for 45 seconds.
func TestALeaseOnALogHoldsNobodyUp(t *testing.T) {
	signal.Ignore(syscall.SIGIO) // by which who has the lease is told that somebody comes
	m := newMember(layout{dir: t.TempDir()}, runtime.NewProcesses(t.TempDir(), false), nil, "it-1")
	if err := os.MkdirAll(filepath.Dir(m.logFile()), 0o700); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(m.logFile(), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(2 * logMost); err != nil {
		t.Fatal(err)
	}
	if _, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_WRLCK); err != nil {
		t.Skipf("no lease can be had here: %v", err)
	}
	begin := time.Now()
	rotate(m.logFile())
	_, _ = m.readLog(-1, 4096)
	m.lastLines()
	if log, err := runtime.OpenLog(m.logFile(), &fit.Account{UID: os.Geteuid(), GID: os.Getegid()}); err == nil {
		log.Close()
	}
	if took := time.Since(begin); took > 5*time.Second {
		t.Errorf("a lease held the agent up for %s", took)
	}
}

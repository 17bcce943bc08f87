package e2e

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

const visited = "format: 1\nfield: quay\nnodes: [{name: gull-1}, {name: tern-1}]\nroles:\n  bells:\n    members: 2\n    spread: node\n" +
	"    program:\n      command: [python3, -u, -c, 'import socketserver as s; s.ThreadingTCPServer.allow_reuse_address = True; " +
	"h = type(\"H\", (s.StreamRequestHandler,), {\"handle\": lambda h: [h.wfile.write(l) for l in h.rfile]}); " +
	"s.ThreadingTCPServer((\"{{.Address}}\", {{.Port \"echo\"}}), h).serve_forever()']\n      ports: {echo: {from: 7300, to: 7399}}\n      env: {TIDE: 'high at {{.Member}}'}\n"

// TestRunAtMembers runs commands at members: as they are, with what they read and write, and how they end.
func TestRunAtMembers(t *testing.T) {
	t.Parallel()
	x := newTrial(t, visited)
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	out := x.must("run", x.file, "bells", "--", "sh", "-c", `echo "$TIDE"; pwd; echo fog >&2`)
	x.contains(out, "bells-1  high at bells-1\n")
	x.contains(out, "bells-2  high at bells-2\n")
	x.contains(out, "members/bells-2\n")
	x.contains(out, "bells-1  fog\n")

	// Bytes pass as they are, both ways, and at once.
	data := make([]byte, 5<<20)
	for i := range data {
		data[i] = byte(rand.UintN(256))
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := x.command(ctx, "run", x.file, "bells-1", "--", "cat")
	cmd.Stdin = bytes.NewReader(data)
	if got, err := cmd.Output(); err != nil || sha256.Sum256(got) != sha256.Sum256(data) {
		t.Errorf("5 MiB through cat: %d bytes, %v", len(got), err)
	}
	for _, s := range []struct {
		command []string
		code    int
		says    string
	}{
		{[]string{"sh", "-c", "exit 7"}, 7, ""},
		{[]string{"sh", "-c", "kill -9 $$"}, 137, "ended by signal 9"},
		{[]string{"tide-table"}, 2, `the program "tide-table" is not installed`},
		{[]string{"printf", "%s|", "a b", `c"d`, "e'f", "$g"}, 0, `a b|c"d|e'f|$g|`},
	} {
		if out, code := x.try(time.Minute, append([]string{"run", x.file, "bells-1", "--"}, s.command...)...); code != s.code || !strings.Contains(out, s.says) {
			t.Errorf("%v: %d, %s", s.command, code, out)
		}
	}
	if out, code := x.try(time.Minute, "run", x.file, "bells", "--", "sh", "-c", `[ "$TIDE" = "high at bells-1" ]`); code != 1 || !strings.Contains(out, "bells-2: it ended with exit status 1") {
		t.Errorf("the worst of two: %d, %s", code, out)
	}
	var all []struct {
		Member, Output string
		Code           int
	}
	if err := json.Unmarshal([]byte(x.must("run", x.file, "--json", "bells", "--", "echo", "ahoy")), &all); err != nil || len(all) != 2 || all[1].Output != "ahoy\n" {
		t.Errorf("as JSON: %+v, %v", all, err)
	}

	// What is interrupted ends, with all that it has started, however it takes the interruption.
	mark := fmt.Sprint("sleep 6", rand.UintN(1e8))
	cmd = x.command(ctx, "run", x.file, "bells-1", "--", "sh", "-c", "trap '' INT; "+mark+" & "+mark)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	running := func() bool { return exec.Command("pgrep", "-f", "^"+mark+"$").Run() == nil }
	x.until("it runs", 10*time.Second, running)
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("interrupted: %d", code)
	}
	x.until("nothing of it is left", 10*time.Second, func() bool { return !running() })

	// It goes on while the member is started again, and ends with the member.
	cmd = x.command(ctx, "run", x.file, "bells-2", "--", "sh", "-c", mark)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	x.until("it runs", 10*time.Second, running)
	x.must("restart", x.file, "bells-2", "--yes", "--timeout", "30s")
	if !running() {
		t.Error("what was run at a member has ended with its process")
	}
	journal := x.must("journal", x.file)
	x.contains(journal, "ran cat at bells-1", "ran printf at bells-1", "ran sh at bells-2")
	if strings.Contains(journal, "a b") || strings.Contains(journal, mark) {
		t.Error("the journal has arguments")
	}
	for says, args := range map[string][]string{"say what to run after --": {"bells"}, "say where": {"--", "true"}, `did you mean "bells"`: {"bels", "--", "true"}} {
		if out, code := x.try(time.Minute, append([]string{"run", x.file}, args...)...); code != 2 || !strings.Contains(out, says) {
			t.Errorf("%v: %d, %s", args, code, out)
		}
	}
	x.must("retire", x.file, "--yes", "--forget")
	_ = cmd.Wait()
	if running() {
		t.Error("what was run at a member has not ended with it")
	}
	if out, code := x.try(time.Minute, "run", x.file, "bells", "--", "true"); code != 2 || !strings.Contains(out, "quay is not deployed") {
		t.Errorf("at a field that is gone: %d, %s", code, out)
	}
}

// TestTunnelsAndCopies reaches a member's port from here, also after it was away, and moves files there and back.
func TestTunnelsAndCopies(t *testing.T) {
	t.Parallel()
	x := newTrial(t, visited)
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := x.command(ctx, "tunnel", x.file, "bells-1", "echo")
	out, _ := cmd.StdoutPipe()
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	at := make([]byte, 100)
	n, err := out.Read(at)
	if err != nil {
		t.Fatalf("%v, %s", err, said.String())
	}
	address := strings.TrimSpace(string(at[:n]))
	echo := func(text string) string {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			return err.Error()
		}
		defer conn.Close()
		_, _ = io.WriteString(conn, text+"\n")
		_ = conn.(*net.TCPConn).CloseWrite()
		got, _ := io.ReadAll(conn)
		return strings.TrimSpace(string(got))
	}
	if got := echo("ahoy"); got != "ahoy" {
		t.Errorf("through the tunnel: %q", got)
	}
	long := strings.Repeat("fog ", 1<<18)
	if got := echo(long); got != strings.TrimSpace(long) {
		t.Errorf("a MiB through the tunnel: %d bytes", len(got))
	}
	x.must("stop", x.file, "bells-1", "--yes", "--timeout", "30s")
	if got := echo("ahoy"); got != "" {
		t.Errorf("to a member that is stopped: %q", got)
	}
	x.must("start", x.file, "bells-1", "--yes", "--timeout", "30s")
	if got := echo("ahoy"); got != "ahoy" {
		t.Errorf("after it was started again: %q", got)
	}
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	x.contains(said.String(), "leads to port echo of bells-1 on", "port echo of bells-1", "does not answer: connection refused")
	if out, code := x.try(time.Minute, "tunnel", x.file, "bells-1", "ech"); code != 2 || !strings.Contains(out, "it has echo (73") {
		t.Errorf("to a port that is not there: %d, %s", code, out)
	}

	if err := os.MkdirAll(filepath.Join(x.dir, "charts/old"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"charts/a", "charts/old/b"} {
		if err := os.WriteFile(filepath.Join(x.dir, name), []byte(name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	x.must("copy", x.file, "charts", "bells-2:data")
	x.contains(x.must("run", x.file, "bells-2", "--", "cat", "data/charts/old/b"), "charts/old/b")
	x.must("copy", x.file, "bells-2:data/charts", "back")
	if got, err := os.ReadFile(filepath.Join(x.dir, "back/old/b")); err != nil || string(got) != "charts/old/b" {
		t.Errorf("there and back: %q, %v", got, err)
	}
	for says, args := range map[string][]string{"there is no file or folder nothing": {"bells-1:nothing", "."}, "one of the two must be": {"a", "b"}, "bells is 2 members": {"bells:a", "b"},
		"no such file": {"nothing", "bells-1:data"}, "there is no folder": {"charts/a", "bells-1:data/x/y/z"}} {
		if out, code := x.try(time.Minute, append([]string{"copy", x.file}, args...)...); code != 2 || !strings.Contains(out, says) {
			t.Errorf("%v: %d, %s", args, code, out)
		}
	}
	x.contains(x.must("journal", x.file), "opened a tunnel to port echo at bells-1", "copied files at bells-2")
}

// TestShellAtAMember types in a shell at a member: job control, signals, sizes, and the way back; from the command line and from the board.
func TestShellAtAMember(t *testing.T) {
	x := newTrial(t, visited)
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	s := newScreen(t, x, 100, 30, "shell", x.file, "bells-1")
	s.has("At bells-1 on")
	s.has("bells-1 on gull-1 bells-1")
	s.types(`echo "$TIDE" $((6 * 7)); stty size`)
	s.press("Enter")
	s.has("high at bells-1 42")
	s.has("30 100")
	s.types("sleep 600")
	s.press("Enter")
	s.again("Stopped", func() { s.press("C-z") }) // one that comes before it runs stops nobody
	s.types("kill %1; cat")
	s.press("Enter")
	s.again("still 42", func() {
		s.press("C-c")
		s.types("echo still $((40 + 2))")
		s.press("Enter")
	})
	if out, err := exec.Command("tmux", "-S", s.socket, "resize-window", "-x", "90", "-y", "20").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	s.types("stty size")
	s.press("Enter")
	s.has("20 90")
	s.types("exit 0")
	s.press("Enter")
	s.until("nothing: the shell has ended", func(shown string) bool { return shown == "" })
	x.contains(x.must("journal", x.file), "opened a shell at bells-1")
	if out, code := x.try(time.Minute, "shell", x.file, "bells-1"); code != 2 || !strings.Contains(out, "a shell needs a terminal") {
		t.Errorf("without a terminal: %d, %s", code, out)
	}

	b := newScreenAt(t, x, 2, 100, 30, "open", x.file)
	b.has("2 of 2 lit")
	b.press("Down", "Right", "S")
	b.has("At bells-")
	b.types("echo $((123 * 1000)) at $PS1")
	b.press("Enter")
	b.has("123000")
	b.press("C-d")
	b.has("Back from bells-")
	b.has("2 of 2 lit")
}

package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// slow is a field whose members take a while to be ready.
const slow = `format: 1
field: saltmarsh
nodes: [{name: "gull-{1..2}"}]
roles:
  wardens:
    kind: master
    members: 2
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}', ready-after=READY]
      ports: {main: {from: 7100, to: 7109}}
      ready: {tcp: {port: main}}
  crews:
    members: 2
    after: {wardens: all}
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {from: 7300, to: 7309}}
      ready: {tcp: {port: main}}
`

// starts counts how often each member was started.
func (x *trial) starts() map[string]int {
	data, _ := os.ReadFile(x.witness)
	n := map[string]int{}
	for line := range strings.Lines(string(data)) {
		if words := strings.Fields(line); len(words) == 4 && words[0] == "start" {
			n[words[1]]++
		}
	}
	return n
}

// TestTheLidIsClosed deploys from a screen that is closed while members are starting, kills the keeper, asks from another shell how it is, and
// has the field served: it converges, and nothing was started twice. LANTERNFIELD_SOAK makes it the whole minute and a half.
func TestTheLidIsClosed(t *testing.T) {
	t.Parallel()
	ready, closed, killed, asked := 7*time.Second, time.Second, 3*time.Second, 4*time.Second
	if os.Getenv("LANTERNFIELD_SOAK") != "" {
		ready, closed, killed, asked = 90*time.Second, 5*time.Second, 40*time.Second, 60*time.Second
	}
	x := newTrial(t, strings.Replace(slow, "READY", ready.String(), 1))
	s := newScreen(t, x, 120, 40, "open", x.file)
	s.has("Nothing runs yet.")
	s.press("v")
	s.has("place wardens-1")
	s.press("d")
	began := time.Now()
	x.until("wardens are starting", 20*time.Second, func() bool { return x.status().member("wardens-2").Phase == "starting" })
	time.Sleep(time.Until(began.Add(closed))) // the moment is the test's choice
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
	if x.keeper() == 0 {
		t.Fatal("nobody keeps the field once the screen is closed, and a rollout goes on")
	}
	time.Sleep(time.Until(began.Add(killed)))
	x.killKeeper()
	time.Sleep(time.Until(began.Add(asked)))
	out, _ := x.try(20*time.Second, "status", x.file)
	for _, want := range []string{"saltmarsh  deploying", "crews waits for wardens: all", "wardens-1", "starting",
		"Nobody keeps the field, so what is not done yet does not go on: the next command that acts takes it up, or `lanternfield serve`."} {
		if !strings.Contains(out, want) {
			t.Errorf("status, with the keeper killed, does not say %q:\n%s", want, out)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	serve := x.command(ctx, "serve", x.file)
	serve.Cancel = func() error { return serve.Process.Signal(os.Interrupt) }
	var said strings.Builder
	serve.Stdout, serve.Stderr = &said, &said
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	x.must("status", x.file, "--wait", "converged", "--timeout", "2m")
	if out := x.must("status", x.file); !strings.Contains(out, "(lanternfield serve, process ") || !strings.Contains(out, ", which stays.") {
		t.Errorf("who serves the field is not told:\n%s", out)
	}
	for member, n := range x.starts() {
		if n != 1 {
			t.Errorf("%s was started %d times", member, n)
		}
	}
	cancel()
	_ = serve.Wait()
	if !strings.Contains(said.String(), "Keeping saltmarsh. Interrupt to stop keeping it; members go on running.") || !strings.Contains(said.String(), "saltmarsh is not kept by this process any more") {
		t.Errorf("serve says:\n%s", said.String())
	}
	if s := x.status(); s.State != "converged" {
		t.Errorf("after serve has ended: %s: %s", s.State, s.Verdict)
	}
}

// TestThreeScreensOnOneField has what one screen does seen by the others, and two of them deploy at once.
func TestThreeScreensOnOneField(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	var screens [3]*screen
	for i := range screens {
		screens[i] = newScreenAt(t, x, i, 120, 40, "open", x.file)
		screens[i].has("9 of 9 lit")
	}
	if out := x.must("status", x.file); strings.Count(out, "lanternfield open, process ") != 3 {
		t.Errorf("three screens are attached, and status says\n%s", out)
	}
	screens[0].press("Down", "Down", "+") // the file has it: all three see the draft
	screens[0].has("draft +1")
	drafted := time.Now()
	for _, s := range screens[1:] {
		s.has("draft +1")
	}
	t.Logf("the others saw the draft %v after the screen that made it", time.Since(drafted).Round(time.Millisecond))
	for _, s := range screens[1:] {
		s.press("v")
		s.has("place crews-4")
	}
	// Both press d at once: one wins, and the other is told.
	screens[1].press("d")
	screens[2].press("d")
	screens[0].has("10 of 10 lit")
	lit := time.Now()
	for _, s := range screens[1:] {
		s.has("10 of 10 lit")
	}
	t.Logf("all saw the last lantern lit within %v", time.Since(lit).Round(time.Millisecond))
	told := 0
	defer func() {
		if t.Failed() {
			for _, s := range screens {
				t.Log(s.text())
			}
		}
	}()
	x.until("one of two has been told", 10*time.Second, func() bool {
		told = 0
		for _, s := range screens[1:] {
			if text := strings.Join(strings.Fields(s.text()), " "); strings.Contains(text, "has asked for a deploy at") || strings.Contains(text, "has changed since it was reviewed") || strings.Contains(text, "Nothing to deploy") {
				told++
			}
		}
		return told == 1
	})
	out := x.must("journal", x.file)
	if n := strings.Count(out, "deploy asked for by lanternfield open, process "); n != 1 {
		t.Errorf("%d deploys were accepted of two at once:\n%s", n, out)
	}
	for _, s := range screens {
		s.press("q")
	}
	x.alone()
}

// TestAKeeperEndsWhenAllIsSettled starts keepers by commands, and waits until nobody keeps the field; one that is asked meanwhile answers.
func TestAKeeperEndsWhenAllIsSettled(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	first := x.keeper()
	if first == 0 {
		t.Fatal("nobody keeps the field just after a deploy")
	}
	if out := x.must("status", x.file, "--json"); !strings.Contains(out, `"keeper": {`) {
		t.Errorf("status --json does not tell who keeps the field:\n%s", out)
	}
	x.must("restart", x.file, "crews-1", "--yes")
	if again := x.keeper(); again != first {
		t.Errorf("a command that found a keeper, process %d, has another: %d", first, again)
	}
	x.alone()
	x.until("the keeper has written why it ended, which it does last", 5*time.Second, func() bool {
		log, _ := os.ReadFile(filepath.Join(x.state, "saltmarsh", "own", "keeper.log"))
		return strings.Contains(string(log), "all is settled and nobody is attached")
	})
	// Whoever comes as it ends starts the next one: commands come at every moment of its end.
	for i := range 12 {
		x.must("restart", x.file, "crews-2", "--yes")
		time.Sleep(1900*time.Millisecond + time.Duration(i)*20*time.Millisecond) // it ends after two seconds
		x.must("restart", x.file, "crews-1", "--yes")
	}
}

// TestADeployReturnsAtItsLimitAndGoesOn has a deploy end by its own limit: it says what is waited for, that it goes on, and how to hold it.
func TestADeployReturnsAtItsLimitAndGoesOn(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(slow, "READY", "4s", 1))
	out, code := x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "1s")
	if code != 1 || !strings.Contains(out, "saltmarsh did not become converged within 1.0 s") || !strings.Contains(out, "wardens-1 waits for its ready probe to succeed") ||
		!strings.Contains(out, "What was ordered goes on: process ") || !strings.Contains(out, "`lanternfield status --wait converged` follows it, `lanternfield pause` holds it.") {
		t.Errorf("exit status %d:\n%s", code, out)
	}
	if out := x.must("pause", x.file); out != "saltmarsh is held: nothing new is begun until `lanternfield resume`.\n" {
		t.Errorf("pause says %q", out)
	}
	x.until("the wardens are ready", 30*time.Second, func() bool {
		s := x.status()
		return s.member("wardens-1").Phase == "ready" && s.member("wardens-2").Phase == "ready"
	})
	if phase := x.status().member("crews-1").Phase; phase != "planned" {
		t.Errorf("paused, and crews-1 is %s", phase)
	}
	x.alone() // what is paused needs nobody
	if out, code := x.try(20*time.Second, "pause", x.file); code != 2 || !strings.Contains(out, "it is paused already") {
		t.Errorf("pausing twice: exit status %d: %s", code, out)
	}
	x.must("resume", x.file)
	x.must("status", x.file, "--wait", "converged", "--timeout", "1m")
}

// TestANewerReleaseTakesOver has a keeper of an older release hand over to a command of a newer one.
func TestANewerReleaseTakesOver(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(slow, "READY", "6s", 1))
	newer := filepath.Join(x.dir, "lanternfield")
	data, err := os.ReadFile(binary)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(newer, data, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(newer, time.Now().Add(time.Hour), time.Now().Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	_, _ = x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "1s")
	old := x.keeper()
	if old == 0 {
		t.Fatal("nobody keeps the field")
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := x.command(ctx, "deploy", x.file, "--yes")
	cmd.Path = newer
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if now := x.keeper(); now == old || syscall.Kill(old, 0) == nil {
		t.Errorf("the older keeper, process %d, goes on; now it is %d", old, now)
	}
	for member, n := range x.starts() {
		if n != 1 {
			t.Errorf("%s was started %d times", member, n)
		}
	}
	out, err := os.Readlink("/proc/" + strconv.Itoa(x.keeper()) + "/exe")
	if err != nil || out != newer {
		t.Errorf("the keeper is %s, want the newer release (%v)", out, err)
	}
	var s struct{ Keeper struct{ Command string } }
	if err := json.Unmarshal([]byte(x.must("status", x.file, "--json")), &s); err != nil || !strings.HasPrefix(s.Keeper.Command, "lanternfield deploy, process ") {
		t.Errorf("status --json: %v, %+v", err, s)
	}
}

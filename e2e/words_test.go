package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestWaitingWatchingAndFollowing uses the commands that go on until something happens.
func TestWaitingWatchingAndFollowing(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	lines := func(args ...string) <-chan string {
		cmd := x.command(ctx, args...)
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
		ch := make(chan string, 1000)
		go func() {
			defer close(ch)
			for s := bufio.NewScanner(out); s.Scan(); {
				ch <- s.Text()
			}
		}()
		return ch
	}
	has := func(ch <-chan string, what string) {
		t.Helper()
		for {
			select {
			case line, ok := <-ch:
				if !ok {
					t.Fatalf("it ended without %q", what)
				}
				if strings.Contains(line, what) {
					return
				}
			case <-time.After(20 * time.Second):
				t.Fatalf("no %q in 20 s", what)
			}
		}
	}
	journal := lines("journal", x.file, "--follow")
	watch := lines("status", x.file, "--watch")
	has(watch, "saltmarsh  draft")
	waiting := lines("status", x.file, "--wait", "converged", "--json")
	x.must("deploy", x.file, "--yes")
	has(journal, "deploy asked for by lanternfield deploy: 3 roles, 9 members, 3 nodes")
	has(journal, "deploy done")
	has(watch, "9 of 9 lit")
	has(waiting, `"state": "converged"`)

	m := x.status().member("crews-1")
	if err := syscall.Kill(m.PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	has(watch, "crews-1 is dark")
	// Nobody holds the field, so nobody writes its history yet; the agent keeps the reports for whoever comes.
	x.must("deploy", x.file, "--yes")
	has(journal, "crews-1 went dark")

	x.until("a wait that fails says so", 20*time.Second, func() bool { // at once, unless agents are slow to answer
		out, code := x.try(20*time.Second, "status", x.file, "--wait", "stopped", "--timeout", "300ms")
		return code == 1 && strings.Contains(out, "saltmarsh is converged and did not become stopped in time; see `lanternfield journal` for what happened.")
	})
}

func TestInterruptedDeployGoesOnFromWhereItWas(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(ferries, "ready-after=150ms", "ready-after=5s", 1))
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := x.command(ctx, "deploy", x.file, "--yes")
	var errs strings.Builder
	cmd.Stderr = &errs
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	before := 0
	x.until("the wardens are starting", 20*time.Second, func() bool {
		m := x.status().member("wardens-3")
		before = m.PID
		return m.Phase == "starting"
	})
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait()
	want := "Interrupted. What was ordered stays ordered and is carried on without this command; `lanternfield status` tells how far it is, `lanternfield pause` holds it.\n"
	if cmd.ProcessState.ExitCode() != 130 || errs.String() != want {
		t.Errorf("exit status %d: %s", cmd.ProcessState.ExitCode(), errs.String())
	}
	if s := x.status(); s.State != "deploying" || s.member("relays-1").Phase != "planned" {
		t.Errorf("after the interruption: %s: %s", s.State, s.Verdict)
	}
	x.must("status", x.file, "--wait", "converged", "--timeout", "60s") // with no other command
	if s := x.status(); s.State != "converged" || s.member("wardens-3").PID != before {
		t.Errorf("in the end: %s; wardens-3 is process %d, was %d", s.Verdict, s.member("wardens-3").PID, before)
	}
}

func TestOneDocumentUnderJSON(t *testing.T) {
	x := newTrial(t, ferries)
	for _, test := range []struct {
		args []string
		keys string
	}{
		{[]string{"check"}, "field findings ok"}, {[]string{"review"}, "field steps gates"}, {[]string{"deploy", "--yes"}, "field state verdict roles members nodes"},
		{[]string{"scale", "crews", "4", "--yes"}, "state members"}, {[]string{"restart", "crews", "--yes"}, "state members"}, {[]string{"stop", "crews-4", "--yes"}, "state members"},
		{[]string{"start", "crews-4"}, "state members"}, {[]string{"status"}, "state members"}, {[]string{"retire", "--yes"}, "field members nodes left"},
		{[]string{"stop", "--yes"}, "error"},
	} {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		out, _ := x.command(ctx, append(test.args, "--json")...).Output()
		cancel()
		var doc map[string]any
		if err := json.Unmarshal(out, &doc); err != nil {
			t.Errorf("%v: %v\n%s", test.args, err, out)
			continue
		}
		for _, key := range strings.Fields(test.keys) {
			if _, ok := doc[key]; !ok {
				t.Errorf("%v: no %q in\n%s", test.args, key, out)
			}
		}
	}
}

// TestScaleOutInAndToZero follows a role without votes, and the address list of those who call it.
func TestScaleOutInAndToZero(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	names := func() string {
		var out []string
		for _, m := range x.status().Members {
			if m.Role == "crews" {
				out = append(out, m.Member)
			}
		}
		return strings.Join(out, " ")
	}
	for _, step := range []struct{ n, want string }{{"5", "crews-1 crews-2 crews-3 crews-4 crews-5"}, {"2", "crews-1 crews-2"}, {"0", ""}, {"1", "crews-6"}} {
		x.must("scale", "crews", step.n, "--yes")
		if s := x.status(); names() != step.want || s.State != "converged" {
			t.Errorf("crews %s: %q, want %q; %s", step.n, names(), step.want, s.Verdict)
		}
	}
	if running := x.witnesses(); running != 7 {
		t.Errorf("%d members' processes run, want 7", running)
	}
	out, code := x.try(20*time.Second, "scale", "wardens", "1", "--yes")
	want := "the members of wardens vote, and its program says no way to leave (leave): whoever merely ended would be counted as a lost vote for good, so 3 cannot become 1; nothing has been changed\n"
	if code != 2 || out != want {
		t.Errorf("voters: %d\n%s", code, out)
	}
}

// TestTheBoardIsDrawnForAReport exports a draft and what has been deployed from it, and says what is wrong with a wish.
func TestTheBoardIsDrawnForAReport(t *testing.T) {
	x := newTrial(t, ferries)
	draft, live := x.dir+"/draft.svg", x.dir+"/live.pdf"
	x.must("export", x.file, "board", "-o", draft)
	x.must("deploy", x.file, "--yes")
	x.must("export", x.file, "board", "-o", live)
	for file, want := range map[string]string{draft: "wardens-3", live: "%PDF-"} {
		if data, err := os.ReadFile(file); err != nil || !strings.Contains(string(data), want) {
			t.Errorf("%s: %d bytes, %v", file, len(data), err)
		}
	}
	for _, test := range []struct{ args, want string }{
		{"bord -o x.svg", "there is no export \"bord\"; did you mean board?"}, {"board", "where to?"}, {"board -o x.png", "x.png cannot be written as png: board is written to -o x.svg or -o x.pdf"},
		{"board -o /nowhere/x.svg", "the drawing cannot be written"},
	} {
		if out, code := x.try(20*time.Second, append([]string{"export", x.file}, strings.Fields(test.args)...)...); code != 2 || !strings.Contains(out, test.want) {
			t.Errorf("%s: %d, %s", test.args, code, out)
		}
	}
}

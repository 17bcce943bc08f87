package tui

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

var update = flag.Bool("update", false, "write the frames into testdata")

var noon = time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)

// ferries is a field with voters and gates.
func ferries() *field.Field {
	program := func(port int) *field.Program {
		return &field.Program{Command: []string{"program"}, Ports: map[string]field.Port{"client": {From: port, To: port + 9}},
			Ready: &field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "client"}}}}
	}
	f := &field.Field{Name: "saltmarsh", Roles: []field.Role{
		{Name: "wardens", Kind: field.Master, Members: 3, Votes: true, Program: program(7400), Room: field.Size{CPU: 0.5, Memory: 512 << 20}},
		{Name: "relays", Kind: field.Broker, Members: 2, After: map[field.RoleName]field.Gate{"wardens": "quorum"}, Program: program(7500), Room: field.Size{CPU: 0.25, Memory: 256 << 20}},
		{Name: "crews", Kind: field.Worker, Members: 5, Calls: map[string]field.RoleName{"queue": "relays"}, Program: program(7600), Room: field.Size{CPU: 0.25, Memory: 128 << 20}},
	}}
	for _, n := range []struct{ name, zone string }{{"gull-1", "north-quay"}, {"gull-2", "north-quay"}, {"tern-1", "south-quay"}, {"puffin-1", "lighthouse"}} {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(n.name), Zone: field.ZoneName(n.zone), Size: field.Size{CPU: 2, Memory: 4 << 30}})
	}
	field.FillDefaults(f)
	return f
}

// nobody is a session of a field that has not been deployed.
type nobody struct{ control.Session }

func (nobody) Review(_ context.Context, draft *field.Field) (*plan.Review, error) {
	return review.Of(state.NewState(), draft)
}

func (nobody) Lines(context.Context, map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	return nil, nil
}

// TestTheScreenOutlivesItsController loses the field and gets it back, with keys pressed meanwhile.
func TestTheScreenOutlivesItsController(t *testing.T) {
	r := onRehearsal(t, 120, 40)
	if _, cmd := r.Update(lostMsg{}); cmd == nil || r.session != nil {
		t.Error("nothing is done about a controller that has gone")
	}
	for _, msg := range []tea.Msg{snapMsg{r.snap}, tickMsg(noon), openedMsg{err: errors.New("held by another")}, reviewMsg{review: r.review}} {
		_, _ = r.Update(msg)
	}
	r.press("v", "d", "esc", "right")
	if text := r.draw().Plain(); !strings.Contains(text, "The field cannot be kept: held by another") {
		t.Errorf("the screen does not say so:\n%s", text)
	}
	if _, cmd := r.Update(openedMsg{session: nobody{}}); cmd == nil || r.session == nil || r.bad {
		t.Error("the field was not taken again")
	}
}

// rehearsed is the application on a rehearsed field.
type rehearsed struct {
	*app
	world   *rehearse.World
	lasting []control.Sample // the whole tide, as it is kept
}

func onRehearsal(t *testing.T, w, h int) *rehearsed {
	t.Helper()
	world := rehearse.New(noon)
	world.ReadyAfter = map[field.RoleName]time.Duration{"wardens": 400 * time.Millisecond, "relays": 100 * time.Millisecond}
	world.TakeOver()
	a := newApp(context.Background(), "saltmarsh.field.yaml", control.Folder{}, nobody{})
	a.w, a.h, a.draft = w, h, ferries()
	r := &rehearsed{app: a, world: world}
	r.see(t)
	return r
}

func (r *rehearsed) deploy(t *testing.T) {
	t.Helper()
	if err := r.world.Do(engine.Deploy{Draft: r.draft, By: "test"}); err != nil {
		t.Fatal(err)
	}
}

// see takes in what there is to see now.
func (r *rehearsed) see(t *testing.T) {
	t.Helper()
	r.now = r.world.Now
	r.snap = r.world.Snapshot()
	review, err := review.Of(r.world.State, r.draft)
	if err != nil {
		t.Fatal(err)
	}
	r.review = review
	r.tide = nil
	s := state.NewState()
	for _, e := range r.world.Log {
		state.Apply(s, e)
		c := snapshot.Count(s)
		r.tide = append(r.tide, control.Sample{At: e.At, Lit: c.Lit, Want: c.Want, Survives: c.Survives, Votes: c.Votes})
	}
	r.rebuild()
}

var codes = map[string]rune{"up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "esc": tea.KeyEscape,
	"enter": tea.KeyEnter, "end": tea.KeyEnd, "home": tea.KeyHome, "tab": tea.KeyTab, "backspace": tea.KeyBackspace, "pgup": tea.KeyPgUp}

// press is a key as the terminal sends it.
func press(k string) tea.KeyPressMsg {
	if code, ok := codes[k]; ok {
		return tea.KeyPressMsg{Code: code}
	}
	return tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
}

// settle has worked out what is worked out beside the screen.
func (r *rehearsed) settle(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := result(cmd).(type) {
	case tea.BatchMsg:
		for _, c := range msg {
			r.settle(c)
		}
	case besideMsg, proposalMsg:
		_, next := r.Update(msg)
		r.settle(next)
	}
}

// result is what a command brings; nothing where it asks a session that does not answer.
func result(cmd tea.Cmd) (msg tea.Msg) {
	defer func() { _ = recover() }()
	return cmd()
}

// draw is the screen as it is when all is worked out.
func (r *rehearsed) draw() *grid.Grid {
	r.settle(r.derive())
	return r.app.draw()
}

func (r *rehearsed) press(keys ...string) {
	for _, k := range keys {
		_, cmd := r.Update(press(k))
		r.settle(cmd)
	}
}

// TestFrames compares whole screens with those in testdata.
func TestFrames(t *testing.T) {
	lit := func(t *testing.T, r *rehearsed) {
		r.deploy(t)
		r.world.Run(2 * time.Second)
		r.world.Lead("wardens-2", 4)
		r.world.Run(20 * time.Second)
	}
	for _, test := range []struct {
		name string
		w, h int
		do   func(t *testing.T, r *rehearsed)
	}{
		{"draft_160x40", 160, 40, func(*testing.T, *rehearsed) {}},
		{"review_80x24", 80, 24, func(t *testing.T, r *rehearsed) { r.press("v") }},
		{"warming_80x24", 80, 24, func(t *testing.T, r *rehearsed) { r.deploy(t); r.world.Run(50 * time.Millisecond) }},
		{"lit_160x40", 160, 40, lit},
		{"lit_220x60", 220, 60, lit},
		{"leader_dark_160x40", 160, 40, func(t *testing.T, r *rehearsed) {
			lit(t, r)
			r.world.Kill("wardens-2")
			r.world.Run(300 * time.Millisecond)
			r.see(t)
			r.press("right", "right")
		}},
		{"ascii_80x24", 80, 24, func(t *testing.T, r *rehearsed) {
			r.look.ASCII = true
			lit(t, r)
			r.world.Kill("crews-3")
			r.world.Run(300 * time.Millisecond)
		}},
		{"draft_over_live_120x30", 120, 30, func(t *testing.T, r *rehearsed) {
			lit(t, r)
			r.draft = ferries()
			r.draft.Role("crews").Members = 7
			r.draft.Role("relays").Members = 1
		}},
		{"coloured_80x24", 80, 24, func(t *testing.T, r *rehearsed) {
			lit(t, r)
			r.world.Kill("crews-3")
			r.world.Run(300 * time.Millisecond)
		}},
		{"carrying_120x30", 120, 30, func(t *testing.T, r *rehearsed) {
			lit(t, r)
			r.see(t)
			r.cursor = board.Cursor{Role: 2, Post: 1}
			r.press("g", "right")
		}},
		{"folded_100x24", 100, 24, func(t *testing.T, r *rehearsed) {
			lit(t, r)
			r.world.Kill("crews-1")
			r.world.Run(300 * time.Millisecond)
			r.see(t)
			r.folds["north-quay"] = true
		}},
		{"finding_120x30", 120, 30, func(t *testing.T, r *rehearsed) {
			r.draft = ferries()
			r.draft.Role("wardens").Members = 4
			r.see(t)
			r.findings = finding.All(r.draft)
			r.press("f", "down")
		}},
		{"journal_past_80x24", 80, 24, func(t *testing.T, r *rehearsed) {
			r.session = replayed{r: r, done: &[]string{}}
			lit(t, r)
			r.see(t)
			r.do("4", "up", "up", "up")
		}},
		{"rollout_160x40", 160, 40, func(t *testing.T, r *rehearsed) {
			r.session = replayed{r: r, done: &[]string{}}
			r.world.ReadyAfter["crews"] = 5 * time.Second
			r.deploy(t)
			r.world.Run(2 * time.Second)
			r.see(t)
			r.do("2", ".")
		}},
		{"rollout_past_100x24", 100, 24, func(t *testing.T, r *rehearsed) {
			r.session = replayed{r: r, done: &[]string{}}
			lit(t, r)
			r.see(t)
			r.do("2", "end")
		}},
		{"health_160x40", 160, 40, func(t *testing.T, r *rehearsed) {
			r.session = replayed{r: r, done: &[]string{}}
			lit(t, r)
			r.see(t)
			r.do("3", "down")
		}},
		{"health_large_80x24", 80, 24, func(t *testing.T, r *rehearsed) {
			r.session = replayed{r: r, done: &[]string{}}
			lit(t, r)
			r.see(t)
			r.do("3", "down", "down", "down", "enter", "c")
		}},
		{"health_each_ascii_100x24", 100, 24, func(t *testing.T, r *rehearsed) {
			r.session, r.look.ASCII = replayed{r: r, done: &[]string{}}, true
			lit(t, r)
			r.see(t)
			r.do("3", "down", "down", "down", "enter", "m")
		}},
		{"rollout_nothing_80x24", 80, 24, func(t *testing.T, r *rehearsed) {
			r.session = replayed{r: r, done: &[]string{}}
			r.do("2")
		}},
		{"paused_80x24", 80, 24, func(t *testing.T, r *rehearsed) {
			r.deploy(t)
			r.world.Run(50 * time.Millisecond)
			if err := r.world.Do(engine.PauseRollout{By: "test"}); err != nil {
				t.Fatal(err)
			}
			r.world.Run(2 * time.Second)
		}},
	} {
		t.Run(test.name, func(t *testing.T) {
			r := onRehearsal(t, test.w, test.h)
			test.do(t, r)
			r.see(t)
			r.findings = finding.All(r.draft)
			got := r.draw().Plain() + "\n"
			if strings.HasPrefix(test.name, "coloured") {
				got = strings.ReplaceAll(r.draw().String(), "\x1b", "ESC") + "\n"
			}
			golden := filepath.Join("testdata", test.name+".txt")
			if *update {
				if err := os.WriteFile(golden, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(golden)
			if err != nil {
				t.Fatal(err)
			}
			if got != string(want) {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
		})
	}
}

// TestNoSizeBreaksALine draws every size from nothing to large, in both modes, and walks everywhere.
func TestNoSizeBreaksALine(t *testing.T) {
	r := onRehearsal(t, 0, 0)
	r.deploy(t)
	r.world.Run(5 * time.Second)
	r.world.Kill("wardens-1")
	r.see(t)
	for w := 0; w <= 200; w += 7 {
		for h := 0; h <= 60; h += 3 {
			r.w, r.h = w, h
			for _, keys := range [][]string{{"down"}, {"right"}, {"v"}, {"esc"}, {"?"}, {"esc"}, {"left", "up"}} {
				r.press(keys...)
				lines := strings.Split(r.draw().Plain(), "\n")
				if len(lines) != max(h, 1) {
					t.Fatalf("%dx%d: %d lines", w, h, len(lines))
				}
				for _, line := range lines {
					if n := len([]rune(line)); n > w {
						t.Fatalf("%dx%d: a line of %d cells: %q", w, h, n, line)
					}
				}
			}
		}
	}
}

func TestTheCursorReachesEverythingAndStaysOnTheBoard(t *testing.T) {
	r := onRehearsal(t, 160, 40)
	r.deploy(t)
	r.world.Run(5 * time.Second)
	r.see(t)
	seen := map[string]bool{}
	for range 4 {
		r.press("up", "up", "up", "up", "up", "left", "left", "left", "left", "left", "left", "left", "left", "left")
		for row := range 5 {
			for range 9 {
				text := r.draw().Plain()
				for _, m := range r.snap.Members {
					if strings.Contains(text, fmt.Sprintf("%s  on %s in", m.Member, m.Node)) {
						seen[string(m.Member)] = true
					}
				}
				r.press("right")
			}
			for range 9 {
				r.press("left")
			}
			_ = row
			r.press("down")
		}
	}
	for _, m := range r.snap.Members {
		if !seen[string(m.Member)] {
			t.Errorf("the cursor never came to %s; it saw %v", m.Member, seen)
		}
	}
	r.draft.Roles, r.snap = nil, &snapshot.Snapshot{State: snapshot.Draft}
	r.review = nil
	r.rebuild() // everything has gone under the cursor
	r.press("up", "down", "left", "right")
	r.draw()
}

// TestReviewIsShownBeforeAnythingIsDone presses the key that deploys everywhere but in the review.
func TestReviewIsShownBeforeAnythingIsDone(t *testing.T) {
	r := onRehearsal(t, 120, 40)
	if _, cmd := r.take(tea.KeyPressMsg{Code: 'd', Text: "d"}); cmd != nil {
		t.Error("d on the board did something")
	}
	r.press("v")
	if r.mode != inReview || !r.deployable() {
		t.Fatalf("v leads to mode %s, deployable %v", r.mode, r.deployable())
	}
	r.findings = []finding.Finding{{Severity: finding.Error, Text: "it cannot work"}}
	if _, cmd := r.take(tea.KeyPressMsg{Code: 'd', Text: "d"}); cmd != nil {
		t.Error("a draft with an error was deployed")
	}
	if text := r.draw().Plain(); !strings.Contains(text, "error: it cannot work") || strings.Contains(text, "d deploys") {
		t.Errorf("the review does not say why:\n%s", text)
	}
	r.press("q")
	if r.mode != walking {
		t.Error("q in the review quits instead of going back")
	}
}

// TestStatesDifferInShape keeps every phase readable without colour.
func TestStatesDifferInShape(t *testing.T) {
	groups := [][]state.Phase{{state.Ready}, {state.Placing, state.Starting, state.Joining}, {state.Stopping, state.Draining},
		{state.Unready, state.Failed}, {state.Stopped, state.Gone}, {state.Unknown}, {state.Planned}}
	for _, ascii := range []bool{false, true} {
		k := theme.Dark()
		k.ASCII = ascii
		shapes := map[rune]int{k.LampOf(state.Ready, true).Shape: -1}
		for i, group := range groups {
			for _, p := range group {
				shape := k.LampOf(p, false).Shape
				if other, taken := shapes[shape]; taken && other != i {
					t.Errorf("%s looks like another state: %c", p, shape)
				}
				shapes[shape] = i
				if ascii && shape > 127 {
					t.Errorf("%s is not ASCII: %c", p, shape)
				}
			}
		}
	}
}

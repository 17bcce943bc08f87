package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/board"
)

// replayed is a session of a rehearsed field: it tells of its past, and notes what it is asked to do.
type replayed struct {
	nobody
	r    *rehearsed
	done *[]string
}

func (s replayed) Past(_ context.Context, at time.Time) (*snapshot.Snapshot, error) {
	return snapshot.Of(state.Rewind(s.r.world.Log, at), at), nil
}

func (s replayed) Rollout(_ context.Context, ask control.RolloutAsked) (*rollout.Record, error) {
	var book rollout.Book
	then := state.NewState()
	for _, e := range s.r.world.Log {
		state.Apply(then, e)
		book.Note(then, e)
	}
	found := book.Newest()
	if ask.Number > 0 {
		found = book.Of(ask.Number, 0)
	}
	if found == nil {
		return nil, control.ErrNothing
	}
	record := found.Record(then, s.r.world.Now)
	snap := s.r.world.Snapshot()
	record.Expect(then, rollout.Stuck(snap)...)
	record.Judge(snap)
	return record, nil
}

func (s replayed) Rollouts(context.Context) ([]snapshot.RolloutView, error) {
	var out []snapshot.RolloutView
	for _, r := range append(s.r.world.State.Rollouts[:len(s.r.world.State.Rollouts):len(s.r.world.State.Rollouts)], s.r.world.State.Rollout) {
		if r.Number > 0 {
			out = append(out, snapshot.ViewOf(r))
		}
	}
	return out, nil
}

// Health tells what is made up: a role that lost a member for a while, and answered more slowly then.
func (s replayed) Health(_ context.Context, ask control.HealthAsked) (*health.Told, error) {
	t := &health.Told{Role: string(ask.Role), From: ask.From, To: ask.To, Parts: ask.Parts, Bytes: 3 << 20, Limit: 512 << 20, Marks: []health.Mark{{At: ask.From.Add(ask.To.Sub(ask.From) / 2), Text: "wardens-1 dark"}}}
	line := func(value func(part float64) (mid, spread float64, any bool)) []health.Part {
		parts := make([]health.Part, ask.Parts)
		for i := range parts {
			if mid, spread, any := value(float64(i) / float64(ask.Parts)); any {
				parts[i] = health.Part{N: 3, Mid: mid, Low: mid - spread, High: mid + 2*spread}
			}
		}
		return parts
	}
	dark := func(at float64) bool { return at > 0.5 && at < 0.6 }
	count := func(all, left float64) []health.Part {
		return line(func(at float64) (float64, float64, bool) {
			if dark(at) {
				return left, 0, true
			}
			return all, 0, at > 0.1
		})
	}
	latency := func(by float64) []health.Part {
		return line(func(at float64) (float64, float64, bool) {
			if dark(at) {
				return 4 * by, by, true
			}
			return by + at*by, by / 5, at > 0.1 && !(at > 0.8 && at < 0.9)
		})
	}
	t.Charts = []health.Chart{
		{Name: "ready", About: "ready, of those wanted", Unit: "members", Shape: health.Steps, Band: count(3, 2), Lines: []health.Line{{Of: "wanted", Parts: count(3, 3)}}},
		{Name: "survives", About: "losses survived", Unit: "members", Shape: health.Steps, Band: count(1, 0)},
		{Name: "leader", About: "who led", Shape: health.Ribbon, Band: count(2, 1)},
		{Name: "latency", About: "probe, middle and worst answer", Unit: "ms", Shape: health.Curve, Band: latency(0.8)},
		{Name: "memory", About: "memory", Unit: "bytes", Shape: health.Curve, Band: latency(20 << 20)},
	}
	for i := range t.Charts {
		if c := &t.Charts[i]; c.Name == ask.Each {
			c.Lines = []health.Line{{Of: "wardens-1", Parts: latency(0.7)}, {Of: "wardens-2", Parts: latency(1.1)}}
		}
	}
	return t, nil
}

func (s replayed) Journal(_ context.Context, r control.Range) ([]control.Entry, error) {
	after := r.After
	var entries []control.Entry
	for i, e := range s.r.world.Log[min(int(after), len(s.r.world.Log)):] {
		about := state.SubjectOf(e.Fact)
		entries = append(entries, control.Entry{Seq: after + uint64(i) + 1, At: e.At, Kind: state.KindOf(e.Fact), Text: e.Fact.Sentence(), Member: about.Member, Node: about.Node, Level: state.LevelOf(e.Fact)})
	}
	return entries, nil
}

func (s replayed) Lines(_ context.Context, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	if from, ok := after["wardens-1"]; ok && from < 0 {
		return map[field.MemberName]agentapi.Log{"wardens-1": {Next: 1, Lines: []logline.Line{{At: noon.Add(time.Second), Text: "the bell has rung"}}}}, nil
	}
	return nil, nil
}

func (s replayed) Search(_ context.Context, ask control.SearchAsked) (*control.SearchFound, error) {
	if ask.On {
		return &control.SearchFound{}, nil
	}
	return &control.SearchFound{Found: agentapi.Found{Lines: map[field.MemberName][]logline.Line{"wardens-1": {{At: noon.Add(-time.Hour), Text: "the bell was cast", More: []string{"in bronze"}}}},
		Left: map[field.MemberName]int64{"wardens-1": 7}, Rest: 7}}, nil
}

func (s replayed) Do(_ context.Context, o control.Request) error {
	*s.done = append(*s.done, strings.TrimSpace(fmt.Sprintf("%s %s", o.What, strings.Join(o.Names, " "))))
	return nil
}

// lived is the application on a field that was deployed, lost a warden 20 s later and has it back since.
func lived(t *testing.T) (*rehearsed, *[]string) {
	r := onRehearsal(t, 160, 40)
	done := &[]string{}
	r.session = replayed{r: r, done: done}
	r.deploy(t)
	r.world.Run(2 * time.Second)
	r.world.Lead("wardens-2", 4)
	r.world.Run(18 * time.Second)
	r.world.Kill("wardens-1")
	r.world.Run(10 * time.Second)
	r.see(t)
	for i := range r.tide {
		if e := r.world.Log[i]; state.KindOf(e.Fact) == "member-exited" {
			r.tide[i].Mark = "wardens-1 dark"
		}
	}
	return r, done
}

// do presses keys and carries out what follows from them at once.
func (r *rehearsed) do(keys ...string) {
	for _, k := range keys {
		r.follow(r.app.press(press(k)))
	}
}

func (r *rehearsed) follow(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil, tea.QuitMsg:
	case tea.BatchMsg:
		for _, c := range msg {
			r.follow(c)
		}
	default:
		_, next := r.Update(msg)
		r.follow(next)
	}
}

func (r *rehearsed) shows(t *testing.T, want ...string) string {
	t.Helper()
	plain := strings.Join(strings.Fields(r.draw().Plain()), " ")
	for _, w := range want {
		if !strings.Contains(plain, w) {
			t.Fatalf("the screen does not show %q:\n%s", w, r.draw().Plain())
		}
	}
	return plain
}

// TestThePastIsShownAsItWasAndIsMarked goes back to before a death, past it, and returns.
func TestThePastIsShownAsItWasAndIsMarked(t *testing.T) {
	r, done := lived(t)
	r.shows(t, "converged", "10 of 10 lit")
	r.do("{")
	r.shows(t, "the past: as it was at", "n returns to now", "10 of 10 lit", "n now")
	before := r.past.at
	r.do("]", "]")
	r.shows(t, "9 of 10 lit", "wardens-1 is dark")
	if r.past.at.Sub(before) < 400*time.Millisecond {
		t.Errorf("two steps lead %s on", r.past.at.Sub(before))
	}
	r.cursor = board.Cursor{Role: 0, Post: 0}
	r.shows(t, "✖ failed", "if it stays dark")
	for _, k := range []string{"+", "a", "x", "g", "i", "u", "r", "s", "T", "space", "v", "f"} { // nothing of the past can be changed
		r.message = ""
		r.do(k)
		if r.mode != walking || !strings.Contains(r.message, "This is the past") {
			t.Errorf("%s in the past: mode %s, %q", k, r.mode, r.message)
		}
	}
	if len(*done) > 0 {
		t.Errorf("in the past was done: %v", *done)
	}
	r.do("n")
	plain := r.shows(t, "converged", "10 of 10 lit")
	if strings.Contains(plain, "the past") || r.past != nil {
		t.Error("it has not returned")
	}
	r.do("[", "[", "[", "esc")
	if r.past != nil {
		t.Error("esc does not return")
	}
	r.do("{", "{", "{", "{")
	if r.past == nil || r.past.snap == nil {
		t.Fatal("before the only event")
	}
	r.do("}", "}")
	if r.past != nil {
		t.Error("after the last event comes the present")
	}
}

// TestStandingOnALineMovesTheTimeCursor walks in the journal.
func TestStandingOnALineMovesTheTimeCursor(t *testing.T) {
	r, _ := lived(t)
	r.do("4")
	r.shows(t, "following", "✖ wardens-1 went dark")
	r.do("/")
	for _, c := range "wardens-1 errors" {
		r.do(string(c))
	}
	r.shows(t, "Only lines of: wardens-1 errors", "member wardens-1, errors", "choosing lines")
	r.do("enter")
	r.shows(t, "1 of ", "went dark")
	r.do("esc")
	for range 200 {
		if r.do("up"); r.past != nil && r.journal.At().Equal(noon.Add(time.Second)) {
			break
		}
	}
	r.shows(t, "the bell has rung", "the past: as it was at "+noon.Add(time.Second).Local().Format("15:04:05.0"))
	r.do("1")
	r.shows(t, "the past", "gull-1")
	r.do("4", "end")
	if r.past != nil || !r.journal.Follow {
		t.Error("the last line is the present")
	}
	r.do("1")
	r.cursor = board.Cursor{Role: 0, Post: 0}
	r.do("o")
	if r.journal.Text != "wardens-1" || r.view != journalView {
		t.Errorf("its lines: %q", r.journal.Text)
	}
}

// TestOrdersAreAskedAboutFirst presses the keys that act, and says no, then yes.
func TestOrdersAreAskedAboutFirst(t *testing.T) {
	r, done := lived(t)
	r.w = 98 // the question covers everything beside it
	for _, test := range []struct {
		key        string
		at         board.Cursor
		says, does string
	}{
		{"r", board.Cursor{Role: 0, Post: 0}, "Restart wardens-1? One after the other, each when the one before is lit again: wardens-1. wardens would hold 2 of 3 votes: writes go on; one more loss stops them.", "restart wardens-1"},
		{"s", board.Cursor{Role: 0, Post: -1}, "Stop all of wardens? These end, and stay stopped until they are started again: wardens-1, wardens-2, wardens-3. Their places and their data are kept. wardens would hold 0 of 3 votes and needs 2: writes stop.", "stop wardens-1 wardens-2 wardens-3"},
		{"s", board.Cursor{Role: board.OnPosts, Post: 0}, "Stop everything on gull-1?", "stop wardens-1"},
		{"T", board.Cursor{}, "Take saltmarsh down? 10 members end in the reverse order of deployment, and the data of all of them is deleted for good, on 4 nodes", "retire"},
	} {
		r.cursor = test.at
		r.do(test.key)
		r.shows(t, test.says, "y does it")
		r.do("esc")
		if r.do("y"); len(*done) > 0 {
			t.Fatalf("%s: no was taken for yes: %v", test.key, *done)
		}
		r.do(test.key, "y")
		if len(*done) != 1 || !strings.HasPrefix((*done)[0], test.does) {
			t.Errorf("%s: did %v, want %s", test.key, *done, test.does)
		}
		*done = nil
	}
	before := *r.snap
	r.snap.Rollout = snapshot.RolloutView{What: "stop", Began: noon.Add(time.Minute), Ended: noon.Add(time.Minute + 20*time.Millisecond)}
	r.hear(&before)
	r.shows(t, "The stop is done.")
	r.do("space")
	if len(*done) > 0 || !strings.Contains(r.message, "Nothing is under way") {
		t.Errorf("nothing to pause: %v %s", *done, r.message)
	}
	r.snap.Rollout.Active, r.snap.State = true, snapshot.Deploying
	r.do("space")
	r.snap.Rollout.Paused = true
	r.shows(t, "paused: space goes on")
	r.do("space")
	if !slices.Equal(*done, []string{"pause", "go on"}) {
		t.Errorf("did %v", *done)
	}
}

// TestARefusedDraftIsDrawnAndSaysAllOfItsWhy wants no wardens any more, which the field refuses.
func TestARefusedDraftIsDrawnAndSaysAllOfItsWhy(t *testing.T) {
	r, done := lived(t)
	r.draft = ferries()
	r.draft.Role("wardens").Members = 0
	why := "relays waits for wardens, and could never start again without it; " + strings.Repeat("so it is, ", 20) + "keep at least 1"
	r.follow(func() tea.Msg {
		return reviewMsg{err: errors.New(why), sketch: plan.Preview(r.draft, r.snap.Live())}
	})
	r.cursor = board.Cursor{Role: 0, Post: 0}
	r.shows(t, "3/0", "-3", "draft takes it away", "(v: all of it)", "v why it is refused")
	r.do("v")
	r.shows(t, "This draft cannot be deployed as things are now", "keep at least 1")
	if r.do("y", "d"); len(*done) > 0 {
		t.Errorf("did %v", *done)
	}
	r.do("esc")
	r.follow(func() tea.Msg { return reviewMsg{review: r.review} })
	if r.mode != walking || r.sketch != nil {
		t.Errorf("mode %s, %+v", r.mode, r.sketch)
	}
}

// TestWhatIf walks over the board with a failure supposed wherever the cursor stands; nothing real changes.
func TestWhatIf(t *testing.T) {
	r, done := lived(t)
	r.w = 200 // so that the sentence stands on one line
	r.cursor = board.Cursor{Role: board.OnZones, Post: 0}
	r.do("w")
	r.shows(t, "If north-quay failed: 4 lanterns would go dark", "what if: move to choose", "no single failure of a node or a zone")
	if _, m := r.model.Member("wardens-1"); !m.Lost {
		t.Error("wardens-1 would go dark")
	}
	r.cursor = board.Cursor{Role: 0, Post: -1}
	r.shows(t, "If all of wardens failed: 3 lanterns would go dark · wardens would hold 0 of 3 votes and needs 2: writes stop", "writes would stop")
	r.cursor = board.Cursor{Role: 1, Post: -1}
	r.shows(t, "relays would have nobody left to do its work · crews could not do its work without relays", "stops: no relays")
	r.cursor = r.model.Find(board.Place{Role: "wardens", Member: "wardens-1"}, board.Cursor{})
	r.do("m")
	r.cursor = r.model.Find(board.Place{Role: "wardens", Member: "wardens-2"}, board.Cursor{})
	r.shows(t, "If wardens-2 and 1 lantern more that are marked failed: 2 lanterns would go dark · wardens would hold 1 of 3 votes and needs 2")
	if r.snap.State != snapshot.Converged || len(*done) > 0 {
		t.Errorf("%s, did %v", r.snap.State, *done)
	}
	r.do("esc") // lets go of the marks
	r.shows(t, "If wardens-2 failed: 1 lantern would go dark")
	r.do("esc")
	if plain := r.shows(t, "converged"); strings.Contains(plain, "failed:") {
		t.Errorf("it is still supposed:\n%s", r.draw().Plain())
	}
}

// TestAFieldThatChangesAllTheTime takes in a thousand snapshots with keys in between.
func TestAFieldThatChangesAllTheTime(t *testing.T) {
	r, _ := lived(t)
	ch := make(chan *snapshot.Snapshot)
	r.watch = ch
	go func() {
		defer close(ch)
		for i := range 1000 {
			s := *r.world.Snapshot()
			s.Verdict = fmt.Sprintf("change %d", i)
			ch <- &s
		}
	}()
	frames := 0
	for cmd := r.nextSnap(); ; frames++ {
		msg, ok := cmd().(snapMsg)
		if !ok {
			break
		}
		_, _ = r.Update(msg)
		r.press("right", "down")
		_ = r.View()
	}
	if r.shows(t, "change 999"); frames > 500 {
		t.Errorf("a thousand changes were drawn %d times", frames)
	}
}

func TestTerminalsThatKnowOnlyASCII(t *testing.T) {
	for _, test := range []struct {
		env  map[string]string
		want bool
	}{
		{nil, false}, {map[string]string{"LANG": "en_GB.UTF-8"}, false}, {map[string]string{"LANG": "C.utf8"}, false},
		{map[string]string{"LANG": "C"}, true}, {map[string]string{"LANG": "en_GB.UTF-8", "LC_ALL": "POSIX"}, true},
		{map[string]string{"TERM": "linux", "LANG": "en_GB.UTF-8"}, true}, {map[string]string{"TERM": "vt100"}, true}, {map[string]string{"TERM": "xterm-256color"}, false},
	} {
		if got := onlyASCII(func(k string) string { return test.env[k] }); got != test.want {
			t.Errorf("%v: %v", test.env, got)
		}
	}
}

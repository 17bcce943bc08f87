package tui

import (
	"context"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
)

// asked is a session that notes what is asked for.
type asked struct {
	nobody
	requests *[]control.Request
}

func (s asked) Do(_ context.Context, r control.Request) error {
	*s.requests = append(*s.requests, r)
	return nil
}

// run has a command of the screen done, with all that it is made of.
func run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	if batch, ok := cmd().(tea.BatchMsg); ok {
		for _, c := range batch {
			run(c)
		}
	}
}

// TestTheFieldAsks stops a cluster, loses a node with data that may be the newest, and starts it: a person has to say how it goes on.
func TestTheFieldAsks(t *testing.T) {
	r := onRehearsal(t, 120, 40)
	var requests []control.Request
	r.session = asked{requests: &requests}
	for i := range r.draft.Roles {
		r.draft.Roles[i].Program.ColdStart = &field.ColdStart{Exec: []string{"true"}, Rank: "output"}
	}
	r.world.Ranks = map[field.MemberName]int{"wardens-1": 4, "wardens-3": 7}
	r.deploy(t)
	r.world.Until(func() bool { return r.world.Snapshot().State == snapshot.Converged }, time.Minute)
	wardens := []field.MemberName{"wardens-1", "wardens-2", "wardens-3"}
	_ = r.world.Do(engine.StopMembers{Members: wardens})
	r.world.Run(5 * time.Second)
	r.world.Cut("tern-1")
	r.world.Run(5 * time.Second)
	_ = r.world.Do(engine.StartMembers{Members: wardens})
	r.world.Run(5 * time.Second)
	r.see(t)
	for _, want := range []string{"wardens waits for the data of wardens-2 (tern-1 cannot be reached) to be read: it may be the newest.", "Y answers", "Y answer "} {
		if text := r.draw().Plain(); !strings.Contains(text, want) {
			t.Errorf("%q is not to be read:\n%s", want, text)
		}
	}
	r.press("Y")
	for _, want := range []string{"An answer is needed", "▸ begin without wardens-2", "what only wardens-2 has is lost", "it goes on waiting"} {
		if text := r.draw().Plain(); !strings.Contains(text, want) {
			t.Errorf("%q is not to be read:\n%s", want, text)
		}
	}
	r.press("esc")
	if r.mode != walking || len(requests) > 0 {
		t.Errorf("esc answered: %v", requests)
	}
	r.press("Y")
	_, cmd := r.Update(press("enter"))
	run(cmd)
	if len(requests) != 1 || requests[0].What != "start" || strings.Join(requests[0].Names, " ") != "wardens" || strings.Join(requests[0].Without, " ") != "wardens-2" {
		t.Fatalf("asked for: %+v", requests)
	}

	r.press("Y") // while another screen answers
	_ = r.world.Do(engine.StartMembers{Members: wardens, Without: []field.MemberName{"wardens-2"}})
	r.world.Run(5 * time.Second)
	_, _ = r.Update(snapMsg{r.world.Snapshot()})
	if text := r.draw().Plain(); r.mode != walking || strings.Contains(text, "Y answer ") {
		t.Errorf("it is still asked:\n%s", text)
	}
	r.press("Y")
	if text := r.draw().Plain(); !strings.Contains(text, "Nothing waits for an answer.") && r.message != "Nothing waits for an answer." {
		t.Errorf("nothing says that nothing is asked:\n%s", text)
	}
}

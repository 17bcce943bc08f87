package tui

import (
	"context"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
)

func (s replayed) Preview(_ context.Context, draft *field.Field, member field.MemberName) (*review.Files, error) {
	return review.Preview(s.r.world.State, draft, member)
}

// TestTheReviewIsReadStepByStep walks through the steps of a review, shows only some, and looks at in what lines a file of one differs.
func TestTheReviewIsReadStepByStep(t *testing.T) {
	r, done := lived(t)
	r.draft = ferries()
	r.draft.Role("relays").Program.Command = []string{"program", "--quick"}
	r.draft.Role("relays").Program.OnChange = field.OnRestart
	r.draft.Role("crews").Members = 4
	var err error
	if r.review, err = review.Of(r.world.State, r.draft); err != nil {
		t.Fatal(err)
	}
	rollout.Consequences(r.world.State, r.review, r.world.Now)
	r.rebuild()
	r.do("v")
	r.shows(t, "▸~ change the command line of relays-1", "~ change the command line of relays-2", "What clients notice", "while 2 of relays are restarted one by one: relays goes on with the last of 2",
		"What cannot be undone", "· the data of crews-5 is gone with it", "enter what differs", "/ show only some")
	r.do("down", "enter")
	r.shows(t, "relays-2: what differs from how it runs", "command∙", "+ --quick")
	r.do("esc")
	r.shows(t, "▸~ change the command line of relays-2")
	if plain := r.shows(t, "take crews-5"); r.mode != inReview || strings.Contains(plain, "--quick") {
		t.Errorf("esc leads from the file to mode %s", r.mode)
	}
	r.do("down", "down", "down")
	if plain := r.shows(t, "▸✖ take crews-5"); strings.Contains(plain, "what differs") {
		t.Error("what differs is offered of who leaves")
	}
	r.do("enter")
	r.shows(t, "▸✖ take crews-5")
	r.do("/", "R", "e", "l", "a", "y", "s", "-", "2", "enter")
	plain := r.shows(t, "1 of 3 steps: Relays-2", "▸~ change the command line of relays-2", "d deploys all 3 steps, not only these", "esc all steps")
	if strings.Contains(plain, "of relays-1") || strings.Contains(plain, "take crews-5") {
		t.Errorf("others are shown:\n%s", plain)
	}
	r.do("/", "n", "o", "n", "e", "enter")
	r.shows(t, "0 of 3 steps: Relays-2none")
	if r.do("enter", "up", "down", "end", "pgup"); r.mode != inReview {
		t.Errorf("with no step, keys lead to %s", r.mode)
	}
	r.do("esc")
	r.shows(t, "▸~ change the command line of relays-1", "take crews-5", "esc back")
	if r.do("esc"); r.mode != walking || len(*done) > 0 {
		t.Errorf("mode %s, did %v", r.mode, *done)
	}
}

// TestTheStepThatOneStandsOnIsInSight walks through a review that is longer than the screen, down and up again.
func TestTheStepThatOneStandsOnIsInSight(t *testing.T) {
	r := onRehearsal(t, 80, 16)
	r.do("v")
	seen := func() {
		t.Helper()
		step := r.reviewStep()
		if step == nil {
			t.Fatal("there is none")
		}
		r.shows(t, "▸○ "+step.Text[:30])
	}
	steps := 0
	for range len(r.review.Steps) {
		seen()
		before := r.standing.at
		if r.do("down"); r.standing.at == before {
			break
		}
		steps++
	}
	if steps < 9 {
		t.Errorf("%d steps were stood on", steps)
	}
	for range 30 {
		r.do("up")
	}
	r.shows(t, "First, the nodes", "▸○ place wardens-1")
	r.files = files{of: "wardens-1", got: &review.Files{Member: "wardens-1"}, vs: 1, back: inReview}
	if text, _ := inFiles.says(r.app); text != "what wardens-1 would be run with, and where it comes from" {
		t.Errorf("of one that does not run: %s", text)
	}
	r.do("pgdown")
	seen()
	r.do("end")
	r.shows(t, "▸○ place crews-5")
	r.do("home")
	r.shows(t, "First, the nodes")
}

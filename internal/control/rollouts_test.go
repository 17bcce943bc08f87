package control

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// TestARolloutIsToldByWhoComesLater has rollouts recorded as they go on, and read from the log by the next controller, and by who holds nothing: all tell
// the same. What is asked for and never was is refused; the draft before is found.
func TestARolloutIsToldByWhoComesLater(t *testing.T) {
	t.Parallel()
	folder, _ := folderWith(t)
	c := open(t, folder)
	deploy := func(draft *field.Field) {
		t.Helper()
		if err := c.Do(t.Context(), Request{What: "deploy", Draft: draft, By: "test"}); err != nil {
			t.Fatal(err)
		}
		await(t, c, "it has converged", in(snapshot.Converged))
	}
	if _, err := c.Rollout(t.Context(), RolloutAsked{}); err == nil {
		t.Error("of a field that was never deployed a rollout is told")
	}
	deploy(sleepers(2))
	deploy(sleepers(3))
	if err := c.Do(t.Context(), Request{What: "restart", Names: []string{"crews-1"}, By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "it is restarted", func(s *snapshot.Snapshot) bool {
		return s.State == snapshot.Converged && len(s.Tasks) == 0 && s.Rollout.What == "restart"
	})
	asks := []RolloutAsked{{}, {Number: 1}, {Number: 2}, {Task: 1}}
	first := map[RolloutAsked]any{}
	for _, ask := range asks {
		r, err := c.Rollout(t.Context(), ask)
		if err != nil {
			t.Fatalf("%+v: %v", ask, err)
		}
		if r.Active() || r.Outcome != state.Completed {
			t.Errorf("%+v: it is told as %s", ask, r.Text())
		}
		first[ask] = r.Rows
	}
	if r, _ := c.Rollout(t.Context(), RolloutAsked{Number: 2}); len(r.Rows) != 1 || r.Rows[0].Member != "crews-3" || r.Still != 2 {
		t.Errorf("the second deploy moved %+v and left %d alone", r.Rows, r.Still)
	}
	if r, _ := c.Rollout(t.Context(), RolloutAsked{}); r.What != "restart" || r.Task != 1 {
		t.Errorf("the newest is %s", r.Title())
	}
	for _, ask := range []RolloutAsked{{Number: 9}, {Task: 9}} {
		if _, err := c.Rollout(t.Context(), ask); err == nil || !strings.Contains(err.Error(), "there is no ") {
			t.Errorf("%+v: %v", ask, err)
		}
	}
	if draft, number, err := DraftBefore(folder); err != nil || number != 1 || draft.Roles[0].Members != 2 {
		t.Errorf("before it there was rollout %d, %v", number, err)
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	for _, ask := range asks {
		r, _, err := LookAtRollout(t.Context(), folder, ask)
		if err != nil || !reflect.DeepEqual(r.Rows, first[ask]) {
			t.Errorf("%+v, while nobody keeps it: %v, other rows than before", ask, err)
		}
	}
	c = open(t, folder)
	defer c.Close()
	for range 2 {
		for _, ask := range asks {
			r, err := c.Rollout(t.Context(), ask)
			if err != nil || !reflect.DeepEqual(r.Rows, first[ask]) {
				t.Errorf("%+v, by the next one: %v, other rows than before", ask, err)
			}
		}
	}
	if all, err := c.Rollouts(t.Context()); err != nil || len(all) != 2 {
		t.Errorf("%d rollouts are listed, %v", len(all), err)
	}
	if _, err := c.Health(t.Context(), HealthAsked{Role: "nobody", From: time.Now().Add(-time.Minute), To: time.Now(), Parts: 5}); err == nil {
		t.Error("the health of a role that is not there is told")
	}
	if err := c.Do(t.Context(), Request{What: StopHere, By: "test"}); err == nil || !strings.Contains(err.Error(), "nothing is being carried out") {
		t.Errorf("stopping nothing: %v", err)
	}
	if err := c.Do(t.Context(), Request{What: TryAgain, Names: []string{"crews-1"}, By: "test"}); err == nil || !strings.Contains(err.Error(), "nothing to be tried again") {
		t.Errorf("trying what works again: %v", err)
	}
	if err := c.Do(t.Context(), Request{What: "retire", By: "test"}); err != nil {
		t.Error(err)
	}
	await(t, c, "it is gone", in(snapshot.Retired))
}

package runtime

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// instance gives what runs a member in a folder of its own.
func instance(t *testing.T, groups bool) (Runtime, Instance, Place) {
	t.Helper()
	node := t.TempDir()
	at := Place{Node: node, Folder: filepath.Join(node, "it-1"), Data: filepath.Join(node, "it-1", "data"), Log: filepath.Join(node, "it-1.log"), Lock: filepath.Join(node, "alive.lock")}
	if err := os.MkdirAll(at.Data, 0o755); err != nil {
		t.Fatal(err)
	}
	r := NewProcesses(node, groups)
	t.Cleanup(func() {
		r.Member("it-1", at).Sweep(0)
		host.RemoveGroups(node)
		r.Close()
	})
	return r, r.Member("it-1", at), at
}

func script(text string) *order.Spec { return &order.Spec{Command: []string{"sh", "-c", text}} }

// TestNothingIsStartedBesideWhatIsLeft leaves a process behind that its member's main process has started: it is ended before the next start.
func TestNothingIsStartedBesideWhatIsLeft(t *testing.T) {
	for _, groups := range []bool{true, false} {
		_, it, at := instance(t, groups)
		run, err := it.Start(script("sleep 600 & exit 3"), 1)
		if err != nil {
			t.Fatal(err)
		}
		if e := <-run.Exited(); e.Code != 3 {
			t.Errorf("groups %v: ended with %+v", groups, e)
		}
		if !host.LockHeld(at.Lock) {
			t.Fatal("nothing is left: this shows nothing")
		}
		if err := it.Clear(run.Record(), script("true")); err != nil {
			t.Errorf("groups %v: %v", groups, err)
		}
		if host.LockHeld(at.Lock) {
			t.Errorf("groups %v: what an earlier start left lives on", groups)
		}
		run.Close()
	}
}

// TestASuccessorAdoptsWhatRuns finds a run again by its record, as the next agent does, and ends it.
func TestASuccessorAdoptsWhatRuns(t *testing.T) {
	for _, groups := range []bool{true, false} {
		_, it, at := instance(t, groups)
		intent := it.Intent()
		run, err := it.Start(script("sleep 600"), 4)
		if err != nil {
			t.Fatal(err)
		}
		rec := run.Record()
		rec.Group, rec.GroupV2 = intent.Group, intent.GroupV2
		next := NewProcesses(at.Node, groups).Member("it-1", at)
		adopted := next.Adopt(rec, 4)
		if adopted == nil || adopted.PID() != run.PID() {
			t.Fatalf("groups %v: adopted %v, want process %d", groups, adopted, run.PID())
		}
		adopted.Kill()
		select {
		case <-adopted.Exited():
		case <-time.After(10 * time.Second):
			t.Errorf("groups %v: its end was not seen", groups)
		}
		<-run.Exited()
		if again := next.Adopt(rec, 4); again != nil {
			t.Errorf("groups %v: process %d was adopted after its end", groups, again.PID())
		}
	}
}

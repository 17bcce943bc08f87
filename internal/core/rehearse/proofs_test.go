package rehearse

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// proved is a field with a role that waits until another is proved.
func proved() *field.Field {
	proof := field.Proof{Steps: []field.ProofStep{{Call: field.Call{Exec: []string{"true"}}}}}
	program := &field.Program{Command: []string{"program"}, Proofs: map[string]field.Proof{"written": proof}}
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1"}, {Name: "tern-1"}, {Name: "skua-1"}},
		Roles: []field.Role{
			{Name: "store", Members: 3, Votes: true, Program: program, Proofs: map[string]field.Proof{"read": proof}},
			{Name: "crews", Members: 2, After: map[field.RoleName]field.Gate{"store": field.GateProof}, Program: program},
		}}
	field.FillDefaults(f)
	return f
}

// asked counts how often each proof was asked for.
func asked(w *World) map[state.ProofKey]int {
	out := map[state.ProofKey]int{}
	for _, e := range w.Log {
		if f, is := e.Fact.(state.ProofAsked); is {
			out[state.KeyOf(f.Role, f.Name)]++
		}
	}
	return out
}

func began(t *testing.T, w *World, f *field.Field) {
	t.Helper()
	w.TakeOver()
	if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
		t.Fatal(err)
	}
}

// A role that waits for proof starts when every proof of the other holds. What the gate has not asked for is proved when the deploy is done;
// nothing is proved twice.
func TestAGateWaitsForProof(t *testing.T) {
	w := New(begin)
	w.ProofsWait = true
	began(t, w, proved())
	w.Run(5 * time.Second)
	if n := asked(w); n["store/written"] != 1 || n["store/read"] != 1 || n["crews/written"] != 0 || len(n) != 2 {
		t.Fatalf("asked for: %v", n)
	}
	for _, m := range w.Snapshot().Members {
		if m.Role == "crews" && (m.Phase != state.Planned || !strings.Contains(m.WaitsFor, "store: proof")) {
			t.Errorf("%s is %s and waits for %q", m.Member, m.Phase, m.WaitsFor)
		}
	}
	w.ProofsWait = false
	w.dispatch()
	if !w.Until(settled(w, snapshot.Converged), 20*time.Second) {
		t.Fatalf("%s", w.Snapshot().Verdict)
	}
	w.Run(time.Minute)
	if n := asked(w); n["store/written"] != 1 || n["store/read"] != 1 || n["crews/written"] != 1 {
		t.Errorf("asked for: %v", n)
	}
	if !engine.Settled(w.State) {
		t.Error("it is not settled")
	}
}

// A proof that does not hold keeps the gate shut and says why; when it holds at the next try, the deploy goes on.
func TestWhatIsNotProvedOpensNoGate(t *testing.T) {
	w := New(begin)
	w.Disproved["store/read"] = "the answer was no"
	began(t, w, proved())
	w.Run(20 * time.Second)
	snap := w.Snapshot()
	if !snap.Rollout.Active || !strings.Contains(snap.Verdict, "store is not proved (read): the answer was no") {
		t.Errorf("%s: %s", snap.State, snap.Verdict)
	}
	if n := asked(w); n["store/read"] != 1 {
		t.Errorf("it was tried %d times by itself", n["store/read"])
	}
	delete(w.Disproved, "store/read")
	if err := w.Do(engine.Prove{Roles: []field.RoleName{"store"}, By: "a person"}); err != nil {
		t.Fatal(err)
	}
	if !w.Until(settled(w, snapshot.Converged), 20*time.Second) {
		t.Errorf("%s", w.Snapshot().Verdict)
	}
}

// What does not hold after a deploy makes the field degraded until it does; the deploy itself is done.
func TestAFieldThatIsNotProvedIsDegraded(t *testing.T) {
	f := proved()
	f.Roles[1].After = nil
	w := New(begin)
	w.Disproved["crews/written"] = "the answer was no"
	began(t, w, f)
	w.Run(20 * time.Second)
	if snap := w.Snapshot(); snap.State != snapshot.Degraded || snap.Rollout.Active || snap.Rollout.Outcome != state.Completed {
		t.Errorf("%s, %+v", snap.State, snap.Rollout)
	}
	if err := w.Do(engine.Prove{Roles: []field.RoleName{"nobody"}}); err == nil {
		t.Error("a role without proofs was proved")
	}
	f.Roles[1].Program.Proofs = nil // a draft without it
	if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
		t.Fatal(err)
	}
	if !w.Until(settled(w, snapshot.Converged), 20*time.Second) {
		t.Errorf("without the proof: %s", w.Snapshot().Verdict)
	}
}

// A controller that dies anywhere has a successor that does the proofs which were not done, and comes to the same end.
func TestAProofSurvivesItsController(t *testing.T) {
	first := New(begin)
	began(t, first, proved())
	if !first.Until(settled(first, snapshot.Converged), 20*time.Second) {
		t.Fatal(first.Snapshot().Verdict)
	}
	first.Run(time.Second)
	for at := range first.Log {
		w := New(begin)
		w.DieAfter = 0
		w.TakeOver()
		w.DieAfter = at + 1
		_ = w.Do(engine.Deploy{Draft: proved(), By: "test"})
		w.Until(func() bool { return w.Dead }, 20*time.Second)
		if !w.Dead {
			continue
		}
		w.TakeOver()
		if w.State.Field == nil {
			continue
		}
		w.Until(settled(w, snapshot.Converged), 30*time.Second)
		w.Run(10 * time.Second)
		var open []string
		for _, p := range w.Snapshot().Proofs {
			if p.Running || !p.OK {
				open = append(open, p.Name)
			}
		}
		if len(open) > 0 || len(w.State.Proofs) != 3 || w.Snapshot().State != snapshot.Converged {
			t.Errorf("died after event %d: %v are not proved, %s", at+1, open, w.Snapshot().Verdict)
		}
	}
}

// A proof with a schedule is done again when it is time: not while it is being done, nor while its members are stopped, nor during a deploy.
func TestAProofIsDoneAgainOnItsSchedule(t *testing.T) {
	f := proved()
	often := f.Roles[0].Proofs["read"]
	often.Every = field.Duration(time.Minute)
	f.Roles[0].Proofs["read"] = often
	w := New(begin)
	began(t, w, f)
	if len(engine.Overdue(w.State, w.Now)) > 0 {
		t.Error("it is time while the deploy goes on")
	}
	if !w.Until(settled(w, snapshot.Converged), 20*time.Second) {
		t.Fatalf("%s", w.Snapshot().Verdict)
	}
	again := func() []state.Fact { return engine.Overdue(w.State, w.Now) }
	if due := again(); len(due) > 0 {
		t.Errorf("it is time at once for %v", due)
	}
	w.Run(time.Minute)
	due := again()
	if len(due) != 1 || due[0].(state.ProofAsked).Name != "read" || due[0].(state.ProofAsked).Role != "store" {
		t.Fatalf("it is time for %v", due)
	}
	w.ProofsWait = true
	if err := w.Do(engine.ProveAgain{At: w.Now}); err != nil {
		t.Fatal(err)
	}
	w.Run(2 * time.Minute)
	if due := again(); len(due) > 0 || asked(w)["store/read"] != 2 {
		t.Errorf("while it is being done it is time for %v; %v", due, asked(w))
	}
	w.ProofsWait = false
	w.dispatch()
	w.Run(30 * time.Second)
	if due := again(); len(due) > 0 {
		t.Errorf("half a minute later it is time for %v", due)
	}
	var names []field.MemberName
	for name, m := range w.State.Members {
		if m.Role == "store" {
			names = append(names, name)
		}
	}
	if err := w.Do(engine.StopMembers{Members: names}); err != nil {
		t.Fatal(err)
	}
	w.Run(5 * time.Minute)
	if due := again(); len(due) > 0 {
		t.Errorf("while all of the role are stopped it is time for %v", due)
	}
}

package rehearse

import (
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// A member that was ready when a restart of all was asked for, and is not while it feeds the one that comes back, is not restarted meanwhile.
// One that was not ready before is restarted at once: that is how what is mended gets in.
func TestADonorIsNotRestarted(t *testing.T) {
	for _, before := range []bool{false, true} {
		f := &field.Field{Name: "quay", Nodes: []field.Node{{Name: "gull-1"}, {Name: "gull-2"}, {Name: "gull-3"}},
			Roles: []field.Role{{Name: "books", Members: 3, Votes: true, Spread: field.SpreadNode, Program: &field.Program{Command: []string{"book"}}}}}
		field.FillDefaults(f)
		w := New(begin)
		w.ReadyAfter["books"] = 2 * time.Second
		began(t, w, f)
		if !w.Until(settled(w, snapshot.Converged), 30*time.Second) {
			t.Fatal(w.Snapshot().Verdict)
		}
		say := func(m field.MemberName, kind order.ReportKind) {
			n, _ := w.find(m)
			w.report(n, order.Report{Member: m, Kind: kind, Why: "it feeds another", Incarnation: w.State.Member(m).Incarnation})
			w.Run(10 * time.Millisecond)
		}
		if before {
			say("books-2", order.Unready)
		}
		if err := w.Do(engine.RestartMembers{Members: []field.MemberName{"books-1", "books-2", "books-3"}, By: "test"}); err != nil {
			t.Fatal(err)
		}
		first := field.MemberName("")
		w.Until(func() bool {
			for _, m := range state.SortedMembers(w.State) {
				if m.Phase == state.Starting || m.Phase == state.Stopping {
					first = m.Name
				}
			}
			return first != ""
		}, 10*time.Second)
		if want := map[bool]field.MemberName{true: "books-2", false: "books-1"}[before]; first != want {
			t.Errorf("%s is the first, and not %s", first, want)
		}
		if before {
			continue
		}
		say("books-2", order.Unready)
		w.Run(time.Second)
		if m := w.State.Member("books-2"); !m.RestartDue || m.Incarnation != 1 {
			t.Errorf("the donor was restarted: %+v", m.Phase)
		}
		say("books-2", order.Ready)
		if !w.Until(settled(w, snapshot.Converged), 30*time.Second) {
			t.Errorf("it does not go on: %s", w.Snapshot().Verdict)
		}
		w.Run(10 * time.Second)
		for _, name := range []field.MemberName{"books-1", "books-2", "books-3"} {
			if m := w.State.Member(name); m.RestartDue || m.Incarnation != 2 {
				t.Errorf("%s was started %d times", name, m.Incarnation)
			}
		}
	}
}

package engine

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// begun is the first report of a life.
func begun(life string, held ...order.Holding) order.Report {
	return order.Report{Life: life, Seq: 1, At: morning, Kind: order.Begun, Held: held}
}

func kindsOf(events []state.Event) string {
	var kinds []string
	for _, e := range events {
		kinds = append(kinds, state.KindOf(e.Fact))
	}
	return strings.Join(kinds, " ")
}

// TestANewLifeThatLostItsOrdersIsOrderedAnew has an agent come back after a power loss without what it had acknowledged: the field is not
// called converged, and what was lost is ordered again.
func TestANewLifeThatLostItsOrdersIsOrderedAnew(t *testing.T) {
	s := sailing(t, 2)
	var names []field.MemberName
	for _, m := range state.SortedMembers(s) {
		if m.Node == "gull-1" {
			names = append(names, m.Name)
		}
	}
	lost := names[0]
	if snap := snapshot.Of(s, morning); snap.State != snapshot.Converged {
		t.Fatalf("at first: %s", snap.State)
	}
	r := begun("after")
	r.Rebooted = true
	for _, name := range names[1:] {
		r.Held = append(r.Held, order.Holding{Member: name, Revision: s.Members[name].Ordered.Revision, Want: order.Run})
	}
	if got := kindsOf(must(t, s, Reports{Node: "gull-1", Agent: "after", Reports: []order.Report{r}})); !strings.HasPrefix(got, "agent-began heard") {
		t.Errorf("got %s", got)
	}
	if snap := snapshot.Of(s, morning); snap.State == snapshot.Converged || s.Members[lost].Phase != state.Failed {
		t.Errorf("with nothing running: %s, %s is %s", snap.State, lost, s.Members[lost].Phase)
	}
	again := false
	for _, c := range Commands(s) {
		again = again || c.Order != nil && c.Order.Member == lost && c.Node == "gull-1"
	}
	if !again {
		t.Errorf("%s is not ordered again: %+v", lost, Commands(s))
	}
}

// TestWhatDoesNotRunIsNotTakenToRun has an agent that holds an order and finds no process for it.
func TestWhatDoesNotRunIsNotTakenToRun(t *testing.T) {
	s := sailing(t, 1)
	m := state.SortedMembers(s)[0]
	account := []order.Report{begun("b", order.Holding{Member: m.Name, Revision: m.Ordered.Revision, Want: order.Run}),
		{Life: "b", Seq: 2, At: morning, Kind: order.Exited, Member: m.Name, Exit: &order.Exit{}}}
	must(t, s, Reports{Node: m.Node, Agent: "b", Reports: account})
	if s.Members[m.Name].Phase != state.Failed || snapshot.Of(s, morning).State == snapshot.Converged {
		t.Errorf("it is %s, and the field %s", s.Members[m.Name].Phase, snapshot.Of(s, morning).State)
	}
	account = []order.Report{{Life: "c", Seq: 1, At: morning, Kind: order.Exited, Member: m.Name, Exit: &order.Exit{}}}
	if got := kindsOf(must(t, s, Reports{Node: m.Node, Agent: "c", Reports: account})); strings.Contains(got, "member-exited") {
		t.Errorf("told twice: %s", got)
	}
}

// TestReportsOfEarlierLivesComeFirst hears a tail of a life that ended, and what it had heard already once more.
func TestReportsOfEarlierLivesComeFirst(t *testing.T) {
	n := &state.Node{Agent: "a", Heard: 3}
	report := func(life string, seq uint64) order.Report { return order.Report{Life: life, Seq: seq} }
	for _, test := range []struct {
		reports []order.Report
		fresh   int
	}{
		{[]order.Report{report("a", 2), report("a", 3), report("a", 4), report("b", 1)}, 2},
		{[]order.Report{report("a", 2), report("b", 1), report("b", 2)}, 2}, // its tail was lost, and numbers begin anew from below
		{[]order.Report{report("b", 1)}, 1},
		{[]order.Report{report("a", 3)}, 0},
		{nil, 0},
	} {
		if fresh, _ := (Reports{Agent: "x", Reports: test.reports}).since(n); len(fresh) != test.fresh {
			t.Errorf("%v: %d are fresh, want %d", test.reports, len(fresh), test.fresh)
		}
	}
}

// TestALogThatIsTakenOverOrdersEverythingAnew goes on with a log that agents know more than.
func TestALogThatIsTakenOverOrdersEverythingAnew(t *testing.T) {
	s := sailing(t, 2)
	before := s.Revision
	must(t, s, Reclaim{By: "a person", Mark: "m", Nodes: map[field.NodeName]order.Standing{"gull-1": {Term: 41, Revision: 900}}})
	if s.Term != 42 || s.Marks[42] != "m" || s.Revision <= 900 {
		t.Errorf("term %d, revision %d (%d before)", s.Term, s.Revision, before)
	}
	if commands := Commands(s); len(commands) > 0 {
		t.Errorf("before the agents are heard: %v", commands)
	}
	n := s.Nodes["gull-1"]
	if claim := s.Claim(n, order.Standing{Term: 41}); !claim.Force || claim.Mark != "m" || claim.Known != "" {
		t.Errorf("it claims %+v", claim)
	}
	for name, n := range s.Nodes {
		if must(t, s, NodeFound{Node: name}); !n.Unheard || len(Commands(s)) > 0 {
			t.Errorf("%s answers before its account; ordered: %v", name, Commands(s))
		}
	}
	for name := range s.Nodes {
		var account []order.Report
		for _, m := range state.SortedMembers(s) {
			if m.Node == name { // restarted by an order that this log has lost
				account = append(account, order.Report{Life: "a2", Seq: 2, At: morning, Kind: order.Adopted, Member: m.Name, PID: 77, Incarnation: 2, Revision: 899, Round: 3})
			}
		}
		must(t, s, Reports{Node: name, Agent: "a", Reports: append([]order.Report{begun("a2")}, account...)})
		if must(t, s, NodeFound{Node: name}); s.Nodes[name].Unheard {
			t.Errorf("%s does not answer after its account", name)
		}
	}
	ordered := map[field.MemberName]uint64{}
	for _, c := range Commands(s) {
		if c.Order != nil {
			ordered[c.Order.Member] = c.Order.Revision
			if c.Order.Round != 3 {
				t.Errorf("%s runs by round 3, and is ordered round %d", c.Order.Member, c.Order.Round)
			}
		}
	}
	for _, m := range state.SortedMembers(s) {
		if ordered[m.Name] <= 900 {
			t.Errorf("%s is ordered with revision %d", m.Name, ordered[m.Name])
		}
	}
	// Its agent holds a member that the log does not know there: it goes, under a number that no agent has seen.
	must(t, s, Reports{Node: "gull-1", Agent: "b", Reports: []order.Report{begun("b", order.Holding{Member: "crews-9", Revision: 950, Want: order.Run})}})
	var gone *order.Order
	for _, c := range Commands(s) {
		if c.Order != nil && c.Order.Member == "crews-9" {
			gone = c.Order
		}
	}
	if gone == nil || gone.Want != order.Gone || !gone.Keep || gone.Revision <= 950 || n.Forced {
		t.Fatalf("crews-9 is ordered %+v; forced %v", gone, n.Forced)
	}
	if snap := snapshot.Of(s, morning); snap.State == snapshot.Converged || !strings.Contains(snap.Verdict, "crews-9 on gull-1, which the log does not know, is taken down") {
		t.Errorf("meanwhile: %s, %s", snap.State, snap.Verdict)
	}
	must(t, s, Reports{Node: "gull-1", Agent: "b", Reports: []order.Report{{Life: "b", Seq: 2, At: morning, Kind: order.Taken, Member: "crews-9", Revision: gone.Revision}, {Life: "b", Seq: 3, At: morning, Kind: order.Removed, Member: "crews-9"}}})
	if len(n.Strays) != 0 {
		t.Errorf("left: %v", n.Strays)
	}
}

// TestOnlyWhoWasAskedReportsOfAnOperation has another node's agent say what came of it.
func TestOnlyWhoWasAskedReportsOfAnOperation(t *testing.T) {
	s := sailing(t, 2)
	var here, there *state.Member
	for _, m := range state.SortedMembers(s) {
		if here == nil {
			here = m
		} else if m.Node != here.Node && there == nil {
			there = m
		}
	}
	if there == nil {
		t.Skip("all are on one node")
	}
	s.RoleOf(here.Role).Op = &order.Operation{ID: 77, Member: here.Name, Asked: here.Name, Procedure: order.Join}
	r := order.Report{Life: "x", Seq: 1, At: morning, Kind: order.Done, Member: here.Name, Operation: 77}
	if got := kindsOf(must(t, s, Reports{Node: there.Node, Agent: "x", Reports: []order.Report{r}})); strings.Contains(got, "operation-done") {
		t.Errorf("another node's agent was believed: %s", got)
	}
	if got := kindsOf(must(t, s, Reports{Node: here.Node, Agent: "x", Reports: []order.Report{r}})); !strings.Contains(got, "operation-done") {
		t.Errorf("who was asked was not believed: %s", got)
	}
}

// TestNothingIsDecidedWithALogThatIsNotObeyed has one agent refuse a log that was cut: no order gets a number that an agent may know.
func TestNothingIsDecidedWithALogThatIsNotObeyed(t *testing.T) {
	s := sailing(t, 2)
	must(t, s, TakeOver{By: "another", Mark: "x"})
	must(t, s, NodeLost{Node: "gull-1", Why: "this log ends at order 1", Refuses: true})
	for name := range s.Nodes {
		if name != "gull-1" {
			must(t, s, NodeFound{Node: name})
		}
	}
	if snap := snapshot.Of(s, morning); snap.State != snapshot.Degraded || !strings.HasPrefix(snap.Verdict, "This log is not obeyed by gull-1: this log ends at order 1 · what runs there goes on and is not known") {
		t.Errorf("it says %s: %s", snap.State, snap.Verdict)
	}
	m := state.SortedMembers(s)[0]
	m.Ordered, m.Phase = order.Order{}, state.Planned // as the cut has left it
	if got := must(t, s, NodeFound{Node: m.Node}); strings.Contains(kindsOf(got), "member-ordered") && s.Refused() {
		t.Errorf("it goes on with %s", kindsOf(got))
	}
	if more, err := (reconcile{}).decide(s); s.Refused() && (len(more) > 0 || err != nil) {
		t.Errorf("it decides on %v, %v", more, err)
	}
}

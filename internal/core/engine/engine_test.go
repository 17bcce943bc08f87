package engine

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

var morning = time.Date(2026, 1, 1, 6, 0, 0, 0, time.UTC)

func draft(members int) *field.Field {
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "a"}},
		Roles: []field.Role{{Name: "crews", Members: members, Program: &field.Program{Command: []string{"x"}}}}}
	field.FillDefaults(f)
	return f
}

// must takes an input. Nodes that are asked for because of it are there at once, but for those whose machines join.
func must(t *testing.T, s *state.State, in Input) []state.Event {
	t.Helper()
	events, err := Step(s, morning, in)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range state.SortedNodes(s) {
		if n.Asked && !n.Comes() {
			events = append(events, must(t, s, NodeGiven{Node: n.Name, Times: n.Bound, Binding: state.Binding{Address: "198.18.0.1", Dir: "/n"}})...)
		}
	}
	return events
}

// sailing is a state with members that are ready.
func sailing(t *testing.T, members int) *state.State {
	t.Helper()
	s := state.NewState()
	must(t, s, TakeOver{By: "test"})
	must(t, s, Deploy{Draft: draft(members), By: "test"})
	var reports []order.Report
	for _, m := range state.SortedMembers(s) {
		reports = append(reports, order.Report{Kind: order.Taken, Member: m.Name, Revision: m.Ordered.Revision},
			order.Report{Kind: order.Started, Member: m.Name, Incarnation: 1, PID: 100 + m.Number}, order.Report{Kind: order.Ready, Member: m.Name, Incarnation: 1})
	}
	for i := range reports {
		reports[i].Seq, reports[i].At = uint64(i+1), morning
	}
	must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: reports})
	if snap := snapshot.Of(s, morning); snap.State != snapshot.Converged {
		t.Fatalf("%s: %s", snap.State, snap.Verdict)
	}
	return s
}

func TestOrdersThatMakeNoSenseAreRefusedInWords(t *testing.T) {
	stopped := sailing(t, 1)
	must(t, stopped, StopMembers{Members: []field.MemberName{"crews-1"}})
	retiring := sailing(t, 1)
	must(t, retiring, Retire{})
	for _, test := range []struct {
		name  string
		state *state.State
		in    Input
		want  string
	}{
		{"stop nothing", state.NewState(), StopMembers{}, "the field is not deployed, so there is nothing to stop"},
		{"start nothing", state.NewState(), StartMembers{}, "the field is not deployed, so there is nothing to start"},
		{"retire nothing", state.NewState(), Retire{}, "the field is not deployed, so there is nothing to retire"},
		{"restart what is stopped", stopped, RestartMembers{Members: []field.MemberName{"crews-1"}}, "crews-1 is stopped; start it instead"},
		{"deploy while retiring", retiring, Deploy{Draft: draft(2)}, "saltmarsh is being retired; wait until it is gone, then deploy it anew"},
		{"stop while retiring", retiring, StopMembers{}, "saltmarsh is being retired; nothing in it can be asked to stop any more"},
	} {
		events, err := Step(test.state, morning, test.in)
		if err == nil || err.Error() != test.want || len(events) != 0 {
			t.Errorf("%s: got %v, %v; want %s", test.name, events, err, test.want)
		}
	}
}

func TestReportsHeardTwiceCountOnce(t *testing.T) {
	s := sailing(t, 1)
	exit := order.Report{Seq: 4, At: morning, Member: "crews-1", Kind: order.Exited, PID: 101, Exit: &order.Exit{Known: true, Code: 1}, Attempt: 1}
	if n := len(must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: []order.Report{exit}})); n != 2 {
		t.Errorf("the first time: %d events, want the exit and what was heard", n)
	}
	if n := len(must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: []order.Report{exit}})); n != 0 {
		t.Errorf("the second time: %d events", n)
	}
	exit.Seq = 1 // another agent, whose numbers begin anew
	if n := len(must(t, s, Reports{Node: "gull-1", Agent: "b", Reports: []order.Report{exit}})); n == 0 {
		t.Error("another agent's first report was taken for an old one")
	}
}

func TestReportsAboutStrangersChangeNothing(t *testing.T) {
	s, heard := sailing(t, 1), uint64(50)
	for _, r := range []order.Report{{Member: "crews-9", Kind: order.Ready}, {Member: "", Kind: order.Exited}, {Member: "crews-1", Kind: "sang"}} {
		heard++
		r.Seq = heard
		if events := must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: []order.Report{r}}); len(events) != 1 || state.KindOf(events[0].Fact) != "heard" {
			t.Errorf("%+v led to %v", r, events)
		}
	}
	if events := must(t, s, Reports{Node: "nowhere", Agent: "a", Reports: []order.Report{{Seq: 1, Member: "crews-1", Kind: order.Exited, Exit: &order.Exit{}}}}); len(events) != 0 {
		t.Errorf("a report of an unknown node led to %v", events)
	}
}

func TestARefusedOrderIsShownAndRepeated(t *testing.T) {
	s := state.NewState()
	must(t, s, TakeOver{})
	must(t, s, Deploy{Draft: draft(1)})
	revision := s.Members["crews-1"].Ordered.Revision
	must(t, s, Refusal{Member: "crews-1", Revision: revision, Why: "the disk is full"})
	if n := len(must(t, s, Refusal{Member: "crews-1", Revision: revision, Why: "the disk is full"})); n != 0 {
		t.Errorf("the same refusal again made %d events", n)
	}
	snap := snapshot.Of(s, morning)
	if want := "crews-1 cannot be placed: its agent cannot take the order: the disk is full"; !strings.Contains(snap.Verdict, want) {
		t.Errorf("verdict: %s", snap.Verdict)
	}
	if c := Commands(s); len(c) != 1 || c[0].Order.Member != "crews-1" {
		t.Errorf("commands: %+v", c)
	}
}

func TestCommandsCarryTheTermOfWhoSendsThem(t *testing.T) {
	s := state.NewState()
	must(t, s, TakeOver{})
	must(t, s, Deploy{Draft: draft(1)})
	must(t, s, TakeOver{})
	if c := Commands(s); len(c) != 1 || c[0].Order.Term != 2 {
		t.Errorf("commands: %+v", c)
	}
}

func TestChooseUnderstandsRolesNodesAndMembers(t *testing.T) {
	s := sailing(t, 3)
	for _, test := range []struct {
		words []string
		want  string
	}{{nil, "crews-1 crews-2 crews-3"}, {[]string{"crews-2"}, "crews-2"}, {[]string{"gull-1"}, "crews-1 crews-2 crews-3"},
		{[]string{"crews", "crews-1"}, "crews-1 crews-2 crews-3"}, {[]string{"crew"}, `there is no role, node or member "crew"; did you mean "crews"?`}} {
		names, err := Choose(s, test.words)
		got := ""
		for _, n := range names {
			got += " " + string(n)
		}
		if err != nil {
			got = " " + err.Error()
		}
		if strings.TrimSpace(got) != test.want {
			t.Errorf("%v: got %s, want %s", test.words, got, test.want)
		}
	}
}

// TestKindsOfEventsKeepTheirNames guards what old logs are read by. Names may be added, never changed or removed.
func TestKindsOfEventsKeepTheirNames(t *testing.T) {
	for _, kind := range strings.Fields(`accepted field-retired heard leader-lost leader-seen member-exited member-gone member-leaving
		member-ordered member-planned member-ready member-reloaded member-started member-stopped member-unready node-back node-dark
		reports-dropped node-released node-releasing order-refused order-taken restart-asked retire-asked role-founded rollout-ended roster-seen
		start-asked start-failed stop-asked term-raised`) {
		if !slices.Contains(state.Kinds(), kind) {
			t.Errorf("old logs have events of kind %s, and nothing reads them", kind)
		}
	}
}

func TestEveryFactCanBeSaidAndStored(t *testing.T) {
	s := sailing(t, 2)
	var events []state.Event
	for _, in := range []Input{NodeLost{Node: "gull-1", Why: "silence"}, NodeFound{Node: "gull-1"}, RestartMembers{Members: []field.MemberName{"crews-1"}},
		StopMembers{Members: []field.MemberName{"crews-2"}}, StartMembers{Members: []field.MemberName{"crews-2"}}, Deploy{Draft: draft(1)}, Retire{By: "test"}} {
		events = append(events, must(t, s, in)...)
	}
	var said []string
	for _, e := range events {
		kind, data, err := state.EncodeFact(e.Fact)
		if err != nil {
			t.Fatal(err)
		}
		again, err := state.DecodeFact(kind, data)
		if err != nil {
			t.Fatal(err)
		}
		if again.Sentence() != e.Fact.Sentence() || again.Sentence() == "" {
			t.Errorf("%s: said %q, read again %q", kind, e.Fact.Sentence(), again.Sentence())
		}
		said = append(said, kind)
	}
	for _, kind := range []string{"node-dark", "node-back", "restart-asked", "stop-asked", "start-asked", "member-leaving", "retire-asked"} {
		if !slices.Contains(said, kind) {
			t.Errorf("%s was not among %v", kind, said)
		}
	}
}

func BenchmarkReport(b *testing.B) {
	s := state.NewState()
	f := draft(0)
	f.Roles[0].Members = 1000
	if _, err := Step(s, morning, Deploy{Draft: f}); err != nil {
		b.Fatal(err)
	}
	seq := uint64(0)
	for b.Loop() {
		seq++
		kind := order.Ready
		if seq%2 == 0 {
			kind = order.Unready
		}
		if _, err := Step(s, morning, Reports{Node: "gull-1", Agent: "a", Reports: []order.Report{{Seq: seq, Member: "crews-500", Kind: kind, At: morning}}}); err != nil {
			b.Fatal(err)
		}
	}
}

// TestWhatAMemberWasToldAtItsStartStaysSo has a founder, which also admitted another, leave: nobody's configuration changes.
func TestWhatAMemberWasToldAtItsStartStaysSo(t *testing.T) {
	s := sailing(t, 3)
	s.Field.Roles[0].Program.Command = []string{"x", "{{range .Founders}}{{.Member}}={{.Address}} {{end}}", "{{if not .Founding}}{{.Leader.Address}}{{end}}"}
	s.Members["crews-3"].Founding, s.Members["crews-3"].Via = false, "crews-1"
	s.Roles["crews"].Founders = []field.MemberName{"crews-1", "crews-2"}
	before, err := s.Scene().Spec("crews-3")
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(before.Command, "|"); got != "x|crews-1=198.18.0.1 crews-2=198.18.0.1 |198.18.0.1" {
		t.Fatalf("told %s", got)
	}
	state.Apply(s, state.Event{At: morning, Fact: state.MemberGone{Member: "crews-1"}})
	after, err := s.Scene().Spec("crews-3")
	if err != nil || !slices.Equal(before.Command, after.Command) {
		t.Errorf("told %v (%v), before %v", after.Command, err, before.Command)
	}
}

// TestAHandOverOfTwoStepsIsOverAfterTheSecond, and begins anew when the same member leads again.
func TestAHandOverOfTwoStepsIsOverAfterTheSecond(t *testing.T) {
	s := sailing(t, 3)
	r, m := s.RoleOf("crews"), s.Members["crews-1"]
	state.Apply(s, state.Event{At: morning, Fact: state.LeaderSeen{Role: "crews", Member: "crews-1", Term: 1}})
	for step, last := range []bool{false, true} {
		if got := m.Steps[order.HandOver]; got != step || r.HandedOver != "" {
			t.Errorf("before step %d: %d steps are done, handed over by %q", step+1, got, r.HandedOver)
		}
		op := order.Operation{ID: uint64(100 + step), Member: "crews-1", Asked: "crews-1", Procedure: order.HandOver, Step: step, Last: last}
		state.Apply(s, state.Event{At: morning, Fact: state.OperationAsked{Role: "crews", Operation: op}})
		state.Apply(s, state.Event{At: morning, Fact: state.OperationDone{Role: "crews", Member: "crews-1", ID: op.ID, Procedure: order.HandOver}})
	}
	if r.HandedOver != "crews-1" || m.Steps[order.HandOver] != 0 {
		t.Errorf("after both: handed over by %q, %d steps count", r.HandedOver, m.Steps[order.HandOver])
	}
	state.Apply(s, state.Event{At: morning, Fact: state.LeaderSeen{Role: "crews", Member: "crews-2", Term: 2}})
	if r.HandedOver != "" {
		t.Errorf("another leads, and %q still hands over", r.HandedOver)
	}
}

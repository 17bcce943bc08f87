package engine

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// ferry is a draft whose clerks call a role of another field.
func ferry(of field.RoleName) *field.Field {
	f := draft(1)
	f.Roles[0].Calls = map[string]field.RoleName{"book": "ledger"}
	f.Roles[0].Program = &field.Program{Command: []string{"x"}, Files: map[string]field.File{"at": {Template: `{{range .Calls "book"}}{{.Member}} {{end}}{{(.Access "book").Key}}`, OnChange: field.OnItself}}}
	f.Roles = append(f.Roles, field.Role{Name: "ledger", External: &field.External{Field: "harbour", Role: of}})
	field.FillDefaults(f)
	return f
}

// handed is what harbour hands over of a role with so many members.
func handed(of field.RoleName, members int, authority int) link.Content {
	c := link.Content{Client: "client", TLS: true, Authorities: []int{authority}}
	for i := range members {
		c.Members = append(c.Members, link.Member{Name: of.Member(i + 1), Number: i + 1, Address: "10.0.0.1", Ports: map[string]link.Port{"client": {Number: 7000 + i}}})
	}
	return c
}

// comeUp has agents report all that was ordered as done.
func comeUp(t *testing.T, s *state.State, seq *uint64) {
	t.Helper()
	for range 5 {
		var reports []order.Report
		add := func(r order.Report) {
			*seq++
			r.Seq, r.At = *seq, morning
			reports = append(reports, r)
		}
		for _, m := range state.SortedMembers(s) {
			if !m.Awaited() || m.Ordered.Want != order.Run {
				continue
			}
			add(order.Report{Kind: order.Taken, Member: m.Name, Revision: m.Ordered.Revision})
			if m.PID == 0 {
				add(order.Report{Kind: order.Started, Member: m.Name, Incarnation: 1, PID: 100 + int(*seq)})
				add(order.Report{Kind: order.Ready, Member: m.Name, Incarnation: 1})
			} else {
				add(order.Report{Kind: order.Reloaded, Member: m.Name, Incarnation: m.Incarnation, Revision: m.Ordered.Revision})
			}
		}
		if len(reports) == 0 {
			return
		}
		must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: reports})
	}
}

// TestCallersWaitForWhatIsHandedOver follows a field through all that another one may say.
func TestCallersWaitForWhatIsHandedOver(t *testing.T) {
	s := state.NewState()
	must(t, s, TakeOver{By: "test"})
	must(t, s, Deploy{Draft: ferry("store"), By: "test"})
	seq := uint64(0)
	clerk, watcher := s.Members["crews-1"], s.Members["ledger-1"]
	if clerk.Phase != state.Planned || watcher.Phase != state.Planned {
		t.Fatalf("started with nothing: %s %s", clerk.Phase, watcher.Phase)
	}
	waits := func() string {
		for _, m := range snapshot.Of(s, morning).Members {
			if m.Member == "ledger-1" {
				return m.WaitsFor
			}
		}
		return ""
	}
	must(t, s, MissLink{Role: "ledger", Field: "harbour", Of: "store", Why: "it is not deployed"})
	if got := waits(); got != "harbour to hand over store: it is not deployed" {
		t.Errorf("waits for %q", got)
	}
	if Settled(s) {
		t.Error("nobody would ask again")
	}
	if events := must(t, s, TellLink{Role: "ledger", Field: "harbour", Of: "berths", Content: handed("berths", 1, 1), Number: 1}); len(events) > 0 {
		t.Error("it takes what it has not asked for")
	}
	tell := TellLink{Role: "ledger", Field: "harbour", Of: "store", Content: handed("store", 3, 1), Number: 1}
	must(t, s, tell)
	comeUp(t, s, &seq)
	comeUp(t, s, &seq)
	if got := snapshot.Of(s, morning).State; got != snapshot.Converged {
		t.Fatalf("%s: %s", got, snapshot.Of(s, morning).Verdict)
	}
	if events := must(t, s, tell); len(events) > 0 {
		t.Errorf("the same said again is news: %s", kindsOf(events))
	}
	role := s.Field.Role("ledger")
	if got := s.LinkRuns(role); got != 1 {
		t.Errorf("all run with authority %d", got)
	}

	tell.Content, tell.Number = handed("store", 5, 2), 2
	must(t, s, tell)
	if got := s.LinkRuns(role); got != 0 {
		t.Errorf("nobody has been told, and they run with authority %d", got)
	}
	comeUp(t, s, &seq)
	if got := s.LinkRuns(role); got != 2 {
		t.Errorf("told of it, they run with authority %d", got)
	}
	if content := s.Members["crews-1"].Ordered.Spec.Files[0].Content; !strings.HasPrefix(content, "store-1 store-2 store-3 store-4 store-5 ") {
		t.Errorf("told %q", content)
	}

	must(t, s, MissLink{Role: "ledger", Field: "harbour", Of: "store", Why: "it was taken back", Ended: true})
	snap := snapshot.Of(s, morning)
	if len(snap.Problems) != 1 || !strings.Contains(snap.Problems[0], "ledger, which is store of harbour, is not handed over any more: it was taken back") || s.Members["crews-1"].Phase != state.Ready {
		t.Errorf("taken back: %v", snap.Problems)
	}

	must(t, s, Deploy{Draft: ferry("berths"), By: "test"}) // it stands for another role now
	if s.Has(s.Field.Role("ledger")) != nil || len(LinksToDrop(s)) > 0 {
		t.Error("what one role has is taken for another's, or given back before that has taken its place")
	}
	if !s.Rollout.Active() {
		t.Error("the deploy is over before that has been handed over")
	}
	must(t, s, TellLink{Role: "ledger", Field: "harbour", Of: "berths", Content: handed("berths", 1, 2), Number: 3})
	comeUp(t, s, &seq)
	if content := s.Members["crews-1"].Ordered.Spec.Files[0].Content; !strings.HasPrefix(content, "berths-1 ") {
		t.Errorf("told %q", content)
	}

	must(t, s, Deploy{Draft: draft(1), By: "test"})
	if drop := LinksToDrop(s); len(drop) > 0 {
		t.Errorf("%v is given back while members have it", drop)
	}
	for range 3 {
		comeUp(t, s, &seq)
		var reports []order.Report
		for _, m := range state.SortedMembers(s) {
			if m.Phase != state.Gone && m.Ordered.Want == order.Gone {
				seq++
				reports = append(reports, order.Report{Seq: seq, At: morning, Kind: order.Removed, Member: m.Name})
			}
			if m.RestartDue || m.Phase == state.Stopping && m.Ordered.Want == order.Run {
				reports = append(reports, order.Report{Seq: seq + 1, At: morning, Kind: order.Exited, Member: m.Name, Incarnation: m.Incarnation, Exit: &order.Exit{}},
					order.Report{Seq: seq + 2, At: morning, Kind: order.Started, Member: m.Name, Incarnation: m.Incarnation + 1, PID: 900, Revision: m.Ordered.Revision},
					order.Report{Seq: seq + 3, At: morning, Kind: order.Ready, Member: m.Name, Incarnation: m.Incarnation + 1})
				seq += 3
			}
		}
		must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: reports})
	}
	if drop := LinksToDrop(s); !slices.Equal(drop, []field.RoleName{"ledger"}) {
		t.Errorf("to be given back: %v", drop)
	}
	must(t, s, DropLink{Role: "ledger"})
	if len(s.Links) > 0 || s.LinkCount != 3 {
		t.Errorf("still there: %v, %d", s.Links, s.LinkCount)
	}
}

// TestRolesAreHandedOverAndTakenBack follows the field whose role another one calls.
func TestRolesAreHandedOverAndTakenBack(t *testing.T) {
	ask := link.Ask{By: "ferry", From: "ledger", Role: "crews"}
	refused := func(name string, s *state.State, ask link.Ask, want string) {
		t.Helper()
		if _, err := Step(s, morning, GrantLink{Ask: ask, At: morning}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v, want %s", name, err, want)
		}
	}
	refused("nothing there", state.NewState(), ask, "it is not deployed")
	s := sailing(t, 2)
	refused("no such role", s, link.Ask{By: "ferry", From: "ledger", Role: "crew"}, `it has no role "crew"; did you mean "crews"?`)
	retiring := sailing(t, 1)
	must(t, retiring, Retire{})
	refused("being retired", retiring, ask, "it is being retired")

	must(t, s, GrantLink{Ask: ask, At: morning})
	must(t, s, GiveLink{Ask: ask, Digest: "one"})
	g := s.Grants["ferry/ledger"]
	if g.Role != "crews" || g.Digest != "one" || g.Issue.Number != 0 {
		t.Errorf("handed over: %+v", g)
	}
	if events := must(t, s, GrantLink{Ask: ask, At: morning}); len(events) > 0 {
		t.Errorf("asked again: %s", kindsOf(events))
	}
	if h := snapshot.Of(s, morning).Roles[0].HandedTo; len(h) != 1 || !strings.HasPrefix(h[0].String(), "ferry, as its ledger, since ") {
		t.Errorf("shown: %v", h)
	}
	other := draft(1)
	other.Roles[0].Name = "hands"
	if _, err := Step(s, morning, Deploy{Draft: other, By: "test"}); err == nil || !strings.Contains(err.Error(), "crews is called by another field, ferry (its ledger)") {
		t.Errorf("taken down: %v", err)
	}
	if _, err := Step(s, morning, TakeBack{Role: "crews", By: "fery"}); err == nil || err.Error() != "crews is not handed over to fery; it is to ferry" {
		t.Errorf("taken back from somebody else: %v", err)
	}
	must(t, s, TakeBack{Role: "crews", By: "ferry", Who: "test"})
	refused("taken back", s, ask, "it was taken back; `lanternfield access --field saltmarsh crews --hand-over ferry` undoes that")
	if events := must(t, s, EndLink{By: "ferry", From: "ledger"}); len(events) > 0 || len(s.GrantsOf("")) > 0 {
		t.Errorf("that it was taken back is forgotten: %s", kindsOf(events))
	}
	if _, err := Step(s, morning, AllowLink{Role: "hands", By: "ferry"}); err == nil || err.Error() != "hands was not taken back from ferry" {
		t.Errorf("another role is allowed: %v", err)
	}
	must(t, s, AllowLink{Role: "crews", By: "ferry", Who: "test"})
	must(t, s, GrantLink{Ask: ask, At: morning})
	must(t, s, EndLink{By: "ferry", From: "ledger", Why: "it needs it no longer"})
	if len(s.Grants) > 0 {
		t.Errorf("still handed over: %v", s.Grants)
	}
}

// TestAnAuthorityStaysWhileOthersNeedIt rotates the authority of a field that another one calls.
func TestAnAuthorityStaysWhileOthersNeedIt(t *testing.T) {
	s := state.NewState()
	f := draft(1)
	f.Nodes = append(f.Nodes, field.Node{Name: "gull-2", Zone: "a"})
	f.Roles[0].Program = &field.Program{Command: []string{"x"}, Ports: map[string]field.Port{"client": {Port: 7000, TLS: "tls"}},
		Files: map[string]field.File{"pem": {Template: "{{.Certificate}}{{.Key}}{{.Authority}}", TLS: true, OnChange: field.OnItself}}, OnChange: field.OnItself}
	field.FillDefaults(f)
	must(t, s, TakeOver{By: "test"})
	must(t, s, Deploy{Draft: f, By: "test"})
	seq := uint64(0)
	comeUp(t, s, &seq)
	ask := link.Ask{By: "ferry", From: "ledger", Role: "crews"}
	must(t, s, GrantLink{Ask: ask, At: morning})
	g := s.Grants["ferry/ledger"]
	if g.Issue.Number != 1 || g.Issue.By != 1 || LinkDue(s, g, morning) || !LinkDue(s, g, morning.Add(80*24*time.Hour)) {
		t.Fatalf("its certificate: %+v", g.Issue)
	}
	must(t, s, MakeAuthority{By: "test", Key: "k"})
	comeUp(t, s, &seq)
	if !LinkDue(s, s.Grants["ferry/ledger"], morning) {
		t.Error("it is not given one of the new authority")
	}
	withdraw := func(want string) {
		t.Helper()
		_, err := Step(s, morning, WithdrawAuthority{By: "test"})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("withdrawn: %v, want %q", err, want)
		}
	}
	if waits := s.TrustPending(); len(waits) > 0 {
		t.Fatalf("its own members wait: %v", waits)
	}
	withdraw("members of ferry (its ledger) do not run with what the new authority has issued")
	must(t, s, GrantLink{Ask: ask, At: morning})
	must(t, s, GiveLink{Ask: ask, Digest: "two"})
	withdraw("members of ferry (its ledger)")
	ask.Runs = 2
	must(t, s, GiveLink{Ask: ask, Digest: "two"})
	withdraw("")
}

// TestAMemberOnItsWayBackIsNotRestartedAgain has what members see change while one of them is being restarted with what it is to run with already.
func TestAMemberOnItsWayBackIsNotRestartedAgain(t *testing.T) {
	s := sailing(t, 1)
	f := draft(1)
	f.Roles[0].Program = &field.Program{Command: []string{"y"}, OnChange: field.OnRestart}
	field.FillDefaults(f)
	must(t, s, Deploy{Draft: f, By: "test"})
	m := s.Members["crews-1"]
	if m.Phase != state.Stopping || m.Ordered.Spec.Command[0] != "y" {
		t.Fatalf("it is not restarted: %s", m.Phase)
	}
	must(t, s, Reports{Node: "gull-1", Agent: "a", Reports: []order.Report{{Seq: 99, At: morning, Kind: order.Taken, Member: m.Name, Revision: m.Ordered.Revision}}})
	s.Shape++
	if got := kindsOf(must(t, s, PauseRollout{By: "test"})); strings.Contains(got, "restart") {
		t.Errorf("decided: %s", got)
	}
	must(t, s, ResumeRollout{By: "test"})
	if m := s.Members["crews-1"]; m.RestartDue {
		t.Error("it is to be restarted once more")
	}
}

package notice

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

// harbour is a deployed field of three wardens that vote and two crews, all of them lit.
func harbour() *state.State {
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1"}, {Name: "tern-1"}, {Name: "tern-2"}}, Roles: []field.Role{
		{Name: "wardens", Votes: true, Members: 3, Program: &field.Program{Command: []string{"warden"}}},
		{Name: "crews", Members: 2, Program: &field.Program{Command: []string{"crew"}}}}}
	field.FillDefaults(f)
	s := state.NewState()
	s.Field = f
	add := func(role field.RoleName, number int, node field.NodeName) {
		name := field.MemberName(string(role) + "-" + string(rune('0'+number)))
		s.Members[name] = &state.Member{Member: place.Member{Name: name, Role: role, Node: node}, Number: number, Phase: state.Ready, Since: noon.Add(-time.Hour), ReadyAt: noon.Add(-time.Hour), PID: 1, Incarnation: 1}
		s.Nodes[node] = &state.Node{Name: node, Kind: "hosts", Address: "10.0.0.1", Dir: "/x"}
	}
	for i, node := range []field.NodeName{"gull-1", "tern-1", "tern-2"} {
		add("wardens", i+1, node)
	}
	add("crews", 1, "tern-1")
	add("crews", 2, "tern-2")
	return s
}

func free(all ...float64) *Trend { // of 100 GiB, one point every ten seconds
	t := &Trend{}
	for i, percent := range all {
		t.Add(Point{At: noon.Add(time.Duration(i-len(all)) * 10 * time.Second), Free: int64(percent * (1 << 30)), Size: 100 << 30})
	}
	return t
}

func lag(all ...float64) *Trend {
	t := &Trend{}
	for i := range all {
		t.Add(Point{At: noon.Add(time.Duration(i-len(all)) * 10 * time.Second), Lag: &all[i]})
	}
	return t
}

// TestWhatAPersonIsToldOf has one thing after the other go wrong in a field in which all is well.
func TestWhatAPersonIsToldOf(t *testing.T) {
	tests := []struct {
		what   string
		change func(s *state.State, trends map[field.MemberName]*Trend)
		ids    string   // of what is found, in their order
		says   []string // of all of that together
	}{
		{"nothing", func(*state.State, map[field.MemberName]*Trend) {}, "", nil},
		{"a warden is dark", func(s *state.State, _ map[field.MemberName]*Trend) {
			s.Members["wardens-1"].Phase, s.Members["wardens-1"].Why = state.Failed, "ended with code 1"
		}, "degraded survives/wardens", []string{"saltmarsh is degraded", "wardens-1 is dark: ended with code 1", "one more loss in wardens stops writes; it survives 1 loss when all is well"}},
		{"two are", func(s *state.State, _ map[field.MemberName]*Trend) {
			s.Members["wardens-1"].Phase, s.Members["wardens-2"].Phase = state.Failed, state.Failed
		}, "down survives/wardens", []string{"saltmarsh is down", "wardens cannot do its work"}},
		{"it is less than is asked for", func(s *state.State, _ map[field.MemberName]*Trend) {
			never := -1
			s.Field.Notices.Survives = &never
			s.Members["wardens-1"].Phase = state.Failed
		}, "degraded", nil},
		{"a crew comes and goes", func(s *state.State, _ map[field.MemberName]*Trend) {
			m := s.Members["crews-2"]
			for _, ago := range []time.Duration{10 * time.Minute, 90 * time.Second, 60 * time.Second, 20 * time.Second} {
				m.Exits = append(m.Exits, noon.Add(-ago))
			}
			m.LastExit = &state.ExitNote{Text: "ended with code 3"}
		}, "comes and goes/crews-2", []string{"crews-2 comes and goes: it has ended 3 times in 1 min 30 s, last it ended with code 3"}},
		{"a disk is nearly full", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["wardens-2"], trends["crews-1"] = free(4, 4, 4), free(4, 4, 4)
		}, "disk/tern-1/107374182400", []string{"the disk of wardens-2, crews-1 on tern-1 has 4 GiB free, 4.0 % of 100 GiB"}},
		{"a disk fills", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-1"] = free(20, 19, 18, 17, 16, 15, 14, 13)
		}, "disk/tern-1/107374182400", []string{"is full in about 2 min 10 s at the pace of the last minutes"}},
		{"a disk is used, and freed again", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-1"] = free(20, 18, 16, 14, 12, 16, 20, 19)
		}, "", nil},
		{"lag grows", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-1"] = lag(10, 20, 30, 40, 50, 60, 70, 80)
		}, "lag/crews-1", []string{"crews-1 is 80 behind, and falls further behind by 1.1 every second"}},
		{"lag grew, and has gone", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-1"] = lag(10, 20, 30, 40, 50, 60, 70, 0)
		}, "", nil},
		{"lag goes up and down", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-1"] = lag(10, 90, 20, 80, 10, 95, 30, 80)
		}, "", nil},
		{"lag is more than it may be", func(s *state.State, trends map[field.MemberName]*Trend) {
			s.Field.Notices.Lag = map[field.RoleName]float64{"crews": 50}
			trends["crews-1"], trends["crews-2"] = lag(60), lag(50)
		}, "lag/crews-1", []string{"crews-1 is 60 behind, more than 50"}},
		{"a file was changed by hand", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-2"] = &Trend{Altered: []string{"crew.conf"}}
		}, "drift/crews-2", []string{"crews-2: crew.conf is not as ordered: somebody has changed it by hand"}},
		{"lines are not forwarded", func(_ *state.State, trends map[field.MemberName]*Trend) {
			trends["crews-1"], trends["crews-2"] = &Trend{Unsent: "lines cannot be forwarded: x"}, &Trend{Unsent: "lines cannot be forwarded: y"}
		}, "logs/crews", []string{"crews-1, crews-2: lines cannot be forwarded: x"}},
		{"a change was not taken", func(s *state.State, _ map[field.MemberName]*Trend) {
			s.Members["crews-2"].Unfit = "the port is taken"
		}, "degraded drift/crews-2", []string{"it runs as before: the port is taken"}},
		{"a certificate was not renewed", func(s *state.State, _ map[field.MemberName]*Trend) {
			s.Members["crews-1"].Issue = trust.Issue{Number: 1, From: noon.Add(-80 * 24 * time.Hour), Until: noon.Add(10 * 24 * time.Hour)}
			s.Members["crews-2"].Issue = trust.Issue{Number: 1, From: noon.Add(-30 * 24 * time.Hour), Until: noon.Add(60 * 24 * time.Hour)}
		}, "certificate/crews-1", []string{"the certificate of crews-1 should have been renewed, and ends in 10 days"}},
		{"it has ended", func(s *state.State, _ map[field.MemberName]*Trend) {
			s.Members["crews-1"].Issue = trust.Issue{Number: 1, From: noon.Add(-90 * 24 * time.Hour), Until: noon.Add(-time.Hour)}
		}, "certificate/crews-1", []string{"has ended, and was not renewed"}},
		{"it is being retired", func(s *state.State, _ map[field.MemberName]*Trend) {
			s.Members["wardens-1"].Phase, s.Retiring = state.Failed, true
		}, "", nil},
	}
	for _, test := range tests {
		s, trends := harbour(), map[field.MemberName]*Trend{}
		test.change(s, trends)
		found := Of(s, snapshot.Of(s, noon), trends, noon)
		var ids, texts []string
		for _, n := range found {
			ids, texts = append(ids, n.ID), append(texts, n.Text)
		}
		if got := strings.Join(ids, " "); got != test.ids {
			t.Errorf("%s: found %q, and not %q", test.what, got, test.ids)
		}
		for _, want := range test.says {
			if !strings.Contains(strings.Join(texts, "\n"), want) {
				t.Errorf("%s: nothing says %q: %q", test.what, want, texts)
			}
		}
	}
}

// TestEachIsToldOnceAndOnceOver follows something that comes, lasts, goes for a moment, and ends.
func TestEachIsToldOnceAndOnceOver(t *testing.T) {
	s := harbour()
	var w Watch
	dark := []state.Notice{{ID: "degraded", Kind: state.NoticeState, Text: "x"}}
	look := func(after time.Duration, found []state.Notice, begin, over int) {
		t.Helper()
		now := noon.Add(after)
		b, o := w.Look(s, found, now)
		if len(b) != begin || len(o) != over {
			t.Errorf("after %s: %d begin and %d are over, and not %d and %d", after, len(b), len(o), begin, over)
		}
		for _, n := range b {
			state.Apply(s, state.Event{At: now, Fact: state.NoticeBegun{Notice: n}})
		}
		for _, id := range o {
			state.Apply(s, state.Event{At: now, Fact: state.NoticeOver{ID: id}})
		}
	}
	look(0, dark, 0, 0)
	look(10*time.Second, nil, 0, 0) // it was nothing
	look(20*time.Second, dark, 0, 0)
	look(34*time.Second, dark, 0, 0)
	look(36*time.Second, dark, 1, 0)
	look(60*time.Second, dark, 0, 0)
	look(70*time.Second, nil, 0, 0)
	look(80*time.Second, dark, 0, 0) // it is so again
	look(90*time.Second, nil, 0, 0)
	look(104*time.Second, nil, 0, 0)
	look(106*time.Second, nil, 0, 1)
	look(200*time.Second, nil, 0, 0)
	if len(s.Notices) > 0 {
		t.Errorf("nobody is to be told any more, and there is still %+v", s.Notices)
	}
	s.Rollout = state.Rollout{Number: 1, What: "deploy", Began: noon}
	look(300*time.Second, dark, 0, 0)
	look(400*time.Second, dark, 0, 0) // planned
	down := []state.Notice{{ID: "down", Kind: state.NoticeState, Bad: true}}
	look(410*time.Second, down, 0, 0)
	look(430*time.Second, down, 1, 0) // and that is not
	s.Rollout.Ended = noon.Add(440 * time.Second)
	look(450*time.Second, dark, 0, 0)
	look(466*time.Second, dark, 1, 1)
	look(100*time.Second, dark, 0, 0) // the clock was set back
	if open := s.OpenNotices(); len(open) != 1 || open[0].Since != noon.Add(450*time.Second) {
		t.Errorf("what is open: %+v", open)
	}
}

// TestATrendIsBounded adds far more than it keeps, with gaps and a clock that jumps.
func TestATrendIsBounded(t *testing.T) {
	var x Trend
	for i := range 1000 {
		x.Add(Point{At: noon.Add(time.Duration(i) * time.Second), Free: int64(i)})
	}
	if len(x.Points) > mostPoints || x.Last().Free != 999 {
		t.Errorf("%d points, the last %d", len(x.Points), x.Last().Free)
	}
	if !slices.IsSortedFunc(x.Points, func(a, b Point) int { return a.At.Compare(b.At) }) {
		t.Error("they are not in their order")
	}
	x.Add(Point{At: noon})
	if len(x.Points) != 1 {
		t.Errorf("after the clock was set back there are %d points", len(x.Points))
	}
	x.Add(Point{At: noon.Add(time.Hour)})
	if len(x.Points) != 1 {
		t.Errorf("after a gap there are %d points", len(x.Points))
	}
}

// TestWhoIsStuckIsTold has members start in silence: each is told alone, and of many the role. What was told and is not over is so in the past as well, where it is
// not known any more when they wrote and worked; a member that has come on since is slow, and no more.
func TestWhoIsStuckIsTold(t *testing.T) {
	s := harbour()
	for _, name := range []field.MemberName{"crews-2", "wardens-1", "wardens-2", "wardens-3"} {
		s.Members[name].Phase, s.Members[name].Since = state.Starting, noon.Add(-90*time.Second)
	}
	at := func(silent time.Duration) *snapshot.Snapshot {
		snap := snapshot.Of(s, noon)
		for i := range snap.Members {
			if m := &snap.Members[i]; m.Phase == state.Starting {
				if silent > 0 {
					m.Signs = snapshot.Signs{Wrote: noon.Add(-silent), Worked: noon.Add(-silent)}
				}
				m.Judge(noon)
			}
		}
		snap.Judged()
		return snap
	}
	told := func(silent time.Duration) string {
		var texts []string
		for _, n := range Of(s, at(silent), nil, noon) {
			if n.Kind == state.NoticeStuck {
				texts = append(texts, n.ID+": "+n.Text)
			}
		}
		return strings.Join(texts, "\n")
	}
	want := "stuck/crews-2: crews-2 is stuck: starting for 1 min 30 s, it was never seen here before, so there is nothing to compare it with, its log has been silent for 1 min 20 s, its processor has been idle for 1 min 20 s"
	s.Members["wardens-3"].Phase = state.Ready
	if got := told(80 * time.Second); !strings.Contains(got, want) || strings.Count(got, "\n") != 2 {
		t.Errorf("three are stuck:\n%s", got)
	}
	s.Field.Roles[0].Members = 4
	s.Members["wardens-4"] = &state.Member{Member: place.Member{Name: "wardens-4", Role: "wardens", Node: "tern-1"}, Number: 4, Phase: state.Starting, Since: noon.Add(-90 * time.Second), PID: 1, Incarnation: 1}
	s.Members["wardens-3"].Phase = state.Starting
	if got := told(80 * time.Second); !strings.Contains(got, "stuck/wardens: 4 members of wardens are stuck: wardens-1, wardens-2, wardens-3, wardens-4") || strings.Count(got, "\n") != 1 {
		t.Errorf("four of a role are:\n%s", got)
	}
	if got := told(2 * time.Second); got != "" {
		t.Errorf("none is silent:\n%s", got)
	}

	if got := at(0).Verdict; strings.Contains(got, "stuck") {
		t.Errorf("nothing was told, and nothing is known of signs: %s", got)
	}
	s.Notices = []state.Notice{{Number: 1, ID: "stuck/crews-2", Kind: state.NoticeStuck, Member: "crews-2", Role: "crews", Text: want}}
	if got := at(0).Verdict; !strings.HasPrefix(got, "crews-2 is stuck: starting for 1 min 30 s") {
		t.Errorf("what was told is forgotten: %s", got)
	}
	if got := at(2 * time.Second).Verdict; strings.Contains(got, "stuck") {
		t.Errorf("it has come on since: %s", got)
	}
}

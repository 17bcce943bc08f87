package control

import (
	"testing"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/series/store"
)

// TestWhatIsMeasuredIsTold keeps what two members measure, one of them by a clock that is ahead, and has it told as charts.
func TestWhatIsMeasuredIsTold(t *testing.T) {
	s, err := store.Open(t.TempDir(), store.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	c := &Controller{watched: &watched{store: s, cpu: map[field.MemberName]agentapi.Sample{}, why: map[field.MemberName]string{}}}
	begin := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	for i := range 60 { // five minutes
		at := begin.Add(time.Duration(i) * 5 * time.Second)
		sample := func(cpu time.Duration, latency float64) agentapi.Sample {
			return agentapi.Sample{At: at, Answers: 5, LatencyMS: latency, WorstMS: 3 * latency, Usage: agentapi.Usage{Memory: 1 << 20, CPU: cpu, Written: int64(i) * 50 << 10},
				Metrics: map[string]float64{"bookings_total": 7}}
		}
		one := sample(time.Duration(i+1)*time.Second, 1)
		c.keepSamples(agentapi.Samples{Of: map[field.MemberName][]agentapi.Sample{"crews-1": {one}}}, 0)
		ahead := 10 * time.Second
		other := sample(time.Duration(i+1)*2*time.Second, 2)
		if other.At = other.At.Add(ahead); i >= 30 { // another process: its processor time begins anew
			other.CPU = time.Duration(i-29) * 2 * time.Second
		}
		c.keepSamples(agentapi.Samples{Of: map[field.MemberName][]agentapi.Sample{"crews-2": {other}}}, ahead)
		s.Add(roleKey("crews", "ready"), at, 2)
		s.Add(roleKey("crews", "want"), at, 2)
		s.Add(roleKey("crews", "starts"), at, float64(2+i/30))
		s.Add(roleKey("crews", "leader"), at, float64(1+i/30))
	}
	cut := agentapi.Sample{At: begin.Add(time.Hour), Trouble: "its page of measures is too large"}
	c.keepSamples(agentapi.Samples{Of: map[field.MemberName][]agentapi.Sample{"crews-1": {cut}}}, 0)
	if got := c.watched.why["crews-1"]; got != cut.Trouble {
		t.Errorf("why not all could be read: %q", got)
	}
	cut.Trouble = ""
	if c.keepSamples(agentapi.Samples{Of: map[field.MemberName][]agentapi.Sample{"crews-1": {cut}}}, 0); len(c.watched.why) > 0 {
		t.Error("what can be read again is said not to be")
	}
	role := &field.Role{Name: "crews", Ceiling: field.Size{Memory: 3 << 20, CPU: 100}, Program: &field.Program{Metrics: &field.Metrics{Show: map[string]field.Text{"bookings_total": "bookings that were made"}}}}
	ask := HealthAsked{Role: "crews", From: begin, To: begin.Add(5 * time.Minute), Parts: 20, Each: "cpu"}
	told, err := ask.tell(s, role, []field.MemberName{"crews-1", "crews-2"}, []Sample{{At: begin.Add(time.Minute), Mark: "deploy"}, {At: begin.Add(time.Hour), Mark: "later"}})
	if err != nil {
		t.Fatal(err)
	}
	whole := HealthAsked{From: ask.From, To: ask.To, Parts: 20, Each: "crews/latency"}
	of := state.NewState()
	of.Field = &field.Field{Name: "saltmarsh", Roles: []field.Role{*role, {Name: "idle"}}}
	for _, name := range []field.MemberName{"crews-1", "crews-2"} {
		of.Members[name] = &state.Member{Member: place.Member{Name: name, Role: "crews"}, Phase: state.Ready}
	}
	all, err := whole.whole(s, of, nil)
	if err != nil || len(all.Charts) != 2 || all.Chart("crews/ready") == nil || len(all.Chart("crews/latency").Lines) != 2 || all.Charts[0].About != "crews: ready, of those wanted" {
		t.Errorf("of the whole field there are %d charts: %+v, %v", len(all.Charts), all.Charts, err)
	}
	if m, c := told.Chart("memory"), told.Chart("cpu"); m.Bound != 3<<20 || c.Bound != 100 {
		t.Errorf("the ceilings are drawn at %v and %v", m.Bound, c.Bound)
	} else if _, high, _ := m.Range(); high != 3<<20 {
		t.Errorf("a ceiling that is near is out of sight: %v", high)
	} else if _, high, _ := c.Range(); high > 50 {
		t.Errorf("one that is far leaves nothing to be seen of the rest: %v", high)
	}
	part := func(name string, at int) health.Part {
		t.Helper()
		chart := told.Chart(name)
		if chart == nil {
			t.Fatalf("there is no chart %s", name)
		}
		return chart.Band[at]
	}
	near := func(what string, got, want float64) {
		t.Helper()
		if got < want*0.999 || got > want*1.001 {
			t.Errorf("%s is %v, want %v", what, got, want)
		}
	}
	near("the latency in the middle", part("latency", 10).Mid, 1)
	near("the worst latency", part("latency", 10).High, 6)
	near("the processor of the one", part("cpu", 5).Low, 0.2)
	near("the processor of the other", part("cpu", 5).High, 0.4)
	if p := part("cpu", 10); p.High > 0.41 || p.Low < 0.19 {
		t.Errorf("another process is a leap: %+v", p)
	}
	near("what is written", part("written", 7).Mid, 10<<10)
	near("what its program tells", part("bookings_total", 7).Mid, 7)
	if chart := told.Chart("bookings_total"); chart.About != "bookings that were made" || chart.Unit != "/s" {
		t.Errorf("its chart is %q in %q", chart.About, chart.Unit)
	}
	if lines := told.Chart("cpu").Lines; len(lines) != 2 || lines[1].Of != "crews-2" {
		t.Errorf("each alone: %+v", lines)
	}
	if len(told.Chart("latency").Lines) != 0 {
		t.Error("each alone was told of a chart of which it was not asked for")
	}
	if got := part("starts", 10).Mid + part("starts", 9).Mid; got != 1 {
		t.Errorf("half-way %v processes were started, want 1", got)
	}
	if part("leader", 3).Mid != 1 || part("leader", 15).Mid != 2 {
		t.Error("who led is wrong")
	}
	if len(told.Marks) != 1 || told.Marks[0].Text != "deploy" || told.Part(told.Marks[0].At) != 4 {
		t.Errorf("marks: %+v", told.Marks)
	}
	for name, bad := range map[string]HealthAsked{"no time": {Role: "crews", From: begin, To: begin, Parts: 5}, "no parts": {Role: "crews", From: begin, To: begin.Add(1)}, "too many parts": {Role: "crews", From: begin, To: begin.Add(1), Parts: 1 << 20}} {
		if _, err := bad.tell(s, role, nil, nil); err == nil {
			t.Errorf("%s is told", name)
		}
	}
}

// TestAnAgentIsHeardAsItMeasures has a real agent measure a real process, and its keeper keep that.
func TestAnAgentIsHeardAsItMeasures(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes as long as samples take")
	}
	t.Parallel()
	folder, _ := folderWith(t)
	c := open(t, folder)
	defer c.Close()
	if err := c.Do(t.Context(), Request{What: "deploy", Draft: sleepers(2), By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "it runs", in(snapshot.Converged))
	deadline := time.Now().Add(40 * time.Second)
	for {
		now := time.Now().UTC()
		told, err := c.Health(t.Context(), HealthAsked{Role: "crews", From: now.Add(-time.Minute), To: now, Parts: 10})
		if err == nil && told.Chart("latency") != nil && told.Chart("memory") != nil && told.Chart("ready") != nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("nothing is told of what was measured: %+v %v", told, err)
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err := c.Do(t.Context(), Request{What: "retire", By: "test"}); err != nil {
		t.Error(err)
	}
	await(t, c, "it is gone", in(snapshot.Retired))
}

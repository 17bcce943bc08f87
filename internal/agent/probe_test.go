package agent

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// probed serves answers and asks about them.
func probed(t *testing.T, handler http.HandlerFunc) *asker {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	host, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	number, _ := strconv.Atoi(port)
	m := newMember(layout{dir: t.TempDir()}, runtime.NewProcesses(t.TempDir(), false), nil, "it-1")
	return m.asker(&order.Spec{Address: host, Ports: map[string]order.Port{"main": {Number: number}}})
}

// TestAnAnswerOverAnOpenConnectionIsJudgedWhenItIsSilent has a server that keeps its connections open, as most that speak a protocol of lines do.
func TestAnAnswerOverAnOpenConnectionIsJudgedWhenItIsSilent(t *testing.T) {
	a := probed(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "tide") })
	ask := func(expect string) error {
		return a.check(context.Background(), &field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "main", Send: "GET / HTTP/1.1\r\nHost: it\r\n\r\n", Expect: expect}}}, time.Minute)
	}
	if err := ask("tide"); err != nil {
		t.Error(err)
	}
	if err := ask("ebb"); err == nil || !strings.HasPrefix(err.Error(), `the answer has no "ebb": HTTP/1.1 200 OK`) || worldly(err) {
		t.Errorf("asked for what is not in it: %v", err)
	}
}

func TestProbesJudgeAnswers(t *testing.T) {
	a := probed(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/health":
			fmt.Fprint(w, `{"health":"true","members":[{"ID":"7","name":"it-1"},{"ID":"8","name":"","isLearner":true}],"leader":7,"me":7,"term":"12"}`)
		case "/method":
			fmt.Fprint(w, r.Method)
		case "/rude":
			fmt.Fprint(w, "\x1b[2Jboo")
		case "/slow":
			<-r.Context().Done()
		default:
			http.Error(w, "no", http.StatusTeapot)
		}
	})
	probe := func(path, body, expect string) *field.Probe {
		return &field.Probe{Call: field.Call{HTTP: &field.HTTPCall{Port: "main", Path: path, Body: body}}, Expect: expect}
	}
	for _, test := range []struct {
		probe *field.Probe
		want  string
	}{
		{probe("/health", "", `body.health == "true"`), ""},
		{probe("/health", "", `body.health == "false"`), "the answer was {\"health\":\"true\",\"leader\":7,\"me\":7,\"members\":[{\"ID\":\"7\",\"name\":\"it-1\"},{\"ID\":\"8\",\"isLearner\":true,\"name\":\"\"}],\"term\":\"12\"}, and `body.health == \"false\"` does not hold"},
		{probe("/method", "", `body == "GET"`), ""},
		{probe("/method", "{}", `body == "POST"`), ""},
		{probe("/nowhere", "", ""), "the answer was HTTP status 418"},
		{probe("/nowhere", "", "status == 418"), ""},
		{probe("/rude", "", "false"), "the answer was boo, and `false` does not hold"},
		{probe("/slow", "", ""), "GET /slow: no answer in time"},
		{probe("/rude", "", "body.x.y"), "the answer was boo, and `body.x.y` cannot be evaluated on it: "},
		{&field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "main"}}}, ""},
		{&field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "main", Send: "GET /method HTTP/1.0\r\n\r\n", Expect: "200 OK"}}}, ""},
		{&field.Probe{Call: field.Call{Exec: []string{"sh", "-c", "echo tide; exit 4"}}}, "sh ended with exit code 4: tide"},
		{&field.Probe{Call: field.Call{Exec: []string{"echo", "high"}}, Expect: `trim(output) == "high" and code == 0`}, ""},
		{&field.Probe{Call: field.Call{Exec: []string{"sleep", "60"}}}, "sleep took too long"},
		{&field.Probe{Call: field.Call{Exec: []string{"no-such-program"}}}, `the program "no-such-program" is not installed`},
	} {
		err := a.check(context.Background(), test.probe, 300*time.Millisecond)
		if (err == nil) != (test.want == "") || err != nil && !strings.HasPrefix(err.Error(), test.want) {
			t.Errorf("%+v: got %v, want %q", test.probe, err, test.want)
		}
	}
	leads, term, err := a.leads(context.Background(), &field.LeaderProbe{Call: probe("/health", "", "").Call, IsMe: "body.leader == body.me", Term: "int(body.term)"})
	if !leads || term != 12 || err != nil {
		t.Errorf("leads: %v %d %v", leads, term, err)
	}
	roster, err := a.roster(context.Background(), &field.RosterProbe{Call: probe("/health", "", "").Call, Each: "body.members", ID: "item.ID", Name: "item.name", Voter: "not (item.isLearner ?? false)"})
	if err != nil || fmt.Sprint(roster) != "[{8  false} {7 it-1 true}]" {
		t.Errorf("roster: %v %v", roster, err)
	}
	if _, err := a.roster(context.Background(), &field.RosterProbe{Call: probe("/health", "", "").Call, Each: "body.leader", ID: "1", Name: "1"}); err == nil {
		t.Error("a number was taken for a roster")
	}
}

// TestStartUpLeavesASlowAnswerEarly shows that a start-up's probe does not wait out its whole timeout on a call that a
// starting program leaves hanging.
func TestStartUpLeavesASlowAnswerEarly(t *testing.T) {
	asked := make(chan struct{}, 100)
	first := true
	a := probed(t, func(w http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		if first {
			first = false
			<-r.Context().Done()
		}
	})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	ready := make(chan struct{})
	w := &watcher{member: "it-1", spec: a.spec, ask: a, since: time.Now(), report: func(r order.Report) {
		if r.Kind == order.Ready {
			close(ready)
		}
	}, measure: func(agentapi.Measure) {}, becameReady: func() {}, hung: func() {}}
	w.spec.Ready = &field.Probe{Call: field.Call{HTTP: &field.HTTPCall{Port: "main"}}, Timeout: field.Duration(time.Minute)}
	go w.run(ctx)
	select {
	case <-ready:
	case <-time.After(20 * time.Second):
		t.Fatalf("not ready after %d calls", len(asked))
	}
}

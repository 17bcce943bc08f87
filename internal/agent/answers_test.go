package agent

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// What an agent tells anybody about its member: yes or no, and no more.
func TestWhatIsAnsweredAboutAMember(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	number := l.Addr().(*net.TCPAddr).Port
	a := &answers{member: "records-1"}
	spec := &order.Spec{Address: "127.0.0.1", Ports: map[string]order.Port{"check": {Number: number, By: field.ByAgent}, "client": {Number: 1}}}

	if err := a.listen(spec); err == nil || !strings.Contains(err.Error(), "its port check") || !strings.Contains(err.Error(), "in use by process") {
		t.Fatalf("a port that somebody else has: %v", err)
	}
	l.Close()
	if err := a.listen(spec); err != nil {
		t.Fatal(err)
	}
	if err := a.listen(spec); err != nil {
		t.Fatalf("listening again where it listens: %v", err)
	}
	ask := func(method, path string) string {
		t.Helper()
		req, _ := http.NewRequest(method, fmt.Sprintf("http://127.0.0.1:%d%s", number, path), nil)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return fmt.Sprintf("%d %s", res.StatusCode, strings.TrimSpace(string(body)))
	}
	all := func() string {
		return ask("GET", "/ready") + ", " + ask("GET", "/leads") + ", " + ask("GET", "/follows")
	}
	for _, s := range []struct {
		what string
		do   func()
		want string
	}{
		{"nothing is known of it yet", func() {}, "503 no, 503 no, 503 no"},
		{"it leads, and is not ready", func() { a.setLeads(true) }, "503 no, 503 no, 503 no"},
		{"it leads and is ready", func() { a.setReady(true) }, "200 yes, 200 yes, 503 no"},
		{"another leads", func() { a.setLeads(false) }, "200 yes, 503 no, 200 yes"},
		{"it is about to go", func() { a.goes() }, "404 yes, and about to go, 503 no, 404 yes, and about to go"},
		{"it leads, and is about to go: writes have nowhere else to go", func() { a.setLeads(true) }, "404 yes, and about to go, 200 yes, 503 no"},
		{"its process has ended", a.ended, "503 no, 503 no, 503 no"},
		{"the next one is ready", func() { a.setReady(true) }, "200 yes, 503 no, 200 yes"},
	} {
		s.do()
		if got := all(); got != s.want {
			t.Errorf("%s: %s, want %s", s.what, got, s.want)
		}
	}
	if got := ask("OPTIONS", "/ready"); got != "200 yes" {
		t.Errorf("asked by another method: %s", got)
	}
	if got := ask("GET", "/v1/standing"); got != "400 ask /ready, /leads or /follows" {
		t.Errorf("asked something else: %s", got)
	}
	a.close()
	if _, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/ready", number)); err == nil {
		t.Error("it still answers after its end")
	}
}

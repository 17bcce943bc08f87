package agent

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// TestBadAnswersMakeAMemberUnready has a member that was ready answer badly, then well again.
func TestBadAnswersMakeAMemberUnready(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	well := filepath.Join(dir, "well")
	if err := os.WriteFile(well, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	var heard uint64
	s := sleeper("it")
	s.Ready = &field.Probe{Call: field.Call{Exec: []string{"sh", "-c", "test -f " + well + " || { echo the flag is gone; exit 1; }"}}, Every: field.Duration(50 * time.Millisecond)}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: s})
	until(t, c, &heard, order.Ready)
	if err := os.Remove(well); err != nil {
		t.Fatal(err)
	}
	if r := until(t, c, &heard, order.Unready); !strings.Contains(r.Why, "the flag is gone") {
		t.Errorf("unready, and why is said as %q", r.Why)
	}
	if err := os.WriteFile(well, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	until(t, c, &heard, order.Ready)
}

// TestAStoppedProcessIsNotReadyForLong stops a program that answers, without ending it: its connection is taken by the kernel, and
// no answer comes.
func TestAStoppedProcessIsNotReadyForLong(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	var heard uint64
	s := sleeper("it")
	s.Command = []string{"sh", "-c", fmt.Sprintf(`exec python3 -c 'import socketserver
class H(socketserver.BaseRequestHandler):
    def handle(self): self.request.recv(9); self.request.sendall(b"PONG")
socketserver.TCPServer.allow_reuse_address = True
socketserver.TCPServer(("127.0.0.1", %d), H).serve_forever()'`, port)}
	s.Ports = map[string]order.Port{"main": {Number: port}}
	s.Ready = &field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "main", Send: "PING", Expect: "PONG"}}, Every: field.Duration(500 * time.Millisecond),
		Timeout: field.Duration(time.Second)}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: s})
	up := until(t, c, &heard, order.Started)
	until(t, c, &heard, order.Ready)
	at := time.Now()
	if err := syscall.Kill(up.PID, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = syscall.Kill(up.PID, syscall.SIGCONT) }()
	r := until(t, c, &heard, order.Unready)
	if after := r.At.Sub(at); after > 2200*time.Millisecond || !strings.Contains(r.Why, "no answer in time") {
		t.Errorf("after %s: %s", after, r.Why)
	} else {
		t.Logf("known %s after it was stopped", after)
	}
	all, err := c.Series(context.Background(), at.Add(-time.Minute))
	if err != nil || len(all["it-1"]) < 2 {
		t.Fatalf("what was measured in the last minute: %v, %v", all, err)
	}
	if good := all["it-1"][len(all["it-1"])-1].Value.LastGood; good.IsZero() || good.After(at.Add(500*time.Millisecond)) {
		t.Errorf("the last good answer is of %s, it was stopped at %s", good, at)
	}
}

func TestRostersAreReadWithinBounds(t *testing.T) {
	ask := func(output string, p field.RosterProbe) ([]order.RosterEntry, error) {
		a := &asker{member: "it-1", spec: &order.Spec{}, compile: nil, instance: runtime.NewProcesses("", false).Member("it-1", runtime.Place{})}
		a.compile = newCompiled()
		p.Exec = []string{"printf", "%s", output}
		return a.roster(context.Background(), &p)
	}
	many := make([]string, mostRoster+1)
	for i := range many {
		many[i] = strconv.Itoa(i)
	}
	lines := field.RosterProbe{Each: `split(trim(output), "\n")`, ID: "item", Name: "item"}
	if got, err := ask("b\na\n", lines); err != nil || fmt.Sprint(got) != "[{a a true} {b b true}]" {
		t.Errorf("a list of texts: %v %v", got, err)
	}
	if _, err := ask(strings.Join(many, "\n"), lines); err == nil || err.Error() != "it lists 1001 members, and 1000 are the most that are read" {
		t.Errorf("too many: %v", err)
	}
	if _, err := ask(`[{"name":"a"}]`, field.RosterProbe{Each: "body", ID: "item.ID", Name: "item.name"}); err == nil ||
		err.Error() != "`item.ID` finds no id in the entry {\"name\":\"a\"}" {
		t.Errorf("a wrong name: %v", err)
	}
	if got, err := ask(`[{"ID":1234567890123,"name":"a"}]`, field.RosterProbe{Each: "body", ID: "item.ID", Name: "item.name"}); err != nil || got[0].ID != "1234567890123" {
		t.Errorf("a long number: %v %v", got, err)
	}
	if _, err := ask("x", field.RosterProbe{Each: "output", ID: "item", Name: "item"}); err == nil || !strings.HasSuffix(err.Error(), "`output` is not a list in it") {
		t.Errorf("no list: %v", err)
	}
}

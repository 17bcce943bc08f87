package agent

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// club is a cluster that answers over HTTP: POST /members adds, GET /members lists.
type club struct {
	*httptest.Server
	mu      sync.Mutex
	members []string
	calls   int
	refuse  int           // so many calls are refused
	hang    time.Duration // calls take effect and are answered only after that time
}

func newClub(t *testing.T) *club {
	c := &club{members: []string{"it-1"}}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.mu.Lock()
		hang := time.Duration(0)
		if r.Method == http.MethodPost {
			c.calls++
			if c.refuse > 0 {
				c.refuse--
				c.mu.Unlock()
				http.Error(w, `{"error": "unhealthy cluster"}`, http.StatusServiceUnavailable)
				return
			}
			if slices.Contains(c.members, "it-2") {
				c.mu.Unlock()
				http.Error(w, `{"error": "known already"}`, http.StatusConflict)
				return
			}
			c.members = append(c.members, "it-2")
			hang = c.hang
		}
		members := slices.Clone(c.members)
		c.mu.Unlock()
		time.Sleep(hang)
		_ = json.NewEncoder(w).Encode(map[string]any{"members": members})
	}))
	t.Cleanup(c.Close)
	return c
}

func (c *club) count() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.calls
}

// join is the operation by which it-2 joins, through it-1.
func (c *club) join(id uint64) order.Operation {
	_, port, _ := net.SplitHostPort(c.Listener.Addr().String())
	number, _ := strconv.Atoi(port)
	list := field.Call{HTTP: &field.HTTPCall{Port: "main", Path: "/members"}}
	return order.Operation{ID: id, Term: 1, Member: "it-2", Asked: "it-1", Procedure: order.Join,
		Do: field.Step{Call: field.Call{HTTP: &field.HTTPCall{Port: "main", Path: "/members", Method: "POST"}},
			DoneWhen: `"it-2" in body.members`, Capture: map[string]string{"id": "last(body.members)"},
			RetryFor: field.Duration(2 * time.Second), Timeout: field.Duration(300 * time.Millisecond)},
		Spec: &order.Spec{Address: "127.0.0.1", Ports: map[string]order.Port{"main": {Number: number}},
			Roster: &field.RosterProbe{Call: list, Each: "body.members", ID: "item", Name: "item"}}}
}

func operate(t *testing.T, c *agentapi.Client, o order.Operation) {
	t.Helper()
	if err := c.Operate(context.Background(), o); err != nil {
		t.Fatal(err)
	}
}

func TestOperationsHappenOnceWhateverBecomesOfTheirAnswers(t *testing.T) {
	for _, test := range []struct {
		name  string
		set   func(*club)
		alter func(*order.Operation)
		kind  order.ReportKind
		calls int
		why   string
	}{
		{"answered", nil, nil, order.Done, 1, ""},
		{"refused at first", func(c *club) { c.refuse = 3 }, nil, order.Done, 4, ""},
		{"refused all along", func(c *club) { c.refuse = 1000 }, nil, order.Undone, -1, "unhealthy cluster (HTTP status 503)"},
		{"the answer is lost", func(c *club) { c.hang = time.Second }, nil, order.Done, 1, ""},
		{"the answer is lost and nothing tells", func(c *club) { c.hang = time.Second }, func(o *order.Operation) { o.Do.DoneWhen = "" }, order.Unclear, 1,
			"whether it has happened cannot be found out: its step has no done_when"},
		{"done before", func(c *club) { c.members = append(c.members, "it-2") }, func(o *order.Operation) { o.VerifyFirst = true }, order.Done, 0, ""},
		{"refused because it is done", func(c *club) { c.members = append(c.members, "it-2") }, nil, order.Done, 1, ""},
		{"only to be found out, and not done", nil, func(o *order.Operation) { o.VerifyOnly = true }, order.Undone, 0, "it has not happened"},
		{"only to be found out, and done", func(c *club) { c.members = append(c.members, "it-2") }, func(o *order.Operation) { o.VerifyOnly = true }, order.Done, 0, ""},
		{"nobody answers", nil, func(o *order.Operation) { o.Spec.Ports["main"] = order.Port{Number: 1} }, order.Undone, 0, "POST /members: connection refused"},
	} {
		t.Run(test.name, func(t *testing.T) {
			club := newClub(t)
			if test.set != nil {
				test.set(club)
			}
			o := club.join(7)
			if test.alter != nil {
				test.alter(&o)
			}
			c, _ := started(t, t.TempDir())
			operate(t, c, o)
			var heard uint64
			r := until(t, c, &heard, test.kind)
			if r.Operation != 7 || r.Member != "it-2" || r.Why != test.why || test.kind == order.Done && r.Captured["id"] != "it-2" {
				t.Errorf("got %+v", r)
			}
			if got := club.count(); test.calls >= 0 && got != test.calls {
				t.Errorf("the cluster was called %d times, want %d", got, test.calls)
			}
			operate(t, c, o) // the same once more
			time.Sleep(50 * time.Millisecond)
			if got := club.count(); test.calls >= 0 && got != test.calls {
				t.Errorf("repeating the message repeated the call: %d", got)
			}
			o.ID = 6
			var refused *agentapi.Refused
			if err := c.Operate(context.Background(), o); !errors.As(err, &refused) || refused.Why != "the operation has number 6, and number 7 has been taken" {
				t.Errorf("an older operation: %v", err)
			}
		})
	}
}

func TestRefusalsAreSaidWhileTheyAreWaitedFor(t *testing.T) {
	club := newClub(t)
	club.refuse = 5
	c, _ := started(t, t.TempDir())
	operate(t, c, club.join(1))
	var heard uint64
	if r := until(t, c, &heard, order.Retried); r.Why != "unhealthy cluster (HTTP status 503)" {
		t.Errorf("got %+v", r)
	}
	until(t, c, &heard, order.Done)
}

// TestTheNextAgentLooksBeforeItCalls ends an agent between a call and its answer.
func TestTheNextAgentLooksBeforeItCalls(t *testing.T) {
	club := newClub(t)
	club.hang = 200 * time.Millisecond
	dir := t.TempDir()
	c, end := started(t, dir)
	operate(t, c, club.join(1))
	for club.count() == 0 {
		time.Sleep(time.Millisecond)
	}
	end()
	c, _ = started(t, dir)
	var heard uint64
	if r := until(t, c, &heard, order.Done); r.Operation != 1 || club.count() != 1 {
		t.Errorf("got %+v after %d calls", r, club.count())
	}
}

// TestANewerOperationEndsTheTryingOfTheOneBefore asks whether a join has happened while it is still being tried: whatever
// the answer is, nothing happens after it.
func TestANewerOperationEndsTheTryingOfTheOneBefore(t *testing.T) {
	club := newClub(t)
	club.refuse = 1000
	c, _ := started(t, t.TempDir())
	operate(t, c, club.join(1))
	var heard uint64
	until(t, c, &heard, order.Retried)
	settle := club.join(2)
	settle.VerifyOnly = true
	operate(t, c, settle)
	if r := until(t, c, &heard, order.Undone); r.Operation != 2 {
		t.Errorf("got %+v", r)
	}
	club.mu.Lock()
	club.refuse = 0
	calls := club.calls
	club.mu.Unlock()
	time.Sleep(300 * time.Millisecond)
	if got := club.count(); got != calls {
		t.Errorf("%d calls were made after the question was answered", got-calls)
	}
}

func TestAMemberOnItsWayOutIsNotStartedAgain(t *testing.T) {
	c, _ := started(t, t.TempDir())
	var heard uint64
	o := order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")}
	put(t, c, o)
	first := until(t, c, &heard, order.Started)
	o.Revision, o.NoRestart = 2, true
	put(t, c, o)
	until(t, c, &heard, order.Taken)
	_ = syscall.Kill(first.PID, syscall.SIGKILL)
	if r := until(t, c, &heard, order.Stopped); r.Revision != 2 {
		t.Errorf("got %+v", r)
	}
	o.Revision, o.NoRestart = 3, false // its vote is needed after all
	put(t, c, o)
	if again := until(t, c, &heard, order.Started); again.Incarnation != 2 {
		t.Errorf("got %+v", again)
	}
	put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Gone})
	until(t, c, &heard, order.Removed)
}

func TestCommandsOfStepsRunAsTheMembersUser(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can run something as somebody else")
	}
	dir, err := os.MkdirTemp("", "lf-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	c, _ := started(t, dir)
	operate(t, c, order.Operation{ID: 1, Term: 1, Member: "it-2", Asked: "it-2", Procedure: order.Join, Spec: &order.Spec{User: "nobody"},
		Do: field.Step{Call: field.Call{Exec: []string{"sh", "-c", "touch data/copy && id -un"}}, Capture: map[string]string{"who": "trim(output)"}}})
	var heard uint64
	if r := until(t, c, &heard, order.Done); r.Captured["who"] != "nobody" {
		t.Errorf("got %+v", r)
	}
}

func TestRefusalsAreWordedByWhoRefuses(t *testing.T) {
	for _, test := range []struct{ body, want string }{
		{`{"error": "etcdserver: unhealthy cluster", "code": 14}`, "etcdserver: unhealthy cluster"},
		{`{"message": "no\u001b[31m"}`, "no"},
		{`{"reason": 5}`, `{"reason":5}`},
		{"plain", "plain"},
		{"", "empty"},
	} {
		if got := refusal(&answer{env: map[string]any{"body": parsed([]byte(test.body))}}); got != test.want {
			t.Errorf("%s: got %s, want %s", test.body, got, strings.TrimSpace(test.want))
		}
	}
}

// TestAVoterWithoutItsDataDoesNotComeBack loses the data of one that has been lit.
func TestAVoterWithoutItsDataDoesNotComeBack(t *testing.T) {
	dir := t.TempDir()
	data := filepath.Join(dir, "members", "it-1", "data")
	spec := &order.Spec{Role: "it", Votes: true, Address: "127.0.0.1", Command: []string{"sh", "-c", "echo vote >" + data + "/votes; exec sleep 600"},
		Ready: &field.Probe{Call: field.Call{Exec: []string{"test", "-s", data + "/votes"}}}, Restart: field.Restart{After: field.Duration(20 * time.Millisecond)}}
	c, _ := started(t, dir)
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: spec})
	until(t, c, &heard, order.Ready)
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Stop, Spec: spec})
	until(t, c, &heard, order.Stopped)
	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-1", Want: order.Run, Spec: spec})
	until(t, c, &heard, order.Ready) // with its data it does
	put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Stop, Spec: spec})
	until(t, c, &heard, order.Stopped)
	if err := os.RemoveAll(data); err != nil {
		t.Fatal(err)
	}
	put(t, c, order.Order{Term: 1, Revision: 5, Member: "it-1", Want: order.Run, Spec: spec})
	if r := until(t, c, &heard, order.StartFailed); !strings.Contains(r.Why, "data is gone; it has voted") {
		t.Errorf("got %s", r.Why)
	}
	put(t, c, order.Order{Term: 1, Revision: 6, Member: "it-1", Want: order.Gone})
	until(t, c, &heard, order.Removed)
}

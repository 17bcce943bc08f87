package agent

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// TestALogThatLacksSomethingIsNotObeyed makes claims to an agent that has obeyed another controller.
func TestALogThatLacksSomethingIsNotObeyed(t *testing.T) {
	dir := t.TempDir()
	c, end := started(t, dir)
	ctx := context.Background()
	if err := c.Claim(ctx, order.Claim{Log: "log", Term: 3, Mark: "three", Revision: 0}); err != nil {
		t.Fatal(err)
	}
	var heard uint64
	put(t, c, order.Order{Term: 3, Revision: 5, Member: "it-1", Want: order.Run, Spec: sleeper("it")})
	until(t, c, &heard, order.Ready)
	if _, err := c.Reports(ctx, lives[&heard], heard, heard, 0); err != nil {
		t.Fatal(err)
	}
	good := order.Claim{Log: "log", Term: 4, Mark: "four", Known: "three", Revision: 7, Base: 5, Life: lives[&heard], Heard: heard}
	for want, spoil := range map[string]func(*order.Claim){
		"by another log than this one":                     func(c *order.Claim) { c.Log = "another" },
		"is at term 2":                                     func(c *order.Claim) { c.Term = 2 },
		"knows nothing of the controller of term 3":        func(c *order.Claim) { c.Known = "" },
		"ends at order 4, and its agent has taken order 5": func(c *order.Claim) { c.Base = 4 },
		"has heard 1 reports of its agent":                 func(c *order.Claim) { c.Heard = 1 },
	} {
		bad := good
		spoil(&bad)
		var lacks *agentapi.Lacks
		if err := c.Claim(ctx, bad); !errors.As(err, &lacks) || !strings.Contains(lacks.Why, want) {
			t.Errorf("got %v, want %s", err, want)
		}
	}
	// What another order says under a number that is known is not taken for the one that was.
	other := sleeper("it")
	other.Command = []string{"sleep", "601"}
	if err := c.Put(ctx, order.Order{Term: 3, Revision: 5, Member: "it-1", Want: order.Run, Spec: other}); err == nil || !strings.Contains(err.Error(), "another order of revision 5") {
		t.Errorf("another order with a known number: %v", err)
	}
	if err := c.Claim(ctx, good); err != nil {
		t.Errorf("the right log: %v", err)
	}
	// All that holds for its successor too.
	end()
	c, _ = started(t, dir)
	bad := good
	bad.Term, bad.Known, bad.Base = 5, "four", 4
	var lacks *agentapi.Lacks
	if err := c.Claim(ctx, bad); !errors.As(err, &lacks) {
		t.Errorf("its successor: %v", err)
	}
	standing, err := c.Standing(ctx)
	if err != nil || standing.Term != 4 || standing.Log != "log" || standing.Revision != 5 {
		t.Errorf("it stands at %+v, %v", standing, err)
	}
	if err := c.Put(ctx, order.Order{Term: 5, Revision: 6, Member: "it-1", Want: order.Gone}); err == nil || !strings.Contains(err.Error(), "has not shown its log") {
		t.Errorf("an order of a controller that has shown no log: %v", err)
	}
	good.Term, good.Known, good.Life = 5, "four", ""
	if err := c.Claim(ctx, good); err != nil {
		t.Fatal(err)
	}
	put(t, c, order.Order{Term: 5, Revision: 6, Member: "it-1", Want: order.Gone})
	until(t, c, &heard, order.Removed)
}

// TestAnAgentThatIsTakenOverLeavesItsAnswersToItsSuccessor asks one for reports between a person's word and its end, which takes a moment: none
// could be taken for the account that its successor gives.
func TestAnAgentThatIsTakenOverLeavesItsAnswersToItsSuccessor(t *testing.T) {
	a := &Agent{disk: layout{dir: t.TempDir()}, id: "a", members: map[field.MemberName]*held{}, memory: memory{Agent: "a", Log: "log", Term: 3}, quit: func() {}}
	for _, dir := range []string{a.disk.records(), a.disk.operations()} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	if err := a.loadRecords(); err != nil {
		t.Fatal(err)
	}
	handler := a.handler(t.Context())
	ask := func(method, path, body string) int {
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, httptest.NewRequest(method, path, strings.NewReader(body)))
		return w.Code
	}
	if got := ask("GET", "/v1/reports", ""); got != http.StatusOK {
		t.Fatalf("before: %d", got)
	}
	if got := ask("PUT", "/v1/claim", `{"log": "another", "term": 6, "mark": "six", "force": true}`); got != http.StatusOK {
		t.Fatalf("the claim: %d", got)
	}
	if got := ask("GET", "/v1/reports", ""); got != http.StatusServiceUnavailable {
		t.Errorf("after that: %d", got)
	}
}

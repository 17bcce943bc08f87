package proving

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// bench is three members of one role that run in a rehearsal, and who answers for them.
type bench struct {
	sync.Mutex
	state  *state.State
	asked  []string // member, then what was asked
	answer func(m field.MemberName, q order.Question) (order.Said, error)
}

func newBench(t *testing.T, proof field.Proof) *bench {
	t.Helper()
	f := &field.Field{Name: "quay", Nodes: []field.Node{{Name: "gull-1"}, {Name: "gull-2"}, {Name: "gull-3"}},
		Roles: []field.Role{{Name: "bells", Members: 3, Votes: true, Spread: field.SpreadNode, Program: &field.Program{Command: []string{"bell"}, Ports: map[string]field.Port{"main": {Port: 7000}},
			Leader: &field.LeaderProbe{Call: field.Call{Exec: []string{"true"}}, IsMe: "true"}, Roster: &field.RosterProbe{Call: field.Call{Exec: []string{"true"}}, Each: "body"},
			Join:   []field.Step{{Call: field.Call{Exec: []string{"true"}}}},
			Proofs: map[string]field.Proof{"rung": proof}}}}}
	field.FillDefaults(f)
	w := rehearse.New(time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC))
	w.ProofsWait = true
	w.TakeOver()
	if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
		t.Fatal(err)
	}
	if !w.Until(func() bool { return w.State.RoleOf("bells").Leader != "" && len(w.State.ProofsDue()) > 0 }, time.Minute) {
		t.Fatal("the rehearsal did not come up, or asked for no proof")
	}
	return &bench{state: w.State, answer: func(field.MemberName, order.Question) (order.Said, error) { return order.Said{OK: true}, nil }}
}

// run carries out the proof that the deploy has asked for.
func (b *bench) run(ctx context.Context) state.ProofResult {
	ask := func(_ context.Context, _ field.NodeName, m field.MemberName, q order.Question) (order.Said, error) {
		b.Lock()
		defer b.Unlock()
		what := strings.Join(q.Exec, " ")
		if q.TCP != nil {
			what = q.TCP.Send
		}
		b.asked = append(b.asked, fmt.Sprintf("%s %s", m, what))
		return b.answer(m, q)
	}
	return Prover{State: b.state, Ask: ask, Kept: render.Kept{Secret: func(s render.Secret) string { return "hush-" + s.Name }}}.Run(ctx, b.state.ProofsDue()[0])
}

func exec(to field.To, words ...string) field.ProofStep {
	return field.ProofStep{Say: words[0], To: to, Call: field.Call{Exec: words}}
}

// Steps go to whom they name, one after the other, those for several at the same time; it is cleaned before and after.
func TestWhoIsAskedAndInWhichOrder(t *testing.T) {
	b := newBench(t, field.Proof{Steps: []field.ProofStep{exec(field.ToLeader, "write"), exec(field.ToOthers, "read"), exec(field.ToEach, "count"), exec("", "look")},
		Clean: []field.ProofStep{exec(field.ToOne, "sweep", "{{.Space}}")}})
	if got := b.run(t.Context()); !got.OK || len(got.Steps) != 7 || got.Steps[0].Say != "write" {
		t.Fatalf("%+v", got)
	}
	leader := string(b.state.RoleOf("bells").Leader)
	if len(b.asked) != 9 || b.asked[0] != b.asked[8] || b.asked[1] != leader+" write" || !strings.HasSuffix(b.asked[0], " sweep lanternfield_bells_rung") {
		t.Errorf("asked were %q", b.asked)
	}
	for _, name := range b.asked[2:4] {
		if strings.HasPrefix(name, leader) || !strings.HasSuffix(name, " read") {
			t.Errorf("the others are %q, and %s leads", b.asked[2:4], leader)
		}
	}
	count := slices.Clone(b.asked[4:7])
	slices.Sort(count)
	if !slices.Equal(count, []string{"bells-1 count", "bells-2 count", "bells-3 count"}) {
		t.Errorf("each is %q", count)
	}
}

// Values are carried from one step to the next; secrets reach who is asked, and never what is said of it.
func TestValuesAreCarriedAndSecretsKept(t *testing.T) {
	take := exec(field.ToOne, "take")
	take.Capture = map[string]string{"token": "output"}
	b := newBench(t, field.Proof{Steps: []field.ProofStep{take,
		{Say: "give", To: field.ToEach, Call: field.Call{TCP: &field.TCPCall{Port: "main", Send: `{{.Value "token"}} {{.Secret "key"}} {{.Once}}`}}}}})
	b.answer = func(m field.MemberName, q order.Question) (order.Said, error) {
		switch {
		case q.TCP == nil:
			return order.Said{OK: true, Captured: map[string]string{"token": "42"}}, nil
		case m == "bells-3":
			return order.Said{Why: "the answer was " + q.TCP.Send}, nil
		}
		return order.Said{OK: true}, nil
	}
	got := b.run(t.Context())
	if got.OK || !strings.Contains(got.Why, "give, asked of bells-3: the answer was 42 (secret) ") {
		t.Errorf("%+v", got)
	}
	once := map[string]bool{}
	for _, a := range b.asked[1:] {
		words := strings.Fields(a)
		once[words[3]] = true
		if words[1] != "42" || words[2] != "hush-key" {
			t.Errorf("asked was %q", a)
		}
	}
	if len(once) != 1 {
		t.Errorf("what is new in every run differs within one: %v", once)
	}
}

// What does not hold says so: which step, of whom, what came. Whatever it is, what was written is removed.
func TestWhatDoesNotHold(t *testing.T) {
	slow := exec(field.ToOne, "slow")
	slow.RetryFor = field.Duration(300 * time.Millisecond)
	sweep := []field.ProofStep{exec(field.ToOne, "sweep")}
	no := func(what string) func(field.MemberName, order.Question) (order.Said, error) {
		return func(_ field.MemberName, q order.Question) (order.Said, error) {
			if q.Exec[0] == what {
				return order.Said{Why: "the answer was no"}, nil
			}
			return order.Said{OK: true}, nil
		}
	}
	tries := 0
	for _, s := range []struct {
		name   string
		proof  field.Proof
		answer func(field.MemberName, order.Question) (order.Said, error)
		why    string // empty where it holds
		swept  int
	}{
		{"a step fails", field.Proof{Steps: []field.ProofStep{exec(field.ToOne, "write"), exec(field.ToOne, "read")}, Clean: sweep}, no("write"), "write, asked of bells-1: the answer was no", 2},
		{"it holds at a later try", field.Proof{Steps: []field.ProofStep{slow}, Clean: sweep}, func(_ field.MemberName, q order.Question) (order.Said, error) {
			if tries++; q.Exec[0] == "slow" && tries < 4 {
				return order.Said{Why: "not yet"}, nil
			}
			return order.Said{OK: true}, nil
		}, "", 2},
		{"it does not hold in time", field.Proof{Steps: []field.ProofStep{slow}, Clean: sweep}, no("slow"), "not within 0.3 s: the answer was no", 2},
		{"an agent does not answer", field.Proof{Steps: []field.ProofStep{exec(field.ToOne, "write")}, Clean: nil},
			func(field.MemberName, order.Question) (order.Said, error) {
				return order.Said{}, fmt.Errorf("its agent does not answer")
			}, "its agent does not answer", 0},
		{"what was left cannot be removed", field.Proof{Steps: []field.ProofStep{exec(field.ToOne, "write")}, Clean: sweep}, no("sweep"), "what an earlier proof may have left could not be removed: sweep", 2},
		{"the whole takes too long", field.Proof{Steps: []field.ProofStep{{Say: "wait", Call: field.Call{Exec: []string{"wait"}}, RetryFor: field.Duration(time.Hour)}}, Clean: sweep, Within: field.Duration(200 * time.Millisecond)},
			no("wait"), "it has taken longer than 0.2 s; last, the answer was no", 2},
	} {
		t.Run(s.name, func(t *testing.T) {
			b := newBench(t, s.proof)
			b.answer = s.answer
			got := b.run(t.Context())
			if got.OK != (s.why == "") || !strings.Contains(got.Why, s.why) {
				t.Errorf("%+v", got)
			}
			swept := 0
			for _, a := range b.asked {
				if strings.HasSuffix(a, "sweep") {
					swept++
				}
			}
			if swept != s.swept {
				t.Errorf("swept %d times: %q", swept, b.asked)
			}
		})
	}
}

// A database that is not there, and one whose address is wrong, are said without what is secret in it.
func TestADatabaseThatDoesNotAnswer(t *testing.T) {
	step := func(driver, url string) field.ProofStep {
		return field.ProofStep{Say: "count", SQL: &field.SQLCall{Driver: driver, URL: url, Statement: "select 1"}}
	}
	for _, s := range []field.ProofStep{step("postgres", `postgres://clerk:{{.Secret "ledger"}}@127.0.0.1:1/books?sslmode=disable`), step("mysql", `clerk:{{.Secret "ledger"}}@tcp(127.0.0.1:1)/books`),
		step("postgres", `postgres://clerk:{{.Secret "ledger"}}@127.0.0.1:none/books`)} {
		b := newBench(t, field.Proof{Steps: []field.ProofStep{s}})
		got := b.run(t.Context())
		if got.OK || got.Why == "" || strings.Contains(got.Why, "hush") {
			t.Errorf("%s: %+v", s.SQL.URL, got)
		}
	}
}

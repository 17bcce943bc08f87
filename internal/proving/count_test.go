package proving

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// A step may be content with some of those whom it asks: it says who holds what was written.
func TestEnoughMayHold(t *testing.T) {
	for _, s := range []struct {
		least string
		holds map[field.MemberName]bool
		why   string // empty where the proof holds
	}{
		{"2", map[field.MemberName]bool{"bells-1": true, "bells-3": true}, ""},
		{"{{sub (len .Joined) 1}}", map[field.MemberName]bool{"bells-1": true, "bells-3": true}, ""},
		{"2", map[field.MemberName]bool{"bells-1": true}, "holds: at least 2 must answer as expected, and bells-1 does"},
		{"1", nil, "holds: at least 1 must answer as expected, and nobody does"},
	} {
		step := exec(field.ToEach, "holds")
		step.AtLeast = field.Text(s.least)
		b := newBench(t, field.Proof{Steps: []field.ProofStep{step, exec(field.ToOne, "after")}})
		b.answer = func(m field.MemberName, q order.Question) (order.Said, error) {
			if q.Exec[0] == "after" || s.holds[m] {
				return order.Said{OK: true}, nil
			}
			return order.Said{Why: "the answer was empty"}, nil
		}
		got := b.run(t.Context())
		if got.OK != (s.why == "") || got.Why != s.why {
			t.Errorf("%v: %+v", s.holds, got)
		}
		for _, r := range got.Steps[:3] {
			if r.OK != s.holds[r.Member] || r.Borne != (s.why == "" && !s.holds[r.Member]) || !r.OK && r.Why != "the answer was empty" {
				t.Errorf("%v: %+v", s.holds, r)
			}
		}
	}
}

// Behind an entry each answer may come from another member: it is asked until enough have answered.
func TestAnswersMayHaveToDiffer(t *testing.T) {
	step := exec(field.ToOne, "through")
	step.Different, step.AtLeast, step.RetryFor = "trim(output)", "3", field.Duration(time.Second)
	step.Capture = map[string]string{"last": "output"}
	show := exec(field.ToOne, "show", `{{.Value "last"}}`)
	b := newBench(t, field.Proof{Steps: []field.ProofStep{step, show}})
	asked, behind := 0, 3
	b.answer = func(_ field.MemberName, q order.Question) (order.Said, error) {
		if q.Exec[0] == "show" {
			return order.Said{OK: true}, nil
		}
		asked++
		if q.Capture[different] != "trim(output)" {
			t.Errorf("what differs is asked for by %v", q.Capture)
		}
		return order.Said{OK: true, Captured: map[string]string{different: fmt.Sprint("gull-", asked%behind), "last": fmt.Sprint(asked)}}, nil
	}
	if got := b.run(t.Context()); !got.OK || asked != 3 || b.asked[len(b.asked)-1] != "bells-1 show 3" {
		t.Errorf("asked %d times (%q): %+v", asked, b.asked, got)
	}
	behind = 2
	if got := b.run(t.Context()); got.OK || !strings.HasPrefix(got.Why, "through, asked of bells-1: not within 1.0 s: 3 different values are wanted, and so far all answers were gull-0, gull-1") {
		t.Errorf("of two: %+v", got)
	}
}

// Another member's node may be where a step is asked from: its agent asks at the addresses of the one that is asked.
func TestAskedFromElsewhere(t *testing.T) {
	step := field.ProofStep{Say: "reach", To: field.ToOne, From: "horns", Call: field.Call{TCP: &field.TCPCall{Port: "main"}}}
	b := newBench(t, field.Proof{Steps: []field.ProofStep{step}})
	if got := b.run(t.Context()); got.OK || got.Why != "reach: nobody of horns is ready to be asked" && !strings.Contains(got.Why, "nobody of horns is ready") {
		t.Errorf("from where nobody is: %+v", got)
	}
	step.From = "bells"
	b = newBench(t, field.Proof{Steps: []field.ProofStep{{Say: "reach", To: field.ToEach, From: "bells", Call: step.Call}}})
	at := map[string]bool{}
	b.answer = func(m field.MemberName, q order.Question) (order.Said, error) {
		if m != "bells-1" {
			t.Errorf("%s is asked", m)
		}
		if q.At != nil {
			at[fmt.Sprint(q.At.Address, ":", q.At.Ports["main"].Number)] = true
		} else {
			at["its own"] = true
		}
		return order.Said{OK: true}, nil
	}
	got := b.run(t.Context())
	if !got.OK || len(at) != 3 || !at["its own"] || got.Steps[2].From != "bells-1" || got.Steps[2].Member != "bells-3" {
		t.Errorf("asked at %v: %+v", at, got)
	}
}

package agent

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// TestOneThatIsTooFarBehindIsNotReady has a member answer well all the time, while the number that it gives of itself says that it is
// of no use.
func TestOneThatIsTooFarBehindIsNotReady(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	behind := filepath.Join(dir, "behind")
	say := func(text string) {
		if err := os.WriteFile(behind+".new", []byte(text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(behind+".new", behind); err != nil {
			t.Fatal(err)
		}
	}
	say("3000000")
	var heard uint64
	s := sleeper("it")
	pace := field.Duration(50 * time.Millisecond)
	s.Ready = &field.Probe{Call: field.Call{Exec: []string{"true"}}, Every: pace}
	s.Lag = &field.Gauge{Call: field.Call{Exec: []string{"cat", behind}}, Value: "int(trim(output))", Unit: "bytes", Most: "1MiB", Every: pace}
	s.Progress = &field.Gauge{Call: s.Lag.Call, Value: "int(trim(output)) * 2", Unit: "bytes", Every: pace}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: s})
	if r := until(t, c, &heard, order.Unready); r.Why != "it answers, and is more than 1 MiB behind" {
		t.Errorf("at its start: %q", r.Why)
	}
	newest := func(shows func(*field.Reading) bool) *field.Reading {
		for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			all, err := c.Series(context.Background(), time.Now().Add(-time.Minute))
			if points := all["it-1"]; err == nil && len(points) > 0 {
				if r := points[len(points)-1].Value.Gauge; r != nil && shows(r) {
					return r
				}
			}
			if time.Now().After(deadline) {
				t.Fatal("it is not measured")
			}
		}
	}
	if r := newest(func(r *field.Reading) bool { return !r.Lag }); r.Value != 6000000 || r.Unit != "bytes" {
		t.Errorf("while it starts: %+v", r)
	}
	say("100")
	until(t, c, &heard, order.Ready)
	if r := newest(func(r *field.Reading) bool { return r.Lag }); r.Value != 100 {
		t.Errorf("while it is ready: %+v", r)
	}
	say("2097152")
	if r := until(t, c, &heard, order.Unready); !strings.Contains(r.Why, "more than 1 MiB behind") {
		t.Errorf("later: %q", r.Why)
	}
	say("nothing that is a number")
	until(t, c, &heard, order.Ready) // what cannot be read is not held against it
}

// TestOneWhoseDiskIsFullIsNotReady asks for more than any disk has.
func TestOneWhoseDiskIsFullIsNotReady(t *testing.T) {
	c, _ := started(t, t.TempDir())
	var heard uint64
	s := sleeper("it")
	s.Ready = &field.Probe{Call: field.Call{Exec: []string{"true"}}}
	s.FreeDisk = 1 << 60
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: s})
	if r := until(t, c, &heard, order.Unready); r.Why != "it answers, and its disk has less than 1048576 TiB left" {
		t.Errorf("it says %q", r.Why)
	}
	less := *s
	less.FreeDisk = 1
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: &less})
	until(t, c, &heard, order.Ready)
}

func TestHowANumberMoves(t *testing.T) {
	var m movement
	at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	var r field.Reading
	for i, v := range []float64{0, 100, 200, 300, 300, 300} {
		r = m.take(v, at.Add(time.Duration(i)*5*time.Second))
	}
	if r.Moved != at.Add(15*time.Second) || r.Pace != 10 { // within the last 20 s: from 100 to 300
		t.Errorf("%+v", r)
	}
	for v, want := range map[any]float64{3: 3, 2.5: 2.5, " 17": 17, "1e3": 1000} {
		if n, ok := number(v); !ok || n != want {
			t.Errorf("%v is read as %v, %t", v, n, ok)
		}
	}
	for _, v := range []any{"", "12 MB", nil, true, []any{1}} {
		if n, ok := number(v); ok {
			t.Errorf("%v is read as %v", v, n)
		}
	}
}

// TestANodeMustBeVacant has something in the way of a member's first start, and no more of its second.
func TestANodeMustBeVacant(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	other := filepath.Join(dir, "other")
	if err := os.WriteFile(other, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	var heard uint64
	s := sleeper("it")
	s.Command = []string{"sh", "-c", "echo mine > data/mine; exec sleep 600"}
	s.Vacant = []field.Vacancy{{Say: "no other tide is kept here", Exec: []string{"sh", "-c", "test ! -e " + other + " || echo the other one"}, Expect: `trim(output) == ""`}}
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: s})
	want := "this node is not free for it: it does not hold that no other tide is kept here (the answer was the other one, and `trim(output) == \"\"` does not hold)"
	if r := until(t, c, &heard, order.StartFailed); r.Why != want {
		t.Errorf("it says %q", r.Why)
	}
	if err := os.Remove(other); err != nil {
		t.Fatal(err)
	}
	until(t, c, &heard, order.Ready)
	if err := os.WriteFile(other, nil, 0o644); err != nil { // of no matter any more: its own data is here
		t.Fatal(err)
	}
	again := *s
	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Run, Spec: &again, Round: 1})
	until(t, c, &heard, order.Started)
	until(t, c, &heard, order.Ready)
}

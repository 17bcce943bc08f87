package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/order"
)

func TestReportsAreKeptUntilAcknowledged(t *testing.T) {
	name := filepath.Join(t.TempDir(), "reports.ndjson")
	l, err := openReports(name, "a", "")
	if err != nil {
		t.Fatal(err)
	}
	for range 5 {
		l.add(order.Report{Kind: order.Ready, Member: "it-1"})
	}
	l.acknowledge("a", 2)
	// The agent dies while it writes: the last line is cut short.
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(f, `{"seq":6,"kind":"rea`)
	f.Close()

	if l, err = openReports(name, "b", ""); err != nil {
		t.Fatal(err)
	}
	after := func(life string, seq uint64) string {
		var out []string
		for _, r := range l.since(life, seq) {
			out = append(out, fmt.Sprint(r.Life, r.Seq))
		}
		return strings.Join(out, " ")
	}
	l.add(order.Report{Kind: order.Ready})
	// Who has heard all of the life before, also what was not acknowledged, hears the new one only; so does who has heard more of it
	// than was left on the disk.
	for _, test := range []struct {
		life string
		seq  uint64
		want string
	}{{"a", 2, "a3 a4 a5 b1"}, {"a", 5, "b1"}, {"a", 9, "b1"}, {"b", 0, "a1 a2 a3 a4 a5 b1"}, {"b", 1, ""}, {"", 0, "a1 a2 a3 a4 a5 b1"}} {
		if got := after(test.life, test.seq); got != test.want {
			t.Errorf("after %s%d: got %q, want %q", test.life, test.seq, got, test.want)
		}
	}
	l.acknowledge("a", 4)
	if got := after("", 0); got != "a5 b1" {
		t.Errorf("got %q", got)
	}
	l.acknowledge("b", 1)
	if err := l.compact(); err != nil {
		t.Fatal(err)
	}
	if l, err = openReports(name, "c", ""); err != nil {
		t.Fatal(err)
	}
	l.add(order.Report{Kind: order.Ready})
	if got := after("b", 1); got != "c1" {
		t.Errorf("after all was acknowledged: %q", got)
	}
}

// TestALongReportHidesNone has one that is larger than a reader's buffer among others.
func TestALongReportHidesNone(t *testing.T) {
	name := filepath.Join(t.TempDir(), "reports.ndjson")
	l, err := openReports(name, "a", "")
	if err != nil {
		t.Fatal(err)
	}
	for _, why := range []string{"short", strings.Repeat("long", 1<<19), "short"} {
		l.add(order.Report{Kind: order.Unready, Member: "it-1", Why: why})
	}
	if l, err = openReports(name, "b", ""); err != nil || len(l.kept) != 3 {
		t.Errorf("%d reports are left: %v", len(l.kept), err)
	}
}

// TestReportsOfAWeekWithoutControllerStaySmall has a member crash over and over while nobody comes.
func TestReportsOfAWeekWithoutControllerStaySmall(t *testing.T) {
	name := filepath.Join(t.TempDir(), "reports.ndjson")
	l, err := openReports(name, "a", "")
	if err != nil {
		t.Fatal(err)
	}
	const crashes = 20_000
	l.add(order.Report{Kind: order.Taken, Member: "it-1", Revision: 1})
	l.add(order.Report{Kind: order.Removed, Member: "it-2"})
	for i := range crashes {
		l.add(order.Report{Kind: order.Started, Member: "it-1", Incarnation: i})
		l.add(order.Report{Kind: order.Exited, Member: "it-1", Incarnation: i})
	}
	if len(l.kept) > mostReports {
		t.Errorf("%d reports are kept", len(l.kept))
	}
	dropped, last := 0, uint64(0)
	kinds := map[order.ReportKind]bool{}
	for _, r := range l.kept {
		if r.Seq <= last {
			t.Fatalf("report %d comes after %d", r.Seq, last)
		}
		last = r.Seq
		kinds[r.Kind] = true
		if r.Kind == order.Dropped {
			dropped += r.Attempt
		}
	}
	if !kinds[order.Taken] || !kinds[order.Removed] || last != 2*crashes+2 || dropped+len(l.kept)-1 != 2*crashes+2 {
		t.Errorf("kinds %v, last %d, %d dropped and %d kept", kinds, last, dropped, len(l.kept))
	}
	if info, err := os.Stat(name); err != nil || info.Size() > 4<<20 {
		t.Errorf("the file: %v, %v", info.Size(), err)
	}
}

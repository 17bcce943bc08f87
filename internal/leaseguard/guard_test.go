package leaseguard

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/lease"
)

// at puts a guard into a folder of its own, with a configuration.
func at(t *testing.T, c lease.Config) *guard {
	t.Helper()
	t.Chdir(t.TempDir())
	if err := os.MkdirAll("data/lease", 0o700); err != nil {
		t.Fatal(err)
	}
	return &guard{config: &c, wake: make(chan struct{}, 1), barrier: -1}
}

func TestALeaseIsGoneByOnlyInTime(t *testing.T) {
	var l term
	if _, all := l.left(); all > 0 || l.held() != 0 {
		t.Errorf("nothing is held, and %v are left", all)
	}
	sent := now()
	l.begin(3, sent, 5*time.Second)
	if store, all := l.left(); store <= 4*time.Second || store > 4500*time.Millisecond || all != store && all-store > time.Millisecond {
		t.Errorf("just begun: %v, %v", store, all)
	}
	l.renewed(2, sent+time.Hour)
	l.agreed(2, sent+time.Hour)
	if _, all := l.left(); all > 5*time.Second {
		t.Error("an answer about an earlier lease counts")
	}
	l.begin(4, sent-10*time.Second, 5*time.Second)
	if _, all := l.left(); all > 0 {
		t.Errorf("a lease that was granted late: %v are left", all)
	}
	l.agreed(4, sent)
	if store, all := l.left(); store > 0 || all <= 4*time.Second {
		t.Errorf("with promises: %v, %v", store, all)
	}
	if !l.end() || l.end() || l.held() != 0 {
		t.Error("it ends once")
	}
	l.agreed(4, sent)
	if _, all := l.left(); all > 0 {
		t.Error("a promise that comes late revives it")
	}
}

func TestAPromiseIsKeptOverARestart(t *testing.T) {
	g := at(t, lease.Config{Member: "b", For: field.Duration(5 * time.Second)})
	if err := g.keep(7, "a"); err != nil {
		t.Fatal(err)
	}
	ask := func(number uint64) (int, string) {
		w := httptest.NewRecorder()
		g.servePromise(w, httptest.NewRequest(http.MethodPost, "/promise", strings.NewReader(text(asked{"a", number}))))
		return w.Code, w.Body.String()
	}
	for _, number := range []uint64{6, 8} {
		if code, said := ask(number); code != http.StatusConflict || !strings.Contains(said, "b goes by number 7") {
			t.Errorf("number %d: %d %s", number, code, said)
		}
	}
	if g.bound != 0 {
		t.Error("it is bound by what it did not promise")
	}
	g.claiming = true
	if code, _ := ask(7); code != http.StatusConflict {
		t.Error("it promises to take nothing while it takes the lease")
	}
	g.claiming = false
	g.term.begin(7, now(), time.Second)
	if code, _ := ask(7); code != http.StatusConflict {
		t.Error("it promises to take nothing, and holds the lease")
	}
	g.term.end()
	if code, said := ask(7); code != http.StatusOK || g.bound <= now()+4*time.Second {
		t.Errorf("%d %s", code, said)
	}
	var k kept
	if data, err := os.ReadFile(keptFile); err != nil || json.Unmarshal(data, &k) != nil || k.Bound != g.bound || k.Boot != bootID() || k.Number != 7 {
		t.Errorf("kept: %+v, %v", k, err)
	}
	// What it goes by changes; the promise stays.
	if err := g.keep(8, "c"); err != nil || g.kept.Bound != g.bound {
		t.Errorf("%+v, %v", g.kept, err)
	}
	g.seen = seen{Store: lease.Store{Known: true, Record: &lease.Record{Number: 8, Lead: "c", Sync: []lease.Name{"b"}}}}
	g.self = lease.Self{Up: true}
	if a := lease.Next(g.view()); a.Kind != lease.Wait || !strings.Contains(a.Why, "promised") {
		t.Errorf("bound: %+v", a)
	}
}

// TestHowFarItHadWrittenIsReadAfterTheSettingHolds goes through what a program reports, step by step.
func TestHowFarItHadWrittenIsReadAfterTheSettingHolds(t *testing.T) {
	g := at(t, lease.Config{Member: "a"})
	report := func(r lease.Report) {
		t.Helper()
		if err := os.WriteFile("report", []byte(text(r)), 0o600); err != nil {
			t.Fatal(err)
		}
		g.config.State = []string{"cat", "report"}
		g.ask()
	}
	c := func(current bool, flushed int64) lease.Follower {
		return lease.Follower{Member: "c", Gets: true, Current: current, Flushed: flushed}
	}
	for i, step := range []struct {
		r    lease.Report
		sync int
	}{
		{lease.Report{Leads: true, Mark: 1, Written: 100, Followers: []lease.Follower{c(false, 100)}}, 0},
		{lease.Report{Leads: true, Mark: 1, Written: 110, Followers: []lease.Follower{c(true, 110)}}, 0}, // it holds from now on
		{lease.Report{Leads: true, Mark: 1, Written: 120, Followers: []lease.Follower{c(true, 110)}}, 0}, // 120 is what it must have
		{lease.Report{Leads: true, Mark: 1, Written: 150, Followers: []lease.Follower{c(true, 119)}}, 0},
		{lease.Report{Leads: true, Mark: 1, Written: 150, Followers: []lease.Follower{c(true, 120)}}, 1},
		{lease.Report{Busy: true}, 1},
		{lease.Report{Leads: true, Mark: 2, Written: 160, Followers: []lease.Follower{c(true, 160)}}, 0}, // another setting
		{lease.Report{Leads: true, Mark: 2, Written: 170, Followers: []lease.Follower{c(true, 170)}}, 1},
		{lease.Report{Leads: true, Mark: 2, Written: 180, Followers: []lease.Follower{c(false, 180)}}, 0}, // one that goes by another
	} {
		if report(step.r); len(g.self.InSync) != step.sync || !g.self.Up {
			t.Errorf("step %d: in sync %v; want %d", i, g.self.InSync, step.sync)
		}
	}
	g.config.State = []string{"false"}
	g.ask()
	if !g.self.Up || g.fresh {
		t.Error("one answer that is missing counts")
	}
	g.failing = time.Now().Add(-3 * time.Second)
	if g.ask(); g.self.Up {
		t.Error("a program that does not answer for long is taken to be up")
	}
}

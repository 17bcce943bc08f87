package lease

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
)

// TestNext goes through what a guard decides, case by case.
func TestNext(t *testing.T) {
	led := func() View {
		return View{Me: "b", Others: []Name{"a", "c"}, Want: 1, Promised: 4,
			Store: Store{Known: true, Record: &Record{Number: 4, Lead: "a", Sync: []Name{"b"}}, Holder: &Holder{"a", 4}},
			Self:  Self{Up: true, Follows: "a", Blocked: true, InEffect: true}}
	}
	leads := func() View {
		v := led()
		v.Promised, v.Holding = 5, 5
		v.Store = Store{Known: true, Record: &Record{Number: 5, Lead: "b", Sync: []Name{"c"}}, Holder: &Holder{"b", 5}}
		v.Self = Self{Up: true, Leads: true, Cut: true, Confirm: []Name{"c"}, InEffect: true, Streaming: []Name{"a", "c"}, InSync: []Name{"c"}}
		return v
	}
	free := func() View {
		v := led()
		v.Store.Holder = nil
		return v
	}
	for _, test := range []struct {
		name string
		from View
		set  func(v *View)
		kind Kind
		says string
	}{
		{"it follows", led(), func(*View) {}, Wait, "it follows"},
		{"another leads now", led(), func(v *View) { v.Store.Holder, v.Store.Record = &Holder{"c", 5}, &Record{Number: 5, Lead: "c"} }, Attach, "holds the lease"},
		{"an older one leads", led(), func(v *View) { v.Promised = 6 }, Wait, "put back to an earlier state"},
		{"free", free(), func(*View) {}, Acquire, "free"},
		{"free, and paused", free(), func(v *View) { v.Paused = true }, Wait, "paused"},
		{"free, and it has promised", free(), func(v *View) { v.Bound = true }, Wait, "promised"},
		{"free, for another", free(), func(v *View) { v.Yields, v.Store.Record.Heir = true, "c" }, Wait, "for another"},
		{"free, for it", free(), func(v *View) { v.Yields, v.Store.Record.Heir = true, "b" }, Acquire, "free"},
		{"free, and it may lack writes", free(), func(v *View) { v.Store.Record.Sync = []Name{"c"} }, Wait, "may lack"},
		{"free, and its program is down", free(), func(v *View) { v.Self.Up = false }, Wait, "does not answer"},
		{"free, and the store was put back", free(), func(v *View) { v.Promised = 9 }, Wait, "put back to an earlier state"},
		{"paused, and it led", free(), func(v *View) { v.Paused, v.Bound, v.Store.Record.Lead = true, true, "b" }, Acquire, "free"},
		{"nobody has begun", free(), func(v *View) { v.Store.Record = nil }, Wait, "begun"},
		{"it begins", free(), func(v *View) { v.Store.Record, v.Founds = nil, true }, Acquire, "begins"},
		{"the store is silent", led(), func(v *View) { v.Store = Store{} }, Wait, "store"},
		{"its own lease of an earlier run", led(), func(v *View) { v.Store.Holder.Member = "b" }, Drop, "earlier run"},
		{"it takes writes without a lease", led(), func(v *View) { v.Self.Leads = true }, Fence, "holds no lease"},
		{"it leads", leads(), func(*View) {}, Wait, "it leads, and c may take over"},
		{"it leads without the store", leads(), func(v *View) { v.Store = Store{} }, Wait, "store"},
		{"its lease is gone", leads(), func(v *View) { v.Store.Holder = nil }, Fence, "gone"},
		{"another holds it", leads(), func(v *View) { v.Store.Holder = &Holder{"c", 6} }, Fence, "gone"},
		{"its program hangs", leads(), func(v *View) { v.Self.Up = false }, Fence, "does not answer"},
		{"its setting was changed by hand", leads(), func(v *View) { v.Self.Confirm = []Name{"a"} }, Fence, "is not waited for"},
		{"who counts is away", leads(), func(v *View) { v.Self.Streaming = []Name{"a"} }, Confirm, "waited for"},
		{"its setting does not hold yet", leads(), func(v *View) { v.Self.InEffect = false }, Confirm, "waited for"},
		{"another has all", leads(), func(v *View) { v.Want, v.Self.Confirm, v.Self.InSync = 2, []Name{"a", "c"}, []Name{"a", "c"} }, Write, "all writes"},
		{"it is to lead and still follows", leads(), func(v *View) { v.Self.Leads, v.Self.Cut, v.Self.Blocked, v.Self.Confirm = false, false, true, nil }, Cut, "about to lead"},
		{"it is to lead", leads(), func(v *View) { v.Self.Leads, v.Self.Blocked, v.Self.Confirm = false, true, nil }, Confirm, "before it takes writes"},
		{"it is about to lead", leads(), func(v *View) { v.Self.Leads = false }, Promote, "holds the lease"},
	} {
		v := test.from
		test.set(&v)
		if a := Next(v); a.Kind != test.kind || !strings.Contains(a.Why, test.says) {
			t.Errorf("%s: %s, %q; want %s, %q", test.name, a.Kind, a.Why, test.kind, test.says)
		}
	}
}

// TestTheRecordFollowsTheSetting brings a leader from one follower to another, step by step.
func TestTheRecordFollowsTheSetting(t *testing.T) {
	v := View{Me: "a", Others: []Name{"b", "c"}, Want: 1, Promised: 1, Holding: 1,
		Store: Store{Known: true, Record: &Record{Number: 1, Lead: "a", Sync: []Name{"b"}}, Holder: &Holder{"a", 1}},
		Self:  Self{Up: true, Leads: true, Cut: true, Confirm: []Name{"b"}, InEffect: true, Streaming: []Name{"c"}}}
	expect := func(kind Kind, names ...Name) {
		t.Helper()
		a := Next(v)
		got := a.Names
		if kind == Write {
			got = a.Record.Sync
		}
		if a.Kind != kind || !slices.Equal(got, names) {
			t.Fatalf("%s %v (%s); want %s %v", a.Kind, got, a.Why, kind, names)
		}
		switch kind {
		case Confirm:
			v.Self.Confirm, v.Self.InEffect = names, false
		case Write:
			v.Store.Record.Sync = names
		}
	}
	expect(Confirm, "b", "c") // both, as b counts still
	expect(Confirm, "b", "c") // as long as it does not hold for all
	v.Self.InEffect = true
	expect(Wait)
	v.Self.InSync = []Name{"c"}
	expect(Write, "c")
	expect(Confirm, "c")
	v.Self.InEffect = true
	expect(Wait)
	v.Others, v.Want, v.Self.Streaming, v.Self.InSync = nil, 0, nil, nil // the others leave for good
	expect(Write)
	expect(Confirm)
}

// TestADeadlineComesBeforeTheEnd compares when a holder ends its lease for itself with when it can end in the store, for clocks that do not run alike.
func TestADeadlineComesBeforeTheEnd(t *testing.T) {
	for _, lasts := range []time.Duration{field.LeaseLeast, field.LeaseFor, field.LeaseMost} {
		for _, ratio := range []float64{0.96, 1, 1.04} { // how fast the holder's clock runs
			for _, delay := range []time.Duration{0, time.Millisecond, lasts / 2, lasts - time.Millisecond} {
				sent := 100 * time.Second    // by the store's clock; it is granted a while later, and never earlier
				ends := sent + delay + lasts // by the store's clock
				fenced := Deadline(0, lasts) // by the holder's, since it was sent
				at := sent + time.Duration(float64(fenced)/ratio)
				if at >= ends {
					t.Errorf("%v, clock %.2f, delay %v: fenced %v after the lease can have ended", lasts, ratio, delay, at-ends)
				}
			}
		}
	}
}

// Package lease says what the guard of a member does next, in a role whose program elects nobody. One member at a time holds the role's lease, which
// is kept in an etcd; it leads, and the others follow it.
//
// Nothing here looks at a clock to be safe: a lease may end at any moment, and whoever held it may learn of that as late as he likes. That two never
// acknowledge writes that contradict each other follows from three rules. A write counts when all have confirmed it that the leader's setting names.
// The record in the store names only such as are in that setting, and have all that was acknowledged before they were put there; it can only be
// written by who holds the lease. And only who stands in the record, or was the last to lead, takes a lease; it stops following before it leads, so
// that whoever led before waits for its confirmation for ever. docs/leases.md argues it in full, and the tests try every order of events.
package lease

import (
	"fmt"
	"slices"

	"lanternfield/internal/core/field"
)

// Name is a member of the role.
type Name = field.MemberName

// Record is what the store keeps of a role, whoever leads it and whether anybody does.
type Record struct {
	Number uint64 `json:"number"`         // of the last lease that was taken
	Lead   Name   `json:"lead"`           // who took it: what it has written counts
	Sync   []Name `json:"sync,omitempty"` // who else has all that was acknowledged; sorted
	Heir   Name   `json:"heir,omitempty"` // to whom the lease was given up
}

// Holder is who has a lease.
type Holder struct {
	Member Name   `json:"member"`
	Number uint64 `json:"number"`
}

// Store is what a guard has last read in the store.
type Store struct {
	Known  bool // it answers
	Record *Record
	Holder *Holder // nil while the lease is free
}

// Self is how the guard's own member is.
type Self struct {
	Up      bool // its program answers
	Leads   bool // it takes writes
	Cut     bool // it receives nothing from anybody, and will not before it is attached
	Follows Name // whom it was last attached to; empty after a start, and once it was cut off

	Confirm  []Name // who must confirm a write; sorted
	Blocked  bool   // Confirm does not hold: nobody at all could confirm a write
	InEffect bool   // Confirm holds for every follower that is connected

	Streaming []Name // followers that are connected
	InSync    []Name // those of them that had, after Confirm came into effect, all that had been written until then
}

// View is all that a guard goes by.
type View struct {
	Me     Name
	Others []Name // the other members of the role
	Want   int    // how many others must confirm a write
	Founds bool   // it may begin, where the store has no record of the role
	Paused bool   // nobody takes over from another
	Bound  bool   // it has promised to take nothing, and the time of that is not over
	Yields bool   // the lease was given up for another, who may still take it

	Promised uint64 // the highest number that it has ever gone by; kept on disk
	Holding  uint64 // the number of its own lease; 0 for none
	Store    Store
	Self     Self
}

// Kind is what is done.
type Kind string

// What a guard can do. Each is one thing, whose outcome is seen in a later view.
const (
	Wait    Kind = "wait"
	Fence   Kind = "fence"   // end the member at once, and give up the lease; it starts again taking no writes
	Drop    Kind = "drop"    // give up a lease that an earlier run of this guard took
	Acquire Kind = "acquire" // take the lease, if it is free and the record is still the one that was read; write Record with it
	Cut     Kind = "cut"     // have the member receive nothing any more
	Confirm Kind = "confirm" // have Names confirm every write
	Promote Kind = "promote" // have the member take writes
	Write   Kind = "write"   // write Record, if the lease is still held and the record is the one that was read
	Attach  Kind = "attach"  // go by To and its number from now on, and follow it
)

// Action is what a guard does next, and why, for people.
type Action struct {
	Kind   Kind
	Record Record
	Names  []Name
	To     Holder
	Why    string
}

// Next gives what a guard does next.
func Next(v View) Action {
	held := v.Holding > 0
	switch {
	case v.Self.Leads && !held:
		return Action{Kind: Fence, Why: "it takes writes and holds no lease"}
	case held && v.Store.Known && !v.holds():
		return Action{Kind: Fence, Why: "its lease is gone"}
	case held && !v.Self.Up:
		return Action{Kind: Fence, Why: "its program does not answer"}
	case held && !v.Store.Known:
		return Action{Kind: Wait, Why: "the store does not answer"}
	case held && v.Self.Leads:
		return v.keep()
	case held:
		return v.lead()
	case !v.Store.Known:
		return Action{Kind: Wait, Why: "the store does not answer"}
	case v.Store.Holder == nil:
		return v.claim()
	case v.Store.Holder.Member == v.Me:
		return Action{Kind: Drop, Why: "an earlier run of its guard took the lease"}
	}
	return v.follow(*v.Store.Holder)
}

// holds tells whether the store says that this guard's lease is there.
func (v View) holds() bool {
	h, r := v.Store.Holder, v.Store.Record
	return h != nil && h.Member == v.Me && h.Number == v.Holding && r != nil && r.Number == v.Holding && r.Lead == v.Me
}

// claim takes a lease that is free, where this member may have it.
func (v View) claim() Action {
	r := v.Store.Record
	if why := v.barred(); why != "" {
		return Action{Kind: Wait, Why: why}
	}
	if r == nil {
		return Action{Kind: Acquire, Record: Record{Number: v.Promised + 1, Lead: v.Me}, Why: "it begins"}
	}
	return Action{Kind: Acquire, Record: Record{Number: r.Number + 1, Lead: v.Me, Sync: without(r.Sync, v.Me)}, Why: "the lease is free"}
}

// barred says why this member may not take a lease that is free; empty where it may.
func (v View) barred() string {
	r := v.Store.Record
	switch {
	case r == nil && !v.Founds:
		return "nobody has begun"
	case r != nil && r.Number < v.Promised:
		return fmt.Sprintf("the store knows of number %d only, and this member has gone by %d: the store was put back to an earlier state", r.Number, v.Promised)
	case r != nil && r.Lead != v.Me && !slices.Contains(r.Sync, v.Me):
		return "it may lack writes that were acknowledged"
	case r != nil && r.Lead != v.Me && v.Paused:
		return "taking over is paused"
	case v.Bound && r != nil && r.Lead != v.Me:
		return "it has promised to wait"
	case v.Yields && (r == nil || r.Heir != v.Me):
		return "the lease is for another"
	case !v.Self.Up:
		return "its program does not answer"
	}
	return ""
}

// lead brings a member that holds the lease to taking writes.
func (v View) lead() Action {
	if !v.Self.Cut {
		return Action{Kind: Cut, Why: "it is about to lead"}
	}
	if names := v.setting(); v.Self.Blocked || !v.Self.InEffect || !slices.Equal(v.Self.Confirm, names) {
		return Action{Kind: Confirm, Names: names, Why: "before it takes writes"}
	}
	return Action{Kind: Promote, Why: "it holds the lease"}
}

// keep has a leader's setting and the record follow who is there. The setting comes first, and the record once all in it have what was acknowledged;
// who is no longer wanted leaves the record first.
func (v View) keep() Action {
	r, target := *v.Store.Record, v.target()
	for _, name := range r.Sync {
		if v.Self.Blocked || !slices.Contains(v.Self.Confirm, name) {
			return Action{Kind: Fence, Why: string(name) + " counts as having all writes, and is not waited for"}
		}
	}
	if v.Self.InEffect && !v.Self.Blocked {
		sync := r.Sync
		for _, name := range target {
			if slices.Contains(v.Self.Confirm, name) && slices.Contains(v.Self.InSync, name) && !slices.Contains(sync, name) {
				sync = append(slices.Clone(sync), name)
			}
		}
		if all := !slices.ContainsFunc(target, func(n Name) bool { return !slices.Contains(sync, n) }); all {
			sync = target
		}
		if sync = sorted(sync); !slices.Equal(sync, r.Sync) || r.Heir != "" {
			r.Sync, r.Heir = sync, ""
			return Action{Kind: Write, Record: r, Why: "who has all writes"}
		}
	}
	if names := v.setting(); v.Self.Blocked || !v.Self.InEffect || !slices.Equal(v.Self.Confirm, names) {
		return Action{Kind: Confirm, Names: names, Why: "who is waited for"}
	}
	return Action{Kind: Wait, Why: fmt.Sprintf("it leads, and %s may take over", List(r.Sync))}
}

// follow has the member follow who holds the lease.
func (v View) follow(h Holder) Action {
	switch {
	case h.Number < v.Promised:
		return Action{Kind: Wait, Why: fmt.Sprintf("the store knows of number %d only, and this member has gone by %d: the store was put back to an earlier state", h.Number, v.Promised)}
	case !v.Self.Up:
		return Action{Kind: Wait, Why: "its program does not answer"}
	case v.Self.Follows != h.Member || v.Promised != h.Number:
		return Action{Kind: Attach, To: h, Why: "it holds the lease"}
	}
	return Action{Kind: Wait, Why: "it follows"}
}

// target is who is to confirm writes: as many as are wanted, of those that are there; who counts already stays.
func (v View) target() []Name {
	rank := func(n Name) int {
		counts, there := slices.Contains(v.Store.Record.Sync, n), slices.Contains(v.Self.Streaming, n)
		switch {
		case counts && there:
			return 0
		case there:
			return 1
		case counts:
			return 2
		}
		return 3
	}
	names := sorted(v.Others)
	slices.SortStableFunc(names, func(a, b Name) int { return rank(a) - rank(b) })
	return sorted(names[:min(max(v.Want, 0), len(names))])
}

// setting is who must confirm writes now: those that are to, and those that the store says to have them all.
func (v View) setting() []Name {
	return sorted(slices.Compact(sorted(slices.Concat(v.target(), v.Store.Record.Sync))))
}

// List words some members.
func List(names []Name) string {
	if len(names) == 0 {
		return "nobody"
	}
	out := string(names[0])
	for _, n := range names[1:] {
		out += ", " + string(n)
	}
	return out
}

func sorted(names []Name) []Name {
	out := slices.Clone(names)
	slices.Sort(out)
	return out
}

func without(names []Name, name Name) []Name {
	var out []Name
	for _, n := range names {
		if n != name {
			out = append(out, n)
		}
	}
	return out
}

// Package floating decides when a member has an address that only one member of its role has at a time. Who has it is who holds a lease in a store; it is
// gone from who had it before the lease can have ended, as the system's own clock takes it away.
package floating

import (
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// Command is the argument by which the guard's program is a holder.
const Command = "float"

// Told is what an agent tells its holder, a JSON value a line.
type Told struct {
	Member field.MemberName `json:"member"`
	Near   string           `json:"near"` // an address of the machine on the interface that is to have the floating one
	Of     *order.Floating  `json:"of"`
	Ready  bool             `json:"ready"` // the member does its work
	Ends   bool             `json:"ends"`  // for good: lay the address down, give the lease back, and end
}

// Says is what a holder tells its agent, whenever it changes.
type Says struct {
	Holds bool   `json:"holds"`
	Term  uint64 `json:"term,omitempty"` // rises with every taking
	Why   string `json:"why,omitempty"`  // it cannot do what it should
}

// Seen is what a holder knows.
type Seen struct {
	Ready   bool          // the member does its work
	Ends    bool          // the member goes, or goes on without the address
	Known   bool          // the store was read a moment ago
	Free    bool          // by it, nobody holds the lease
	Mine    bool          // by it, this member does, perhaps from an earlier life
	Holds   bool          // this holder has taken it, or has taken an earlier life's over
	Left    time.Duration // for which it may go by it; see lease.Deadline
	Renewed time.Duration // since it was renewed
	Lasts   time.Duration
}

// Act is what a holder does next.
type Act string

// What it may do. Everything that ends having the address takes the address away first, and gives the lease back after it.
const (
	Wait  Act = "wait"
	Take  Act = "take"  // the lease, which is free
	Adopt Act = "adopt" // the lease of its earlier life
	Renew Act = "renew" // it, and with it the time that the system lets the address be there
	Lay   Act = "lay"   // down the address, and give the lease back
	Lost  Act = "lost"  // the lease cannot be gone by any more: lay down the address
)

// Next says what a holder does.
func Next(s Seen) Act {
	switch {
	case s.Holds && s.Left <= 0, s.Holds && s.Known && !s.Mine:
		return Lost
	case s.Holds && (!s.Ready || s.Ends):
		return Lay
	case s.Holds && s.Renewed >= s.Lasts/RenewedBy:
		return Renew
	case s.Holds, !s.Known, !s.Ready, s.Ends:
		return Wait
	case s.Mine:
		return Adopt
	case s.Free:
		return Take
	}
	return Wait
}

// RenewedBy is how many times a lease is renewed while it lasts.
const RenewedBy = 4

// Least is how long the system lets an address be there at the least: it counts in seconds.
const Least = time.Second

// Lifetime is for how long the system is to let the address be there, when the lease may be gone by for that long: in whole seconds, and less than that, since it
// looks at its addresses only so often. 0 where that is too little to have it at all.
func Lifetime(left time.Duration) time.Duration {
	if left -= late; left < Least {
		return 0
	}
	return left.Truncate(time.Second)
}

// late is by how much the system may be late in taking an address away.
const late = 600 * time.Millisecond
